// Package tui is the full-screen program: a frame that owns focus, keys, theme and
// size, and one package for each place.
//
// It promises that nothing it does waits: what takes time is run as commands, whose
// results come back to whoever began them, and drawing reads what the core has
// published. The core's events are subscribed to once and told to every place. It costs
// a frame for each message, of what is visible.
package tui

import (
	"context"
	"errors"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/board"
	"meatus/core/contain"
	"meatus/core/dial"
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/link"
	"meatus/core/login"
	"meatus/core/prefs"
	"meatus/core/remote"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/ask"
	"meatus/tui/place"
	"meatus/tui/routes"
	"meatus/tui/shells"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The least window the program draws in.
const (
	LeastWidth  = 50
	LeastHeight = 14
)

// Options are what the program starts with.
type Options struct {
	Name   string       // what the header calls the workspace, "" for its folder
	Leader string       // the leader key, "alt+m" where empty
	Dialer dial.Network // the network where nil
	// BeforeAgent has the ring stand in front of the running agent.
	BeforeAgent bool
	// Prefs are the person's own settings, and NoPrefs says why they are not used, nil where
	// they are.
	Prefs   prefs.Prefs
	NoPrefs error
	// Demo says that the demo can be asked for, with [ErrDemo].
	Demo bool
	// Tour leads through the bay, step by step; it is for the demo's workspace.
	Tour bool
}

// ErrDemo is what Run ends with where the demo was asked for.
var ErrDemo = errors.New("the demo was asked for")

// App is the frame. Its methods are for the program's goroutine.
type App struct {
	engine  *engine.Engine
	options Options
	theme   *theme.Theme
	inbox   *event.Inbox
	desk    *ask.Desk
	// ctx ends with the program, and with it what waits for messages.
	ctx    context.Context
	cancel context.CancelFunc

	width, height int
	stack         *stack.Stack
	places        []stack.Layer // as the list has them
	home          *routes.Model // the first of them
	shell         *shells.Model
	shells        *shellLayer
	ask           *ask.Model
	question      *questionLayer
	arrivals      []arrival // what has come by itself, and waits to be gone to
	acting        acting
	keymap        *action.Keymap
	notice        string
	confirming    place.Confirming
	toDemo        bool      // the program ends for the demo
	touched       time.Time // when a key was last pressed
	ascii         bool      // the locale has nothing but ASCII
	second        bool      // the shells' clock runs
	resting       bool      // it is looked at soon whether the person rests

	open       []*shells.Shell
	walks      map[string]context.CancelFunc // by session
	walkedFrom map[string]int                // the place that each was begun from
	lost       map[string]bool               // sessions whose loss was told

	plain     *plain // not nil where lines of text are read and written
	tour      touring
	lentOnce  bool            // a lent key was used
	last      lastShells      // that are offered
	restoring map[string]bool // sessions of them that are walked to, with whether they showed
}

// New returns the frame for a workspace. Close ends what it started. It fails where the
// ring cannot stand in front of the agent that is wanted.
func New(ws *workspace.Workspace, o Options) (*App, error) {
	if o.Leader == "" {
		o.Leader = "alt+m"
	}
	a := &App{options: o, theme: theme.Made(lookOf(o.Prefs.Look)), keymap: action.NewKeymap(o.Prefs.Keys), desk: ask.NewDesk(), walks: map[string]context.CancelFunc{}, walkedFrom: map[string]int{}, lost: map[string]bool{}}
	a.ctx, a.cancel = context.WithCancel(context.Background())
	var err error
	a.engine, err = engine.Open(a.ctx, engine.Options{
		Workspace: ws, Asker: a.desk, Dialer: o.Dialer, BeforeAgent: o.BeforeAgent, Name: "the full screen", Attended: true,
	})
	if err != nil {
		return nil, err
	}
	a.inbox = a.engine.Events.Subscribe()
	if a.engine.NoTrail != nil {
		a.notice = a.engine.NoTrail.Error()
	}
	if o.NoPrefs != nil {
		a.notice = o.NoPrefs.Error()
	}
	a.ascii = theme.OnlyASCII()
	a.shell, a.ask = shells.New(a.theme), ask.New(a.theme)
	a.shells, a.question = &shellLayer{a: a}, &questionLayer{a: a}
	a.stack = stack.New()
	for i := range places {
		a.places = append(a.places, a.newPlace(i))
	}
	a.home = a.places[0].(*routes.Model)
	a.stack.Push(a.home)
	a.readLast()
	if o.Tour {
		a.beginTour()
	}
	return a, nil
}

// newPlace returns a new place of the list.
func (a *App) newPlace(i int) stack.Layer {
	id := a.stack.NewID()
	p := places[i].New(a.services(id))
	a.stack.Own(id, p)
	return p
}

// Run shows the program until it is left.
func (a *App) Run(ctx context.Context, options ...tea.ProgramOption) error {
	p := tea.NewProgram(a, append([]tea.ProgramOption{tea.WithContext(ctx)}, options...)...)
	_, err := p.Run()
	a.Close()
	if a.toDemo {
		return ErrDemo
	}
	if err == nil {
		err = a.engine.Unwritten()
	}
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil || errors.Is(err, tea.ErrInterrupted) {
		return nil
	}
	return err
}

// Close ends every walk, shell and link, and waits for it.
func (a *App) Close() {
	a.cancel()
	for _, stop := range a.walks {
		stop()
	}
	if err := a.remember(); err != nil {
		a.engine.Tell(err.Error())
	}
	a.engine.Close()
}

// heard brings events of the core.
type heard []event.Event

// Init starts listening, and asks for the ground's colour.
func (a *App) Init() tea.Cmd {
	var first tea.Cmd
	if book := a.engine.Workspace().Book; len(book.Sessions) == 0 && len(book.Problems) == 0 {
		first = a.welcome()
	}
	return tea.Batch(tea.RequestBackgroundColor, a.listen(), a.desk.Next(a.ctx), first, a.places[0].Show(), a.openAtStart())
}

// openAtStart opens the tunnels of sessions that are to have them from the start.
func (a *App) openAtStart() tea.Cmd {
	e := a.engine
	ws := e.Workspace()
	return func() tea.Msg {
		for _, s := range ws.Book.Sessions {
			if s.AtStart.V != "on" || len(s.Tunnels.V) == 0 || s.Broken != nil {
				continue
			}
			r, err := ws.Planner().Plan(s.Name)
			if err != nil {
				continue // its card says why
			}
			e.Jobs.Begin(&work.Told{Job: &work.OpenTunnels{Tools: e.Tools(), Route: r, Specs: s.Tunnels.V, OnKnock: r.Target().OnKnock}, Say: func(err error) {
				if err != nil {
					e.Tell("the tunnels of " + s.Name + " are not open: " + err.Error())
				}
			}})
		}
		return nil
	}
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

// Update takes a message. Whatever comes of it, what waits for the next event goes on waiting.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	next := a.next(msg)
	var cmd tea.Cmd
	err := contain.Do("what was last asked for", func() error {
		cmd = tea.Batch(a.update(msg), a.followTour())
		a.settle()
		return nil
	})
	if err != nil {
		a.broken(err)
	}
	return a, tea.Batch(next, cmd)
}

// next waits for the next of what comes from outside of the interface, after a message of it.
func (a *App) next(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case heard:
		return a.listen()
	case ask.Asked, ask.Withdrawn:
		return a.desk.Next(a.ctx)
	case shells.Changed:
		if s := a.shellOf(msg.ID); s != nil && s.Live() {
			return s.Wait()
		}
	}
	return nil
}

// broken closes everything above Routes after a fault in it, and says so. Shells and tunnels go on.
func (a *App) broken(err error) {
	a.stack.CutAbove(a.home)
	a.notice = err.Error()
}

// contained has one layer take a message. A fault in it ends that layer alone: a place is replaced until it is gone to again.
func (a *App) contained(l stack.Layer, msg tea.Msg) (cmd tea.Cmd) {
	err := contain.Do("a part of the screen", func() error { cmd = l.Update(msg); return nil })
	if err == nil {
		return cmd
	}
	a.notice = err.Error()
	if i := slices.Index(a.places, l); i > 0 {
		shows := a.stack.Has(l)
		a.stack.Drop(l)
		a.places[i] = &brokenLayer{say: err.Error(), to: func() tea.Cmd { return a.goTo(nil) }}
		if shows {
			a.places[i].SetSize(a.width, a.height-a.foot(i))
			return a.stack.Push(a.places[i])
		}
		return nil
	}
	a.stack.Drop(l)
	return nil
}

func (a *App) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.resize(msg.Width, msg.Height)
	case tea.BackgroundColorMsg:
		if a.options.Prefs.Look.Ground == "" && a.theme.Ground <= theme.Light {
			look := a.theme.Look
			if look.Ground = theme.Light; msg.IsDark() {
				look.Ground = theme.Dark
			}
			*a.theme = *theme.Made(look)
		}
	case tea.ColorProfileMsg:
		a.coloured(msg.Profile)
	case tea.KeyPressMsg:
		return a.key(msg)
	case tea.PasteMsg:
		return a.paste(msg)
	case tea.MouseMsg:
		return a.mouse(msg)
	case place.Addressed:
		if msg.Msg != nil {
			return a.deliver(msg)
		}
	case stack.Timed:
		if id, msg, wanted := a.stack.Ended(msg); wanted {
			return a.deliver(place.Addressed{To: id, Msg: msg})
		}
	case heard:
		return a.hear(msg)
	case ask.Asked, ask.Withdrawn:
		return a.asked(msg)
	case noticed:
		if msg != "" {
			a.say(string(msg))
		}
	case arrived:
		return a.arrive(msg)
	case failed:
		a.fail(msg)
	case tick:
		a.second = false
		return a.clock()
	case rested:
		return a.rested()
	}
	return nil
}

// settle has the home place show what stands below and in place of its board.
func (a *App) settle() {
	task := a.task()
	switch {
	case a.ask.Waiting() && (a.answering() || task == nil):
		to := a.options.Leader + " a answers it"
		if a.answering() {
			to = ""
		}
		a.home.SetPane(func() []string { return a.ask.View(a.question.Rows, to) }, stack.Card)
		a.question.SetSize(a.home.PaneSize())
		a.ask.SetWidth(a.question.Columns)
	case task != nil:
		a.home.SetPane(task.View, task.Shape())
		task.SetSize(a.home.PaneSize())
	default:
		a.home.SetPane(nil, stack.Card)
	}
	asked := ""
	if a.ask.Waiting() && a.ask.Lend() {
		asked = a.ask.Who()
	}
	a.home.SetAsked(asked)
}

// hear tells every place, and the task that shows, what has happened.
func (a *App) hear(events []event.Event) tea.Cmd {
	var cmds []tea.Cmd
	for _, e := range events {
		cmds = append(cmds, a.alert(e))
		switch e := e.(type) {
		case engine.Notice:
			a.say(e.Say)
		case board.Trouble:
			a.say(e.Err.Error())
		case board.Changed:
			cmds = append(cmds, a.rest())
		case engine.LeaseWanted:
			a.say(e.Say())
		case login.CameByEmergency:
			a.say(e.Say())
		case link.LeaseEnds:
			a.say(e.Say())
		case engine.KeysGone:
			a.say(e.Say())
		case engine.Changed:
			a.changed(e)
		case remote.Lent:
			a.tellLent(e)
		case remote.NotTaken:
			a.say(e.Say())
		case remote.Drew:
			a.tellDrew(e)
		}
		for _, p := range slices.Clone(a.places) {
			cmds = append(cmds, a.contained(p, place.Heard{Event: e}))
		}
		if task := a.task(); task != nil {
			cmds = append(cmds, a.contained(task, place.Heard{Event: e}))
		}
	}
	return tea.Batch(append(cmds, a.clock())...)
}

// changed says at the foot what an edit did. A sheet that shows says it itself.
func (a *App) changed(c engine.Changed) {
	if c.Say != "" && a.task() == nil {
		a.notice = c.Say
	}
}

// say says something wherever the person is.
func (a *App) say(say string) {
	a.notice = say
	if a.inShell() {
		a.shell.Notice(say)
	}
}

func (a *App) resize(width, height int) {
	a.width, a.height = width, height
	a.shell.SetSize(width, height)
	for i, p := range a.places {
		p.SetSize(width, height-a.foot(i))
	}
	for _, l := range a.stack.Layers() {
		if s := l.Shape(); s != stack.Place && !s.OnRoutes() {
			l.SetSize(width, height)
		}
	}
}

// foot is how many rows of the window a place does not have: its foot, and for home the
// header.
func (a *App) foot(i int) int {
	if i == 0 {
		return 2 + a.tourRows()
	}
	return 1 + a.tourRows()
}

// goTo shows a shell, or home for nil.
func (a *App) goTo(s *shells.Shell) tea.Cmd {
	if s == nil {
		return a.goToPlace("0", "")
	}
	a.stack.CutAbove(a.onRoutes())
	a.shell.Show(s)
	a.home.Select(s.Route.Session)
	return a.stack.Push(a.shells)
}

// goToPlace shows the place of a key, home where there is none, at a session where that
// is not "".
func (a *App) goToPlace(key, session string) tea.Cmd {
	i := max(slices.IndexFunc(places, func(e place.Entry) bool { return e.Key == key }), 0)
	a.stack.CutAbove(a.onRoutes())
	if _, broken := a.places[i].(*brokenLayer); broken {
		a.places[i] = a.newPlace(i)
		a.places[i].SetSize(a.width, a.height-a.foot(i))
	}
	if s, ok := a.places[i].(place.Selector); ok && session != "" {
		s.Select(session)
	}
	if i > 0 {
		return a.stack.Push(a.places[i])
	}
	if a.attends() {
		return tea.Batch(a.home.Show(), a.stack.Push(a.question))
	}
	return a.home.Show()
}

// push puts a layer of the frame's own on top.
func (a *App) push(l stack.Layer) tea.Cmd {
	l.SetSize(a.width, a.height)
	return a.stack.Push(l)
}

// at is the place that shows, by its index; beneath a shell it is Routes.
func (a *App) at() int {
	for i := len(a.places) - 1; i > 0; i-- {
		if a.stack.Has(a.places[i]) {
			return i
		}
	}
	return 0
}

// inShell reports whether shells show, perhaps beneath a drawer.
func (a *App) inShell() bool { return a.stack.Has(a.shells) }

// answering reports whether the question that waits has been gone to.
func (a *App) answering() bool { return a.stack.Has(a.question) }

// task is the task in place of the card, nil for none.
func (a *App) task() stack.Layer {
	for _, l := range a.stack.Layers() {
		if l.Shape().OnRoutes() && l != a.question {
			return l
		}
	}
	return nil
}

// onRoutes is the task in place of the card, or Routes itself.
func (a *App) onRoutes() stack.Layer {
	if t := a.task(); t != nil {
		return t
	}
	return a.home
}

// tick says that a second has passed for what is drawn beside the shells.
type tick struct{}

// clock has what shows drawn anew once a second, as long as a shell is open or cargo is under way.
func (a *App) clock() tea.Cmd {
	if a.second || len(a.open) == 0 && len(a.engine.Jobs.Cargo()) == 0 {
		return nil
	}
	a.second = true
	return tea.Tick(time.Second, func(time.Time) tea.Msg { return tick{} })
}
