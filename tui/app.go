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
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/prefs"
	"meatus/core/remote"
	"meatus/core/walk"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/ask"
	"meatus/tui/finder"
	"meatus/tui/place"
	"meatus/tui/routes"
	"meatus/tui/shells"
	"meatus/tui/switcher"
	"meatus/tui/theme"
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
	places        []place.Place // as the list has them
	home          *routes.Model // the first of them
	at            int           // the place that shows, or was last shown under a shell
	inShell       bool          // the Shell place shows
	shell         *shells.Model
	ask           *ask.Model
	answering     bool            // the keys go to the question that waits
	task          task            // in place of the card, where there is one
	switcher      *switcher.Model // not nil while it is open
	raisedFrom    *shells.Shell   // the shell that a question was gone to from
	help          helping
	finder        *finder.Model // not nil while it is open
	keymap        *place.Keymap
	leaving       bool
	notice        string
	sure          place.Sure
	drawing       *place.Drawing // that is asked about, or nil
	toDemo        bool           // the program ends for the demo
	touched       time.Time      // when a key was last pressed
	ascii         bool           // the locale has nothing but ASCII
	second        bool           // the shells' clock runs
	resting       bool           // it is looked at soon whether the person rests

	receivers map[int]receiver // places and tasks, by what results are addressed to
	nextID    int

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

// task is a task that shows, and what it is addressed by.
type task struct {
	place.Task
	id int
}

// receiver takes the results of what it began.
type receiver interface{ Update(tea.Msg) tea.Cmd }

// New returns the frame for a workspace. Close ends what it started. It fails where the
// ring cannot stand in front of the agent that is wanted.
func New(ws *workspace.Workspace, o Options) (*App, error) {
	if o.Leader == "" {
		o.Leader = "alt+m"
	}
	a := &App{options: o, theme: theme.Made(lookOf(o.Prefs.Look)), keymap: place.NewKeymap(o.Prefs.Keys), desk: ask.NewDesk(), receivers: map[int]receiver{}, walks: map[string]context.CancelFunc{}, walkedFrom: map[string]int{}, lost: map[string]bool{}}
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
	for _, entry := range places {
		id := a.newID()
		p := entry.New(a.services(id))
		a.places = append(a.places, p)
		a.receivers[id] = p
	}
	a.home = a.places[0].(*routes.Model)
	a.readLast()
	if o.Tour {
		a.beginTour()
	}
	return a, nil
}

func (a *App) newID() int {
	a.nextID++
	return a.nextID
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

// Update takes a message.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	var cmd tea.Cmd
	err := contain.Do("what was last asked for", func() error {
		cmd = tea.Batch(a.update(msg), a.followTour())
		a.settle()
		return nil
	})
	if err != nil {
		a.broken(err)
	}
	return a, cmd
}

// broken puts what shows away after a panic in it, and says so. Shells and tunnels go on.
func (a *App) broken(err error) {
	delete(a.receivers, a.task.id)
	a.task, a.switcher, a.finder, a.help, a.drawing = task{}, nil, nil, helping{}, nil
	a.at, a.inShell = 0, false
	a.notice = err.Error()
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
		if r := a.receivers[msg.To]; r != nil && msg.Msg != nil {
			return r.Update(msg.Msg)
		}
	case heard:
		return tea.Batch(a.hear(msg), a.listen())
	case ask.Asked, ask.Withdrawn:
		return tea.Batch(a.asked(msg), a.desk.Next(a.ctx))
	case arrived:
		return a.arrive(msg)
	case failed:
		a.fail(msg)
	case tick:
		a.second = false
		return a.clock()
	case rested:
		return a.rested()
	case shells.Changed:
		return a.shellChanged(msg.ID)
	}
	return nil
}

// settle has the home place show what stands below and in place of its board.
func (a *App) settle() {
	var pane routes.Pane
	var above routes.Above
	switch {
	case a.ask.Waiting() && (a.answering || a.task.Task == nil):
		to := ""
		if !a.answering {
			to = a.options.Leader + " a answers it"
		}
		pane = func(columns, rows int) []string { a.ask.SetWidth(columns); return a.ask.View(rows, to) }
	case a.task.Task != nil:
		pane = a.task.View
	}
	if covering, ok := a.task.Task.(place.Covering); ok {
		above = func(rows int) []string { return covering.Above(a.width, rows) }
	}
	a.home.SetPane(pane, above)
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
		case walk.CameByEmergency:
			a.say(e.Say())
		case walk.LeaseEnds:
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
		for _, p := range a.places {
			cmds = append(cmds, p.Update(place.Heard{Event: e}))
		}
		if a.task.Task != nil {
			cmds = append(cmds, a.task.Update(place.Heard{Event: e}))
		}
	}
	return tea.Batch(append(cmds, a.clock())...)
}

// changed says at the foot what an edit did. A sheet that shows says it itself.
func (a *App) changed(c engine.Changed) {
	if c.Say != "" && a.task.Task == nil {
		a.notice = c.Say
	}
}

// say says something wherever the person is.
func (a *App) say(say string) {
	a.notice = say
	if a.inShell {
		a.shell.Notice(say)
	}
}

func (a *App) resize(width, height int) {
	a.width, a.height = width, height
	a.ask.SetWidth(width)
	a.shell.SetSize(width, height)
	for i, p := range a.places {
		p.SetSize(width, height-a.foot(i))
	}
	if a.switcher != nil {
		a.switcher.SetWidth(width)
	}
	if a.finder != nil {
		a.finder.SetWidth(width)
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
	a.help, a.finder, a.leaving, a.raisedFrom, a.answering = helping{}, nil, false, nil, false
	if s == nil {
		return a.goToPlace("0", "")
	}
	a.places[a.at].Hide()
	a.inShell = true
	a.shell.Show(s)
	a.home.Select(s.Route.Session)
	return nil
}

// goToPlace shows the place of a key, home where there is none, at a session where that
// is not "".
func (a *App) goToPlace(key, session string) tea.Cmd {
	i := max(slices.IndexFunc(places, func(e place.Entry) bool { return e.Key == key }), 0)
	if !a.inShell {
		a.places[a.at].Hide()
	}
	a.at, a.inShell, a.help, a.finder, a.leaving, a.raisedFrom = i, false, helping{}, nil, false, nil
	a.answering = a.attends()
	if s, ok := a.places[i].(place.Selector); ok && session != "" {
		s.Select(session)
	}
	return a.places[i].Show()
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
