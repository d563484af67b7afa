package tui

import (
	"context"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/contain"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/entry"
	"meatus/tui/jobs"
	"meatus/tui/place"
	"meatus/tui/stack"
)

// services are what a place or task works with; results of what it begins are addressed to
// it by id.
func (a *App) services(id int) *place.Services {
	return &place.Services{Engine: a.engine, Frame: frame{a, id}, Theme: a.theme}
}

// frame is the interface as the layer with an address sees it.
type frame struct {
	a  *App
	id int
}

func (f frame) Run(do func() tea.Msg) tea.Cmd {
	return func() (msg tea.Msg) {
		contained := contain.Do("something in the background", func() error { msg = do(); return nil })
		if contained != nil {
			f.a.engine.Tell(contained.Error())
		}
		return place.Addressed{To: f.id, Msg: msg}
	}
}

func (f frame) After(d time.Duration, msg tea.Msg) tea.Cmd {
	timed, begun := f.a.stack.Time(f.id, msg)
	if !begun {
		return nil
	}
	return tea.Tick(d, func(time.Time) tea.Msg { return timed })
}

func (f frame) Exec(c *exec.Cmd, done func(error) tea.Msg) tea.Cmd { return f.a.exec(f.id, c, done) }

func (f frame) Tell(say string) { f.a.notice = say }

func (f frame) Confirm(c place.Confirm) tea.Cmd { return f.a.confirming.Ask(c, f.Tell) }

func (f frame) Copy(text string) tea.Cmd { return f.a.copy(text) }

func (f frame) Go(key, at string) tea.Cmd {
	if !f.a.mayShow(f.id) { // the person is at something else by now, and stays there
		return nil
	}
	return f.a.goToPlace(key, at)
}

func (f frame) Open(r route.Route, wait bool) tea.Cmd { return f.a.walk(r, wait) }

func (f frame) Stop(session string) {
	if stop := f.a.walks[session]; stop != nil {
		stop()
	}
}

func (f frame) Visit(session string) { f.a.visit(session) }

func (f frame) Begin(job work.Job) tea.Cmd { return f.a.begin(f.id, job) }

func (f frame) Draw(d place.Drawing) tea.Cmd { return f.a.askDrawing(d) }

func (f frame) Task(new func(*place.Services) stack.Layer) tea.Cmd { return f.a.showFor(f.id, new) }

func (f frame) Close() { f.a.close(f.id) }

func (f frame) Demo() func() tea.Cmd {
	if !f.a.options.Demo {
		return nil
	}
	return func() tea.Cmd { f.a.toDemo = true; return tea.Quit }
}

func (f frame) Title() string { return f.a.name() }

func (f frame) Press(verb string) string { return f.a.keymap.Press(verb) }

func (f frame) Find(words string) tea.Cmd { return f.a.find(words) }

// copy puts a text on the clipboard; where nothing is drawn it is read out.
func (a *App) copy(text string) tea.Cmd {
	if a.plain != nil {
		a.plain.say("to copy: " + sanitize.Line(text, 2000))
		return nil
	}
	return tea.SetClipboard(text)
}

// name is what the workspace is called.
func (a *App) name() string {
	if a.options.Name != "" {
		return a.options.Name
	}
	return sanitize.Line(filepath.Base(a.engine.Workspace().Dir), 40)
}

// show shows a task in place of the card.
func (a *App) show(new func(*place.Services) stack.Layer) tea.Cmd {
	a.stack.CutAbove(a.home)
	id := a.stack.NewID()
	t := new(a.services(id))
	a.stack.Own(id, t)
	a.home.SetPane(t.View, t.Shape())
	t.SetSize(a.home.PaneSize())
	return a.stack.Push(t)
}

// showFor shows a task for the layer with an address; where the person does something else by now, it waits until they go to it.
func (a *App) showFor(id int, new func(*place.Services) stack.Layer) tea.Cmd {
	if a.mayShow(id) {
		return a.show(new)
	}
	a.wait(arrival{say: "what you asked for can be looked at", waits: true, still: func() bool { return true }, show: func() tea.Cmd { return a.show(new) }})
	return nil
}

// exec gives the terminal to a program for the layer with an address, at once where the person waits for it there, and else
// when they go to it.
func (a *App) exec(id int, c *exec.Cmd, done func(error) tea.Msg) tea.Cmd {
	ended := func(err error) tea.Msg { return place.Addressed{To: id, Msg: done(err)} }
	run := func() tea.Cmd {
		if a.plain != nil {
			return a.plain.besides(c, ended)
		}
		return tea.ExecProcess(c, ended)
	}
	if a.mayTakeTerminal(id) {
		return run()
	}
	at := slices.Index(a.places, a.stack.Owner(id))
	a.wait(arrival{say: sanitize.Line(filepath.Base(c.Path), 40) + " waits to be opened", waits: true, still: func() bool { return true }, show: func() tea.Cmd {
		if at < 0 || a.at() == at {
			return run()
		}
		return tea.Sequence(a.goToPlace(places[at].Key, ""), run())
	}})
	return nil
}

// close puts a task away.
func (a *App) close(id int) {
	if l := a.stack.Owner(id); l != nil && l.Shape() != stack.Place {
		a.stack.Remove(l)
		a.stack.Disown(id)
	}
}

// welcome shows the line for the first session.
func (a *App) welcome() tea.Cmd {
	return a.show(func(s *place.Services) stack.Layer { return entry.New(s, "") })
}

// begin begins a job for the layer with an address, and shows it, at the session it is for.
func (a *App) begin(by int, job work.Job) tea.Cmd {
	id := a.engine.Jobs.Begin(job)
	cmd := a.showFor(by, func(s *place.Services) stack.Layer { return jobs.NewTask(s, id) })
	if session := job.Title().Session; session != "" {
		a.home.Select(session)
	}
	return cmd
}

// visit shows the newest live shell of a session.
func (a *App) visit(session string) {
	for i := len(a.open) - 1; i >= 0; i-- {
		if a.open[i].Route.Session == session {
			a.goTo(a.open[i])
			return
		}
	}
}

// walk walks a route and opens a shell at its end; with wait it goes on trying until the
// machine is up.
func (a *App) walk(r route.Route, wait bool) tea.Cmd {
	session := r.Session
	if a.walks[session] != nil {
		return nil
	}
	a.home.Select(session)
	a.engine.Board.Begin(session)
	ctx, cancel := context.WithCancel(a.ctx)
	a.walks[session] = cancel
	a.walkedFrom[session] = a.at()
	e := a.engine
	cols, rows := a.shell.Room()
	return func() tea.Msg {
		defer cancel()
		s, err := e.Await(ctx, r, wait, cols, rows)
		if err != nil {
			return failed{session, failureOf(r, err)}
		}
		return arrived{session, r, s}
	}
}

// askDrawing asks whether a drawing is to leave private parts out.
func (a *App) askDrawing(d place.Drawing) tea.Cmd { return a.push(&drawLayer{a: a, d: d}) }

// draw begins a drawing.
func (a *App) draw(d place.Drawing, private bool) tea.Cmd {
	e, dir := a.engine, a.engine.Workspace().Dir
	job := d.Make(private)
	return func() tea.Msg {
		stem, files, err := work.DrawingFiles(dir, d.Kind, time.Now())
		if err != nil {
			e.Tell(err.Error())
			return nil
		}
		job.Files = files
		e.Jobs.Begin(&work.Told{Job: &job, Say: func(err error) {
			if err != nil {
				e.Tell("drawing the " + d.Kind + ": " + err.Error())
				return
			}
			e.Tell(job.Of + " drawn, as .svg and .pdf: " + workspace.Short(stem))
		}})
		return nil
	}
}
