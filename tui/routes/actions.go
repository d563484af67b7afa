package routes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/draw"
	"meatus/core/gate"
	"meatus/core/login"
	"meatus/core/mend"
	"meatus/core/needs"
	"meatus/core/route"
	"meatus/core/routeline"
	"meatus/core/shell"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/compose"
	"meatus/tui/entry"
	"meatus/tui/lending"
	"meatus/tui/many"
	"meatus/tui/place"
	"meatus/tui/remedies"
	"meatus/tui/settle"
	"meatus/tui/sheet"
	"meatus/tui/stack"
)

// open walks to the selected session and opens a shell there.
func (m *Model) open() tea.Cmd { return m.walk(false) }

// live reports whether the selected session has a shell here that has not ended.
func (m *Model) live() bool {
	name := m.Selected()
	return name != "" && slices.ContainsFunc(m.s.Shells(), func(sh *shell.Shell) bool {
		select {
		case <-sh.Ended():
			return false
		default:
			return sh.Route().Session == name
		}
	})
}

// enter goes to the selected session's live shell, or opens one.
func (m *Model) enter() tea.Cmd {
	if !m.live() {
		return m.open()
	}
	m.s.Visit(m.Selected())
	return nil
}

// wait does so as soon as its machine is up.
func (m *Model) wait() tea.Cmd { return m.walk(true) }

func (m *Model) walk(wait bool) tea.Cmd {
	s, ok := m.current()
	if !ok || s.Walk != nil || len(m.lines) == 0 {
		return nil
	}
	r, ok := m.s.Plan(s.Name)
	if !ok {
		return nil
	}
	return tea.Batch(m.s.Open(r, wait), m.clocks())
}

// stop stops a look at many sessions, or the walk to the selected one.
func (m *Model) stop() tea.Cmd {
	if m.looking.on {
		m.looking.stop()
		return nil
	}
	m.s.Stop(m.Selected())
	return nil
}

// checkOne checks the selected session.
func (m *Model) checkOne() tea.Cmd { return m.check([]string{m.Selected()}, false) }

// check looks at sessions' machines as far as was chosen; a quiet one asks nobody.
func (m *Model) check(sessions []string, quiet bool) tea.Cmd {
	if m.looking.on {
		if !quiet {
			m.s.Tell(fmt.Sprintf("%d of %d are checked; esc stops that", m.looking.done, m.looking.total))
		}
		return nil
	}
	var routes []route.Route
	for _, name := range sessions {
		if r, ok := m.s.Plan(name); ok {
			routes = append(routes, r)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	m.looking = looking{on: true, n: m.looking.n + 1, total: len(routes), stop: cancel}
	walker, look, n := m.s.Walker, walk.Look{Depth: m.depth, Quiet: quiet}, m.looking.n
	return m.s.Run(func() tea.Msg {
		defer cancel()
		var mu sync.Mutex
		var causes needs.Causes
		walker.TouchAll(ctx, routes, look, func(_ int, t walk.Touched) {
			mu.Lock()
			defer mu.Unlock()
			causes.Add(t.Report, true)
		})
		return looked{n, causes.Shared()}
	})
}

// repeatMore has all sessions checked more seldom, or no more.
func (m *Model) repeatMore() tea.Cmd {
	m.every = (m.every + 1) % len(repeats)
	return m.repeat()
}

// repeat checks all sessions after a time, where that is wanted.
func (m *Model) repeat() tea.Cmd {
	m.asked++
	if every := repeats[m.every]; every > 0 {
		return m.s.After(every, again(m.asked))
	}
	return nil
}

// mark marks the selected session, or takes its mark away.
func (m *Model) mark() tea.Cmd {
	name, ws := m.Selected(), m.ws
	if name == "" {
		return nil
	}
	on := !m.s.Board.Marked(name)
	m.s.Board.Mark(name, on)
	notice := m.s.Notice
	return m.s.Run(func() tea.Msg {
		if err := ws.Mark(name, on); err != nil {
			notice(err.Error())
		}
		return nil
	})
}

// marked are the marked sessions, in the order of the file; where none is, that is said.
func (m *Model) marked() []string {
	var names []string
	for _, name := range m.ws.Book.Names() {
		if m.s.Board.Marked(name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		m.s.Tell("no session is marked; " + m.s.Press("mark") + " marks one")
	}
	return names
}

// changeMarked sets a value of all marked sessions.
func (m *Model) changeMarked() tea.Cmd {
	names := m.marked()
	if len(names) == 0 {
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer { return many.NewChange(s, names) })
}

// runMarked runs a command at the machines of all marked sessions.
func (m *Model) runMarked() tea.Cmd {
	names := m.marked()
	if len(names) == 0 {
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer { return many.NewEach(s, names) })
}

// through narrows the board to the sessions whose way goes through one.
func (m *Model) through(session string) tea.Cmd {
	if len(m.ws.Book.Behind(session)) == 0 {
		m.s.Tell("no session goes via " + session)
		return nil
	}
	m.find.on, m.find.typing = true, false
	m.find.line.Begin(viaPrefix + session)
	m.narrow()
	return nil
}

// order orders the board in the next way.
func (m *Model) order() tea.Cmd {
	m.sorted = (m.sorted + 1) % len(orderWords)
	m.lay()
	m.settle()
	return nil
}

// write opens the line for a new session.
func (m *Model) write() tea.Cmd { return m.writeLine("") }

func (m *Model) writeLine(text string) tea.Cmd {
	return m.s.Task(func(s *place.Services) stack.Layer { return entry.New(s, text) })
}

// pasted opens the line of a new session with a connect command that was pasted, become a
// route line. Anything else that is pasted is for nobody here.
func (m *Model) pasted(text string) tea.Cmd {
	if _, ok := routeline.ReadCommand(text, m.ws.Known(nil)); !ok {
		m.s.Tell("what was pasted is no connect command; " + m.s.Press("new") + " writes a session, " + m.s.Press("find") + " finds one")
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer {
		t := entry.New(s, "")
		t.Update(tea.PasteMsg{Content: text})
		return t
	})
}

func (m *Model) edit(session string) tea.Cmd {
	return m.s.Task(func(s *place.Services) stack.Layer { return sheet.New(s, session) })
}

func (m *Model) lend(session string) tea.Cmd {
	r, ok := m.s.Plan(session)
	if !ok {
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer { return lending.New(s, r) })
}

func (m *Model) compose(session string) tea.Cmd {
	r, ok := m.s.Plan(session)
	if !ok {
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer { return compose.New(s, r) })
}

// changed is the changed identity that a session met, nil where none was.
func changed(f *gate.Failure) *login.ChangedIdentity {
	var c *login.ChangedIdentity
	if f == nil || !errors.As(f, &c) {
		return nil
	}
	return c
}

// settleIdentity asks what a changed identity means.
func (m *Model) settleIdentity() tea.Cmd {
	s, ok := m.current()
	if c := changed(s.Failure); ok && s.Walk == nil && c != nil {
		return m.s.Task(func(s *place.Services) stack.Layer { return settle.New(s, c) })
	}
	return nil
}

// mendWords say what mending the worst gate is.
func mendWords(worst gate.Gate) string {
	switch worst.Remedy.Act {
	case gate.MendKey:
		return "mend key"
	case gate.MendFile:
		return "set its mode"
	case gate.Settle:
		return "settle identity"
	case gate.Choose:
		return "remedies"
	}
	return "fix the problem"
}

// mendWorst does what mends the worst gate, or lists what may.
func (m *Model) mendWorst() tea.Cmd {
	s, _ := m.current()
	switch worst, _ := s.Details.Report.Worst(); worst.Remedy.Act {
	case gate.MendKey, gate.MendFile:
		return m.mend()
	case gate.Settle:
		return m.settleIdentity()
	}
	return m.ways()
}

// mend sets the mode of the file that the selected session's worst gate is about.
func (m *Model) mend() tea.Cmd {
	s, ok := m.current()
	worst, _ := s.Details.Report.Worst()
	if !ok || worst.Remedy.Act != gate.MendKey && worst.Remedy.Act != gate.MendFile || s.Walk != nil {
		return nil
	}
	path, b, record := worst.Remedy.Subject, m.s.Board, m.s.Record
	return m.s.Run(func() tea.Msg {
		say, err := mend.Mode(worst.Remedy)
		b.KeyMended(s.Name, path, say, err)
		e := trail.Entry{Kind: trail.Mend, Session: s.Name, Say: say}
		if err != nil {
			e.Say, e.Failed = "mending "+path, err.Error()
		}
		record(e)
		return nil
	})
}

// ways lists what mends the selected session's worst gate.
func (m *Model) ways() tea.Cmd {
	s, ok := m.current()
	if !ok || s.Walk != nil {
		return nil
	}
	worst, at := s.Details.Report.Worst()
	if at < 0 || worst.Verdict < gate.Ajar || s.Details.Report.Broken != "" {
		return nil
	}
	c := mend.Case{Workspace: m.ws, Route: s.Details.Route, Hop: at, Gate: worst, Failure: s.Failure}
	return m.s.Task(func(s *place.Services) stack.Layer { return remedies.New(s, c) })
}

// which asks the machine of a session which keys it would take.
func (m *Model) which(session string) tea.Cmd {
	r, ok := m.s.Plan(session)
	if !ok {
		return nil
	}
	return m.s.Begin(&work.AskKeys{Tools: m.s.Tools(), Route: r})
}

// sweep looks through the account of a session for what was left there.
func (m *Model) sweep(session string) tea.Cmd {
	if _, ok := m.s.Plan(session); !ok {
		return nil
	}
	return m.s.Begin(&work.Sweep{Tools: m.s.Tools(), Session: session})
}

// edited has an edit of the sessions file taken back or done again.
func (m *Model) edited(edit func(path string) (string, *book.Book, error)) tea.Cmd {
	path, adopt, notice, record := m.ws.SessionsPath(), m.s.Adopt, m.s.Notice, m.s.Record
	return m.s.Run(func() tea.Msg {
		say, b, err := edit(path)
		if b == nil {
			notice(err.Error())
			return nil
		}
		if err != nil {
			say += "; " + err.Error()
		}
		adopt(b, "", say)
		record(trail.Entry{Kind: trail.Edit, Say: say})
		notice(say)
		return nil
	})
}

// reread reads the sessions anew.
func (m *Model) reread() tea.Cmd {
	again := m.s.Reread
	return m.s.Run(func() tea.Msg { again(); return nil })
}

// draw draws the map of sessions.
func (m *Model) draw(sessions []string) tea.Cmd {
	title := m.s.Title()
	of := words.Count(len(sessions), "session")
	if len(sessions) == 1 {
		of, title = sessions[0], sessions[0]+", "+title
	}
	reports := map[string]gate.Report{}
	for _, name := range sessions { // what checks and walks have found is truer
		if s, ok := m.s.Board.State(name); ok && s.Details != nil && s.Details.Report.Broken == "" && len(s.Details.Route.Hops) > 0 && s.Details.Route.Hops[0].Instead == "" { // the map is of the ways that are named first
			reports[name] = s.Details.Report
		}
	}
	ws := m.ws
	return m.s.Draw(place.Drawing{Kind: "map", Of: "the map of " + of, Private: "addresses, logins and fingerprints", Make: func(private bool) work.Draw {
		return work.Draw{Of: of, Make: func(context.Context) (draw.Drawing, error) {
			d, err := work.Map(ws, sessions, title, reports, time.Now())
			d.Private = private
			return d, err
		}}
	}})
}

// heldElsewhere is an address that another Meatus listens at, and for which session it
// is wanted.
type heldElsewhere struct {
	session string
	*work.HeldElsewhere
}

// opened says what became of opening or closing a session's tunnels.
type opened struct {
	session string
	say     string
	held    *work.HeldElsewhere
}

func (m *Model) opened(msg opened) {
	if msg.held == nil {
		m.s.Tell(msg.say)
		return
	}
	m.held = &heldElsewhere{msg.session, msg.held}
	m.s.Tell(fmt.Sprintf("another Meatus (process %d, %s) holds %s for %s; %s again takes it over", msg.held.Program.PID, msg.held.Program.What, msg.held.Listener, msg.held.For, m.s.Press("tunnels")))
}

// toggleTunnels opens the tunnels of a session, or closes them where they are open.
func (m *Model) toggleTunnels(session string) tea.Cmd {
	r, ok := m.s.Plan(session)
	if !ok {
		return nil
	}
	set := m.s.Tunnels
	over := m.held != nil && m.held.session == session
	if len(set.Of(session)) > 0 && !over { // the board may not know yet what was just opened
		live := 0
		for _, t := range set.Of(session) {
			live += len(t.Flows())
		}
		do := func() tea.Cmd {
			return m.s.Run(func() tea.Msg {
				n := set.Close(session)
				return opened{session: session, say: session + ": closed, " + words.Count(n, "door")}
			})
		}
		if live == 0 {
			return do()
		}
		return m.s.Confirm(place.Confirm{Subject: session, Say: fmt.Sprintf("closing the port forwards of %s ends %s; %s again closes them", session, words.Count(live, "live flow"), m.s.Press("tunnels")), Do: do})
	}
	specs := r.Target().Tunnels
	if len(specs) == 0 {
		m.s.Tell(session + " has no tunnels; " + m.s.Press("new-door") + " opens one")
		return nil
	}
	for _, spec := range specs {
		if spec.Beyond() && m.beyond != session {
			m.beyond = session
			_, at := spec.Kind()
			m.s.Tell(fmt.Sprintf("%s listens for OTHER MACHINES: anyone who reaches this one can use it; %s again opens it", at, m.s.Press("tunnels")))
			return nil
		}
	}
	m.beyond, m.held = "", nil
	job := &work.OpenTunnels{Tools: m.s.Tools(), Route: r, Specs: specs, Options: tunnel.Options{}, OnKnock: r.Target().OnKnock, TakeOver: over}
	return m.s.Run(func() tea.Msg {
		err := job.Run(context.Background(), func(work.Step) {})
		o := opened{session: session, say: session + ": the port forwards are open"}
		if err != nil {
			errors.As(err, &o.held)
			o.say = session + ": " + err.Error()
		}
		return o
	})
}
