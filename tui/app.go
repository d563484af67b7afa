// Package tui is the full-screen program: a frame that owns focus, keys, theme
// and size, and one package for each place.
//
// It promises that nothing it does waits: walks, checks and writes run as
// commands, and what they find comes back as messages. The core's events are
// subscribed to once. It costs a frame for each message, of what is visible.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/mend"
	"meatus/core/meter"
	"meatus/core/route"
	"meatus/core/screenlock"
	"meatus/core/shell"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/window"
	"meatus/core/workspace"
	"meatus/tui/ask"
	"meatus/tui/carry"
	"meatus/tui/compose"
	"meatus/tui/entry"
	"meatus/tui/hosts"
	"meatus/tui/journal"
	"meatus/tui/keys"
	"meatus/tui/lending"
	"meatus/tui/remedies"
	ringplace "meatus/tui/ring"
	"meatus/tui/routes"
	"meatus/tui/settle"
	"meatus/tui/sheet"
	"meatus/tui/shells"
	"meatus/tui/switcher"
	"meatus/tui/theme"
	"meatus/tui/watch"
)

// The least window the program draws in.
const (
	LeastWidth  = 80
	LeastHeight = 24
)

// Options are what the program starts with.
type Options struct {
	Name   string      // what the header calls the workspace, "" for its folder
	Leader string      // the leader key, "alt+m" where empty
	Dialer walk.Dialer // the network where nil
	// Demo says that the demo can be asked for, with [ErrDemo].
	Demo bool
}

// ErrDemo is what Run ends with where the demo was asked for.
var ErrDemo = errors.New("the demo was asked for")

// App is the frame. Its methods are for the program's goroutine.
type App struct {
	ws      *workspace.Workspace
	options Options
	theme   *theme.Theme
	walker  *walk.Walker
	inbox   *event.Inbox
	written <-chan struct{} // the sessions file was, nil where it cannot be watched
	desk    *ask.Desk
	ctx     context.Context
	cancel  context.CancelFunc

	width, height int
	inShell       bool         // the Shell place shows
	at            place        // the place that shows, nil for a shell or Routes
	trail         *trail.Trail // nil where it cannot be kept
	journal       *journal.Model
	hosts         *hosts.Model
	keys          *keys.Model
	ring          *ringplace.Model
	watched       *watch.Model
	tunnels       *tunnel.Set
	takeOver      *heldElsewhere // a door that "t" takes over, or nil
	toDraw        toDraw         // a drawing that is asked about, or nil
	keeper        *meter.Keeper
	others        tunnel.Others
	kept          chan struct{} // closed when the keeper has ended
	touched       time.Time     // when a key was last pressed
	hide          func()        // ends being seen by other programs
	routes        *routes.Model
	shell         *shells.Model
	ask           *ask.Model
	task          task            // in place of the card, or nil
	switcher      *switcher.Model // not nil while it is open
	raisedFrom    *shells.Shell   // the shell that a question came up in front of
	help          bool
	leaving       bool
	notice        string
	toDemo        bool              // the program ends for the demo
	better        map[string]better // by session
	beyond        string            // the session whose doors to other machines were told of

	open    []*shells.Shell
	nextID  int
	walks   map[string]context.CancelFunc
	look    looking // at many sessions' machines, where under way
	repeat  int     // counts how often repeating was asked for
	turning bool    // the marks turn
	ticking bool    // the seconds are counted
}

// place is one of the places beside Routes and the shells.
type place interface {
	Update(tea.Msg) (wish tea.Msg, cmd tea.Cmd)
	View() []string
	SetTheme(*theme.Theme)
	SetSize(columns, rows int)
}

// places are the places by the keys they are gone to with.
func (a *App) places() map[string]place {
	return map[string]place{"t": a.journal, "h": a.hosts, "K": a.keys, "g": a.ring, "W": a.watched}
}

// task is something under way in place of the card: a session being written or
// edited, an identity being settled. It has the keys until it is left.
type task interface {
	Update(tea.Msg) (wish tea.Msg, cmd tea.Cmd)
	View(height int) []string
	Hints() []theme.Hint
	SetTheme(*theme.Theme)
	SetWidth(columns int)
}

// New returns the frame for a workspace. Close ends what it started.
func New(ws *workspace.Workspace, o Options) *App {
	if o.Leader == "" {
		o.Leader = "alt+m"
	}
	t := theme.New(true)
	a := &App{
		ws: ws, options: o, theme: t, desk: &ask.Desk{Send: func(tea.Msg) {}},
		routes: routes.New(ws, t), shell: shells.New(t), ask: ask.New(t),
		walks: map[string]context.CancelFunc{}, better: map[string]better{},
	}
	a.ctx, a.cancel = context.WithCancel(context.Background())
	var err error
	why := ""
	if a.trail, err = trail.Open(ws.Dir); err != nil {
		why = err.Error()
		a.notice = why
	} else {
		ws.Logins = a.trail
	}
	a.walker = walk.New(walk.Config{Vouched: ws.Vouched, Asker: a.desk, Dialer: o.Dialer, Logins: ws.Logins, Display: func() (*window.Display, error) { return window.Local(os.Getenv) }})
	a.inbox = a.walker.Events.Subscribe()
	if a.trail != nil {
		inbox := a.walker.Events.Subscribe()
		go func() {
			a.trail.Follow(a.ctx, inbox, func(err error) {
				switch {
				case a.ctx.Err() != nil:
				case err != nil:
					a.desk.Send(notice(err.Error()))
				default:
					a.desk.Send(notice("the trail is written again"))
				}
			})
		}()
	}
	a.journal = journal.New(a.trail, why, t)
	a.hosts = hosts.New(ws, a.trail, t)
	a.keys = keys.New(ws, a.walker.Ring.Entries, t)
	a.ring = ringplace.New(ws, a.walker, t)
	a.tunnels = tunnel.NewSet(a.walker, a.walker.Events.Tell)
	var store meter.Store
	if a.trail != nil {
		store = a.trail
	}
	a.keeper, a.kept = meter.NewKeeper(a.readings(), store), make(chan struct{})
	go a.others.Watch(a.ctx, ws.Dir)
	go func() {
		defer close(a.kept)
		a.keeper.Run(a.ctx, func(err error) { a.desk.Send(notice(err.Error())) })
	}()
	a.watched = watch.New(watch.Live{Walker: a.walker, Set: a.tunnels, Keeper: a.keeper, Others: &a.others, Shells: a.shellsNow}, t)
	a.routes.SetTunnels(a.tunnels.Lines)
	a.hide = func() {}
	if hide, err := a.tunnels.Show(ws.Dir, "the full screen"); err == nil { // without it, others do not see them
		a.hide = hide
	}
	screenlock.Watch(a.ctx, func(why string) {
		if n := a.walker.Ring.Forget(); n > 0 {
			a.desk.Send(gone{why, n})
		}
	})
	if a.written, err = ws.Watch(a.ctx); err != nil {
		a.notice = err.Error() + "; press r after editing the file"
	}
	return a
}

// Run shows the program until it is left.
func (a *App) Run(ctx context.Context, options ...tea.ProgramOption) error {
	p := tea.NewProgram(a, append([]tea.ProgramOption{tea.WithContext(ctx)}, options...)...)
	a.desk.Send = p.Send
	_, err := p.Run()
	a.Close()
	if a.toDemo {
		return ErrDemo
	}
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil || errors.Is(err, tea.ErrInterrupted) {
		return nil
	}
	return err
}

// Close ends every walk, shell and link.
func (a *App) Close() {
	a.cancel()
	for _, s := range a.open {
		s.Close()
	}
	a.hide()
	a.tunnels.CloseAll(0)
	a.ring.Close()
	a.walker.Close()
	<-a.kept
	if a.trail != nil {
		a.trail.Close()
	}
}

// record writes an entry of our own to the trail.
func (a *App) record(e trail.Entry) tea.Cmd {
	if a.trail == nil {
		return nil
	}
	t := a.trail
	return func() tea.Msg {
		if err := t.Add(e); err != nil {
			return notice(err.Error())
		}
		return nil
	}
}

// looking is a look at sessions' machines under way.
type looking struct {
	cancel      context.CancelFunc
	done, total int
}

type (
	notice  string
	looked  struct{}
	again   int // the time to check all again, and for which asking
	heard   []event.Event
	arrived struct {
		session string
		route   route.Route
		shell   *shell.Shell
	}
	failed struct {
		session string
		failure *gate.Failure
	}
	reread struct {
		ws    *workspace.Workspace
		err   error
		asked bool // by a person
	}
	keysAsked struct {
		of    mend.Case
		taken []workspace.Taken
		err   error
	}
	fileWritten struct{}
	gone        struct { // keys, from the ring
		why  string
		keys int
	}
	turn   struct{}
	second time.Time
)

// Init starts listening, asks for the ground's colour and judges the sessions.
func (a *App) Init() tea.Cmd {
	var first tea.Cmd
	if len(a.ws.Book.Sessions) == 0 && len(a.ws.Book.Problems) == 0 {
		first = a.write()
	}
	return tea.Batch(tea.RequestBackgroundColor, a.listen(), a.watch(), first, a.routes.JudgeRest(0))
}

// write opens the line for a new session.
func (a *App) write() tea.Cmd {
	line := entry.New(a.ws, a.theme, a.width)
	a.task = line
	return line.Look()
}

// listen waits for the next events of the core.
func (a *App) listen() tea.Cmd {
	inbox, ctx := a.inbox, a.ctx
	return func() tea.Msg {
		if events := inbox.Take(ctx); events != nil {
			return heard(events)
		}
		return nil
	}
}

// watch waits until the sessions file is written.
func (a *App) watch() tea.Cmd {
	written := a.written
	if written == nil {
		return nil
	}
	return func() tea.Msg {
		if _, ok := <-written; ok {
			return fileWritten{}
		}
		return nil
	}
}

// Update takes a message.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.resize(msg.Width, msg.Height)
	case tea.BackgroundColorMsg:
		a.setTheme(theme.New(msg.IsDark()))
	case tea.KeyPressMsg:
		return a, a.key(msg)
	case tea.PasteMsg:
		return a, a.paste(msg)
	case tea.MouseMsg:
		return a, a.mouse(msg)
	case heard:
		for _, e := range msg {
			switch e := e.(type) {
			case walk.Touched:
				a.look.done++
			case walk.Lent:
				a.tellLent(e)
				a.ring.Hear(e)
			case walk.Drew:
				a.tellDrew(e)
			}
			a.routes.Hear(e)
			a.watched.Hear(e)
		}
		return a, tea.Batch(a.listen(), a.clocks())
	case arrived:
		return a, a.arrive(msg)
	case failed:
		delete(a.walks, msg.session)
		a.routes.Failed(msg.session, msg.failure)
		if a.inShell && msg.failure.Cause != gate.Cancelled {
			a.shell.Notice(fmt.Sprintf("%s is shut at %s, %s", msg.session, msg.failure.Hop, msg.failure.Gate))
		}
	case fileWritten:
		return a, tea.Batch(a.watch(), a.readAgain(false))
	case reread:
		return a, a.takeWorkspace(msg)
	case turn:
		a.turning = false
		a.routes.Turn()
		return a, a.clocks()
	case second:
		a.ticking = false
		a.routes.Tick(time.Time(msg))
		return a, a.clocks()
	case ask.Asked, ask.Withdrawn:
		a.ask.Update(msg)
		if s := a.ask.Session(); s != "" && a.task == nil {
			a.routes.Select(s)
		}
		a.raise()
	default:
		return a, a.wish(msg)
	}
	return a, nil
}

// wish takes what the places ask of the frame.
func (a *App) wish(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case routes.Open:
		return a.walk(msg.Session, false)
	case notice:
		a.notice = string(msg)
	case routes.Touch:
		return a.touch(msg.Sessions, walk.Look{Depth: msg.Depth})
	case routes.Repeat:
		a.repeat++
		return a.repeatAfter(msg.Every)
	case again:
		if int(msg) != a.repeat {
			return nil
		}
		return tea.Batch(a.touch(a.ws.Book.Names(), walk.Look{Depth: a.routes.Depth(), Quiet: true}), a.repeatAfter(a.routes.Every()))
	case routes.Marked:
		ws := a.ws
		return func() tea.Msg {
			if err := ws.Mark(msg.Session, msg.On); err != nil {
				return notice(err.Error())
			}
			return nil
		}
	case looked:
		a.look = looking{}
	case routes.Wait:
		return a.walk(msg.Session, true)
	case routes.Stop:
		if stop := a.walks[msg.Session]; stop != nil {
			stop()
		}
	case routes.Visit:
		for _, s := range slices.Backward(a.open) {
			if s.Route.Session == msg.Session {
				a.goTo(s)
				return nil
			}
		}
	case shells.Copy:
		return tea.SetClipboard(msg.Text)
	case shells.Changed:
		return a.shellChanged(msg.ID)
	case shells.Closed:
		a.putAway(msg.ID)
	case shells.Again:
		if s := a.shellOf(msg.ID); s != nil {
			a.putAway(msg.ID)
			a.routes.Select(s.Route.Session)
			return a.walk(s.Route.Session, false)
		}
	case entry.Left, settle.Left, sheet.Left, remedies.Left:
		a.task = nil
	case routes.Settle:
		var before []string
		if a.trail != nil {
			before = a.trail.SightedAt(msg.Changed.Seen)
		}
		a.task = settle.New(a.ws.Vouched, msg.Changed, before, a.theme, a.width)
	case routes.Mend:
		list := remedies.New(msg.Case, a.theme, a.width)
		a.task = list
		return list.Look()
	case keysAsked:
		return a.offerTaken(msg)
	case remedies.Handed:
		a.task = nil
		if msg.Act == gate.AskKeys {
			return a.askKeys(msg.Case)
		}
		if msg.Act == gate.Settle {
			return a.take(a.routes.Changed(), nil)
		}
		return a.walk(msg.Session, true)
	case remedies.Done:
		a.task = nil
		if msg.Book != nil {
			a.ws = a.ws.With(msg.Book)
			a.routes.SetWorkspace(a.ws)
		}
		return tea.Batch(a.routes.Rejudge(msg.Session, msg.Say), a.record(trail.Entry{Kind: trail.Mend, Session: msg.Session, Say: msg.Say}))
	case routes.Edit:
		a.task = sheet.New(a.ws, msg.Session, a.theme, a.width)
	case routes.Undo:
		return a.undo()
	case sheet.Changed:
		a.ws = a.ws.With(msg.Book)
		a.routes.SetWorkspace(a.ws)
		if msg.Session != "" {
			a.routes.Select(msg.Session)
		}
		a.tellSheet(msg.Session, msg.Say)
		a.notice = msg.Say
		return tea.Batch(a.routes.JudgeRest(0), a.record(trail.Entry{Kind: trail.Edit, Session: msg.Session, Say: msg.Say}))
	case settle.Settled:
		a.task = nil
		a.routes.Say(msg.Session, msg.Say)
		return a.record(trail.Entry{Kind: trail.Vouch, Session: msg.Session, Say: msg.Say})
	case routes.Mended:
		return tea.Batch(a.take(a.routes.Update(msg)), a.record(msg.Entry()))
	case entry.Demo:
		if a.options.Demo {
			a.toDemo = true
			return tea.Quit
		}
	case journal.Left, hosts.Left, keys.Left, ringplace.Left, watch.Left:
		a.goTo(nil)
	case carry.Left, lending.Left, compose.Left:
		a.task = nil
	case routes.Sweep:
		return a.sweep(msg.Session)
	case routes.Tunnels:
		return a.toggleTunnels(msg)
	case routes.Draw:
		return a.drawMap(msg.Sessions)
	case journal.Draw:
		return a.drawTimeline()
	case keys.Draw:
		return a.drawMap(msg.Sessions)
	case routes.Compose:
		if r, ok := a.routes.Route(msg.Session); ok {
			a.task = compose.New(r, a.theme, a.width)
		}
	case compose.Windows:
		a.task = nil
		return a.openWindows(msg)
	case compose.Made:
		a.task = nil
		return a.openMade(msg)
	case routes.Which:
		return a.which(msg.Session)
	case routes.Lend:
		return a.lend(msg.Session)
	case routes.Better:
		return a.takeBetter(msg.Session)
	case lending.Go:
		a.task = nil
		a.routes.Select(msg.Route.Session)
		return a.walkRoute(msg.Route, false)
	case keys.Install:
		return a.install(msg)
	case keys.Rotate:
		return a.rotate(msg)
	case keys.Hold:
		return a.hold(msg)
	case keys.Said:
		a.keys.Say(string(msg))
	case ringplace.ToKeys:
		return a.goToPlace("K")
	case ringplace.Copy:
		return tea.SetClipboard(msg.Text)
	case watch.Copy:
		return tea.SetClipboard(msg.Text)
	case watch.Draw:
		return a.drawChart(msg)
	case watch.Recap:
		return a.recap(msg.Since)
	case heldElsewhere:
		a.tellHeld(msg)
	case recapped:
		return a.takeRecap(msg)
	case renamed:
		a.ws = a.ws.With(msg.book)
		a.routes.SetWorkspace(a.ws)
	case carry.Done:
		var cmds []tea.Cmd
		for _, e := range msg.Entries {
			cmds = append(cmds, a.record(e))
		}
		return tea.Batch(tea.Sequence(cmds...), a.routes.Rejudge(msg.Job.Session, ""))
	case gone:
		say := fmt.Sprintf("%s: %d keys are gone from the ring", msg.why, msg.keys)
		a.notice = say
		if a.inShell {
			a.shell.Notice(say)
		}
	case keys.Changed:
		if msg.Book != nil {
			a.ws = a.ws.With(msg.Book)
			a.routes.SetWorkspace(a.ws)
			a.keys.SetWorkspace(a.ws)
		}
		return tea.Batch(a.routes.Rejudge("", ""), a.record(trail.Entry{Kind: trail.Mend, Say: msg.Say}))
	case hosts.Changed:
		return tea.Batch(a.routes.Rejudge("", ""), a.record(trail.Entry{Kind: trail.Vouch, Say: msg.Say}))
	case entry.Saved:
		a.task = nil
		a.ws = a.ws.With(msg.Book)
		a.routes.SetWorkspace(a.ws)
		a.routes.Select(msg.Name)
		return tea.Batch(a.routes.JudgeRest(0), a.record(trail.Entry{Kind: trail.Edit, Session: msg.Name, Say: "written as a new session"}))
	default:
		var cmds []tea.Cmd
		if a.at != nil {
			cmds = append(cmds, a.take(a.at.Update(msg)))
		}
		if a.task != nil {
			cmds = append(cmds, a.take(a.task.Update(msg)))
		}
		return tea.Batch(append(cmds, a.take(a.routes.Update(msg)))...)
	}
	return nil
}

// take does at once what a place asks of the frame, so that the next key finds
// it done.
func (a *App) take(wish tea.Msg, cmd tea.Cmd) tea.Cmd {
	if wish == nil {
		return cmd
	}
	return tea.Batch(cmd, a.wish(wish))
}

func (a *App) resize(width, height int) {
	a.width, a.height = width, height
	a.routes.SetWidth(width)
	a.ask.SetWidth(width)
	a.shell.SetSize(width, height)
	for _, p := range a.places() {
		p.SetSize(width, height)
	}
	if a.task != nil {
		a.task.SetWidth(width)
	}
	if a.switcher != nil {
		a.switcher.SetWidth(width)
	}
}

func (a *App) setTheme(t *theme.Theme) {
	a.theme = t
	a.routes.SetTheme(t)
	a.shell.SetTheme(t)
	a.ask.SetTheme(t)
	for _, p := range a.places() {
		p.SetTheme(t)
	}
	if a.task != nil {
		a.task.SetTheme(t)
	}
}

// clocks starts the clocks that are needed and do not run.
func (a *App) clocks() tea.Cmd {
	var cmds []tea.Cmd
	if !a.turning && len(a.walks) > 0 {
		a.turning = true
		cmds = append(cmds, tea.Tick(120*time.Millisecond, func(time.Time) tea.Msg { return turn{} }))
	}
	if !a.ticking && (len(a.open) > 0 || a.routes.Strip() != "") {
		a.ticking = true
		cmds = append(cmds, tea.Tick(time.Second, func(now time.Time) tea.Msg { return second(now) }))
	}
	return tea.Batch(cmds...)
}

// walk starts to walk to a session and to open a shell there; with wait it goes
// on trying until the machine is up.
func (a *App) walk(session string, wait bool) tea.Cmd {
	if a.walks[session] != nil {
		return nil
	}
	r, ok := a.routes.Route(session)
	if !ok {
		return nil
	}
	return a.walkRoute(r, wait)
}

// walkRoute walks a route and opens a shell at its end.
func (a *App) walkRoute(r route.Route, wait bool) tea.Cmd {
	session := r.Session
	if a.walks[session] != nil {
		return nil
	}
	a.routes.Begin(session)
	ctx, cancel := context.WithCancel(a.ctx)
	a.walks[session] = cancel
	walker := a.walker
	cols, rows := a.shell.Room()
	return tea.Batch(a.clocks(), func() tea.Msg {
		defer cancel()
		var passage *walk.Passage
		var err error
		if wait {
			passage, err = walker.Await(ctx, r, walk.WaitLimit)
		} else {
			passage, err = walker.Walk(ctx, r)
		}
		var s *shell.Shell
		if err == nil {
			s, err = shell.Open(ctx, passage, walker, cols, rows)
		}
		if err == nil {
			return arrived{session, r, s}
		}
		var f *gate.Failure
		if !errors.As(err, &f) {
			f = &gate.Failure{Hop: r.Target().Name, Gate: gate.Channel, Cause: gate.Unexpected, Why: err.Error(), Err: err}
		}
		return failed{session, f}
	})
}

// repeatAfter checks all sessions after a time, 0 for never.
func (a *App) repeatAfter(every time.Duration) tea.Cmd {
	if every == 0 {
		return nil
	}
	asked := a.repeat
	return tea.Tick(every, func(time.Time) tea.Msg { return again(asked) })
}

// touch checks sessions as far as a depth.
func (a *App) touch(sessions []string, look walk.Look) tea.Cmd {
	if a.look.cancel != nil {
		return nil
	}
	var routes []route.Route
	for _, name := range sessions {
		if r, ok := a.routes.Route(name); ok {
			routes = append(routes, r)
		}
	}
	ctx, cancel := context.WithCancel(a.ctx)
	a.look = looking{cancel: cancel, total: len(routes)}
	walker := a.walker
	return func() tea.Msg {
		defer cancel()
		walker.TouchAll(ctx, routes, look, func(int, gate.Report) {})
		return looked{}
	}
}

// askKeys asks a machine which of the workspace's keys it would take.
func (a *App) askKeys(c mend.Case) tea.Cmd {
	walker, ctx, ws := a.walker, a.ctx, a.ws
	r := c.Route
	r.Hops = r.Hops[:c.Hop+1]
	a.notice = "asking " + r.Target().Name + " about keys …"
	return func() tea.Msg {
		taken, err := ws.AskServer(ctx, walker, r)
		return keysAsked{c, taken, err}
	}
}

// offerTaken shows the remedies anew, with what the machine said first.
func (a *App) offerTaken(msg keysAsked) tea.Cmd {
	c := msg.of
	c.Asked = true
	asked := 0
	for _, t := range msg.taken {
		if t.Asked {
			asked++
		}
		if t.Takes {
			c.Takes = append(c.Takes, t.SHA256)
		}
	}
	a.notice = ""
	switch {
	case msg.err != nil:
		a.notice = msg.err.Error()
		return nil
	case len(c.Takes) == 0:
		c.Gate.Reason = fmt.Sprintf("%s would take none of the %d keys it was asked about for the login %s", c.Route.Hops[c.Hop].Name, asked, c.Route.Hops[c.Hop].User)
	}
	if a.task != nil || a.inShell {
		return nil // the person has gone on
	}
	list := remedies.New(c, a.theme, a.width)
	a.task = list
	return list.Look()
}

// tellDrew shows that a program of a far side draws here, or was turned away.
func (a *App) tellDrew(e walk.Drew) {
	say := fmt.Sprintf("a program at %s draws on your display, and sees all of it", e.Hop)
	if e.Err != nil {
		say = fmt.Sprintf("a program at %s was not let draw here: %v", e.Hop, e.Err)
	}
	if a.inShell {
		a.shell.Notice(say)
	} else {
		a.notice = say
	}
}

// tellLent shows that a lent key was used, wherever the person is.
func (a *App) tellLent(e walk.Lent) {
	say := fmt.Sprintf("%s used %s %s", e.By(), e.Key, e.For())
	if e.Refuse != nil {
		say = fmt.Sprintf("%s was refused the use of %s: %v; asked %s", e.By(), e.Key, e.Refuse, e.For())
	}
	if a.offerBetter(e) && a.inShell {
		say += "; it goes with nothing lent, too: " + a.options.Leader + " 0, then b"
	}
	if a.inShell {
		a.shell.Notice(say)
	} else {
		a.notice = say
	}
}

// arrive takes a new shell, and shows it where the person still looks for it.
func (a *App) arrive(msg arrived) tea.Cmd {
	delete(a.walks, msg.session)
	a.routes.Arrived(msg.session)
	a.nextID++
	s := &shells.Shell{ID: a.nextID, Route: msg.route, Shell: msg.shell}
	a.open = append(a.open, s)
	if !a.inShell && a.at == nil && a.task == nil && a.switcher == nil && !a.ask.Waiting() && a.routes.Selected() == msg.session {
		a.goTo(s)
		if refused := msg.shell.Refused(); len(refused) > 0 {
			say := "the server does not take " + strings.Join(refused, ", ")
			if why, ok := strings.CutPrefix(refused[len(refused)-1], "windows: "); ok { // it is not the server's fault
				say = "without windows: " + why
			}
			a.shell.Notice(say)
		}
	} else if a.inShell {
		a.shell.Notice(msg.session + " is open: " + a.options.Leader)
	}
	if a.switcher != nil {
		a.switcher.SetShells(a.open)
	}
	return tea.Batch(s.Wait(), a.clocks())
}

// beside shows the next shell beside the one that has the keys, after the last of
// them none.
func (a *App) beside() {
	here := a.shell.Shell()
	others := slices.DeleteFunc(slices.Clone(a.open), func(s *shells.Shell) bool { return s == here })
	next := slices.Index(others, a.shell.Beside()) + 1
	switch {
	case len(others) == 0:
		a.shell.Notice("there is no other shell; open one on Routes")
	case next == len(others):
		a.shell.PutBeside(nil)
	default:
		a.shell.PutBeside(others[next])
	}
}

func (a *App) shellOf(id int) *shells.Shell {
	for _, s := range a.open {
		if s.ID == id {
			return s
		}
	}
	return nil
}

func (a *App) shellChanged(id int) tea.Cmd {
	if s := a.shellOf(id); s != nil && s.Live() {
		return s.Wait()
	}
	return nil
}

// raise shows a question that cannot wait, wherever the person is, and goes back
// to the shell they came from when it is answered.
func (a *App) raise() {
	switch {
	case a.ask.Urgent() && a.inShell:
		here := a.shell.Shell()
		a.goTo(nil)
		a.raisedFrom = here
	case !a.ask.Urgent() && a.raisedFrom != nil:
		back := a.raisedFrom
		if a.goTo(nil); slices.Contains(a.open, back) {
			a.goTo(back)
		}
	}
}

// goTo shows a shell, or Routes for nil.
func (a *App) goTo(s *shells.Shell) {
	if a.at == a.keys {
		a.keys.Forget()
	}
	a.inShell, a.at = s != nil, nil
	a.help, a.leaving, a.raisedFrom = false, false, nil
	if s != nil {
		a.shell.Show(s)
		a.routes.Select(s.Route.Session)
	}
}

// goToPlace shows the place of a key, Routes where there is none.
func (a *App) goToPlace(key string) tea.Cmd {
	a.goTo(nil)
	a.at = a.places()[key]
	switch a.at {
	case a.journal:
		return a.journal.Read()
	case a.keys:
		a.keys.SetWorkspace(a.ws)
		return a.keys.Read()
	case a.hosts:
		a.hosts.SetWorkspace(a.ws)
		if r, ok := a.routes.Route(a.routes.Selected()); ok {
			a.hosts.Select(r.Target().Host, r.Target().Port)
		}
		return a.hosts.Read()
	case a.ring:
		a.ring.SetWorkspace(a.ws)
		return a.ring.Read()
	case a.watched:
		return a.watched.Read()
	}
	return nil
}

// putAway forgets an ended shell.
func (a *App) putAway(id int) {
	for i, s := range a.open {
		if s.ID == id {
			s.Close()
			a.open = slices.Delete(a.open, i, i+1)
			a.shell.Forget(s)
			break
		}
	}
	if a.shell.Shell() == nil {
		a.goTo(nil)
	}
}

// readAgain reads the sessions anew; asked says that a person wants it.
func (a *App) readAgain(asked bool) tea.Cmd {
	ws := a.ws
	return func() tea.Msg {
		again, err := ws.Reread()
		return reread{again, err, asked}
	}
}

// undo takes the last edit of the sessions file back.
func (a *App) undo() tea.Cmd {
	path := a.ws.SessionsPath()
	return func() tea.Msg {
		what, b, err := book.Undo(path)
		if b == nil {
			return notice(err.Error())
		}
		return sheet.Changed{Book: b, Say: "undone: " + what}
	}
}

func (a *App) takeWorkspace(msg reread) tea.Cmd {
	if msg.err != nil {
		a.notice = msg.err.Error()
		return nil
	}
	diff := book.Diff(a.ws.Book, msg.ws.Book)
	if diff == "" && !msg.asked {
		return nil // our own writing, or nothing that matters
	}
	a.ws = msg.ws
	a.routes.SetWorkspace(a.ws)
	if diff != "" {
		a.notice = "sessions.toml was edited: " + diff
	}
	a.tellSheet("", a.notice)
	return a.routes.JudgeRest(0)
}

// tellSheet gives an open sheet the workspace as it now is, and the session to
// show where that is another. A sheet whose session is gone is put away.
func (a *App) tellSheet(session, say string) {
	open, ok := a.task.(*sheet.Model)
	if !ok {
		return
	}
	if session != "" {
		open.Show(session)
	}
	if !open.SetWorkspace(a.ws, say) {
		a.task = nil
	}
}

// readings are what everything here and in other programs of the workspace carries.
func (a *App) readings() func() []meter.Reading {
	own := tunnel.Readings(a.walker, a.tunnels)
	return func() []meter.Reading { return append(own(), a.others.Readings()...) }
}

// shellsNow are the shells that have not ended, and since when those whose way is lost
// have lost it.
func (a *App) shellsNow() []watch.Shell {
	var all []watch.Shell
	for _, s := range a.open {
		if !s.Live() {
			continue
		}
		one := watch.Shell{Session: s.Route.Session}
		one.Lost, _ = s.Lost()
		for _, h := range s.Route.Hops {
			one.Hops = append(one.Hops, h.Name)
		}
		all = append(all, one)
	}
	return all
}

// liveShells counts the shells that have not ended.
func (a *App) liveShells() int {
	n := 0
	for _, s := range a.open {
		if s.Live() {
			n++
		}
	}
	return n
}
