// Package remedies is the list of what mends a gate, in place of the card: each
// way with what it would change, done when it is chosen.
package remedies

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/login"
	"meatus/core/mend"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/settle"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The messages of the task's own: the ways there are, what the machine said of keys, and
// that a way could not be gone, or was.
type (
	found  []mend.Way
	failed struct{ err error }
	done   struct{}
	asked  struct {
		taken []work.Taken
		err   error
	}
)

// Model is the list.
type Model struct {
	stack.Base
	s      *place.Services
	what   mend.Case
	ways   *list.List[string, mend.Way] // by what they say
	looked bool
	note   string
	ctx    context.Context // ends when the list is put away
	stop   context.CancelFunc
}

// New lists what mends a gate.
func New(s *place.Services, what mend.Case) stack.Layer {
	m := &Model{s: s, what: what, ways: list.New(func(w mend.Way) string { return w.Say + "\x00" + w.Why })}
	m.ctx, m.stop = context.WithCancel(context.Background())
	return m
}

// Close ends what is waited for. What was begun in an estate goes on as a job.
func (m *Model) Close() { m.stop() }

// Show looks for the ways.
func (m *Model) Show() tea.Cmd {
	what := m.what
	return m.s.Run(func() tea.Msg {
		what.Arrived = what.Workspace.Arrived()
		return found(mend.Ways(what))
	})
}

// SetSize changes the room of the ways.
func (m *Model) SetSize(columns, rows int) {
	m.Base.SetSize(columns, rows)
	m.ways.SetRoom(max(rows-leftOut, 1))
}

// leftOut is how many lines stand above and below the ways at least.
const leftOut = 8

// Table is what can be done.
func (m *Model) Table() action.Table {
	move := func(key rune) func() tea.Cmd {
		return func() tea.Cmd { m.ways.Take(tea.KeyPressMsg{Code: key}); return nil }
	}
	return action.Table{
		action.On("up down k j", "choose", nil).As("↑↓").Ranked(action.Movement),
		action.On("up k", "", move(tea.KeyUp)).Ranked(action.Hidden),
		action.On("down j", "", move(tea.KeyDown)).Ranked(action.Hidden),
		action.On("enter", "do it", m.choose),
		action.On("esc ctrl+c q", "cancel", func() tea.Cmd { m.s.Close(); return nil }),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case found:
		m.ways.Set(msg)
		m.looked = true
	case failed:
		m.note = msg.err.Error()
	case done:
		m.s.Close()
	case asked:
		return m.answered(msg)
	case runs:
		return m.walk(msg)
	}
	return nil
}

// choose goes the chosen way.
func (m *Model) choose() tea.Cmd {
	way, ok := m.ways.Selected()
	if !m.looked || !ok { // those that show are of before it was asked
		return nil
	}
	r := m.what.Route
	switch way.Act {
	case gate.ByHand:
		return m.do(way)
	case gate.AskKeys:
		return m.askKeys()
	case gate.Settle:
		return m.settle()
	case gate.Start, gate.Runs:
		return m.start(way.Act == gate.Start)
	case gate.LetIn:
		return m.letIn(way.LetIn)
	case gate.HandOn:
		m.s.Close()
		m.s.Tell("what to ask for is copied")
		return m.s.Copy(way.Ask())
	}
	m.s.Close()
	return m.s.Open(r, true)
}

// do goes a way that is done here.
func (m *Model) do(way mend.Way) tea.Cmd {
	session, b, adopt, record := m.what.Route.Session, m.s.Board, m.s.Adopt, m.s.Record
	return m.s.Run(func() tea.Msg {
		did, err := way.Do()
		switch {
		case err != nil && did.Say == "":
			return failed{err}
		case err != nil:
			did.Say += ", but: " + err.Error()
		}
		if did.Book != nil {
			adopt(did.Book, session, "")
		}
		b.Rejudge()
		b.Say(session, did.Say)
		record(trail.Entry{Kind: trail.Mend, Session: session, Say: did.Say})
		return done{}
	})
}

const (
	// runsTime is how long is waited for an instance to run, readPace how often its estate is read, and lookPace how often
	// is looked at what was read.
	runsTime = 10 * time.Minute
	readPace = 3 * time.Second
	lookPace = 100 * time.Millisecond
)

// runs is what became of waiting for an instance.
type runs struct{ err error }

// start has an instance started where that is wanted, waits until it runs, and walks there.
func (m *Model) start(start bool) tea.Cmd {
	i := m.what.Route.Hops[m.what.Hop].Instance
	source, ok := m.s.Workspace().Source(i.Source)
	if !ok {
		return nil
	}
	m.note = "waiting until " + sanitize.Line(i.Name, 60) + " runs …"
	ctx, workspace, read, began := m.ctx, m.s.Workspace, m.s.ReadEstates, make(chan error, 1)
	if start {
		m.s.Jobs.Begin(&work.Told{Job: &work.Instance{Tools: m.s.Tools(), Source: source, Act: estate.Start, ID: i.ID, Name: i.Name, Read: read}, Say: func(err error) { began <- err }})
	} else {
		began <- nil
	}
	return m.s.Run(func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, runsTime)
		defer cancel()
		select {
		case err := <-began:
			if err != nil {
				return runs{err}
			}
		case <-ctx.Done():
			return runs{ctx.Err()}
		}
		asked, look := time.Time{}, time.NewTicker(lookPace)
		defer look.Stop()
		for ; ctx.Err() == nil; waitFor(ctx, look.C) {
			for _, k := range workspace().Estates {
				if now := k.Snapshot.Instance(i.ID); k.Source == i.Source && now != nil && now.State == estate.Running && now.Checks != estate.Initializing {
					return runs{}
				}
			}
			if time.Since(asked) > readPace {
				read()
				asked = time.Now()
			}
		}
		if errors.Is(ctx.Err(), context.Canceled) { // nobody waits any more
			return runs{ctx.Err()}
		}
		return runs{fmt.Errorf("%s does not run after %s", sanitize.Line(i.Name, 60), runsTime)}
	})
}

// waitFor waits for a tick, or until nobody waits any more.
func waitFor(ctx context.Context, tick <-chan time.Time) {
	select {
	case <-tick:
	case <-ctx.Done():
	}
}

// letIn has the rules added that are lacking, waits until that is so, and walks there.
func (m *Model) letIn(l workspace.LetIn) tea.Cmd {
	source, ok := m.s.Workspace().Source(l.Source)
	if !ok {
		return nil
	}
	m.note = "asking estate " + l.Source + " …"
	done := make(chan error, 1)
	m.s.Jobs.Begin(&work.Told{Job: &work.LetIn{Tools: m.s.Tools(), Source: source, Edits: l.Edits, For: l.For, Session: l.Session, Of: l.Of, Read: m.s.ReadEstates}, Say: func(err error) { done <- err }})
	ctx := m.ctx
	return m.s.Run(func() tea.Msg {
		select {
		case err := <-done:
			return runs{err}
		case <-ctx.Done():
			return runs{ctx.Err()}
		}
	})
}

// walk walks to the session as it is now.
func (m *Model) walk(msg runs) tea.Cmd {
	if msg.err != nil {
		m.note = msg.err.Error()
		return nil
	}
	m.s.Close()
	r, ok := m.s.Plan(m.what.Route.Session)
	if !ok {
		return nil
	}
	return m.s.Open(r, true)
}

// settle asks what a changed identity means, where one was met.
func (m *Model) settle() tea.Cmd {
	var c *login.ChangedIdentity
	m.s.Close()
	if m.what.Failure == nil || !errors.As(m.what.Failure, &c) {
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer { return settle.New(s, c) })
}

// askKeys asks the machine which of the workspace's keys it would take.
func (m *Model) askKeys() tea.Cmd {
	r := m.what.Route
	r = r.UpTo(m.what.Hop)
	m.note = "asking " + r.Target().Name + " about keys …"
	ctx, job := m.ctx, &work.AskKeys{Tools: m.s.Tools(), Route: r}
	return m.s.Run(func() tea.Msg {
		err := job.Run(ctx, func(work.Step) {})
		return asked{job.Taken, err}
	})
}

// answered shows the ways anew, with what the machine said first.
func (m *Model) answered(msg asked) tea.Cmd {
	m.note = ""
	if msg.err != nil {
		m.note = msg.err.Error()
		return nil
	}
	c := &m.what
	c.Asked, c.Takes = true, nil
	n := 0
	for _, t := range msg.taken {
		if t.Asked {
			n++
		}
		if t.Takes {
			c.Takes = append(c.Takes, t.SHA256)
		}
	}
	if len(c.Takes) == 0 {
		c.Gate.Reason = fmt.Sprintf("%s accepts none of the %d keys that were asked about for user %s", c.Route.Hops[c.Hop].Name, n, c.Route.Hops[c.Hop].User)
	}
	m.looked = false
	m.ways.Restart()
	return m.Show()
}

// View draws the list in height lines.
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t := m.s.Theme
	hop := m.what.Route.Hops[m.what.Hop].Name
	lines := []string{t.Title(t.Accent.Render("remedies")+t.Rule.Render(" ─ ")+t.Strong.Render(hop)+t.Faint.Render(", "+m.what.Gate.Kind.String()), "", width, fit.Spread)}
	for _, l := range fit.Wrap(m.what.Gate.Reason, width-8) {
		lines = append(lines, "   "+t.Mark(m.what.Gate.Verdict)+" "+l)
	}
	lines = append(lines, "")
	switch {
	case !m.looked:
		lines = append(lines, "   "+t.Faint.Render("looking …"))
	case m.ways.Len() == 0:
		lines = append(lines, "   "+t.Faint.Render("Nothing that could be done from here. "+m.what.Gate.Remedy.Say))
	}
	var preview []string
	if way, ok := m.ways.Selected(); ok {
		for _, p := range way.Preview {
			preview = append(preview, fit.Hang("     "+t.Accent.Render("→ ")+p, 7, width-2).Whole...)
		}
	}
	if m.note != "" {
		for _, l := range fit.Wrap(m.note, width-8) {
			preview = append(preview, "   "+t.Verdict(gate.Shut).Render(l))
		}
	}
	room := max(height-len(lines)-1-min(len(preview), 4), 1)
	rows, below := m.ways.Rows(room, func(w mend.Way, chosen bool) fit.Row {
		pointer, say := "  ", w.Say
		if chosen {
			pointer, say = t.Accent.Render(theme.Chosen+" "), t.Strong.Render(say)
		}
		head := " " + pointer + fit.Pad(say, min(44, width/2)) + " "
		return fit.Hang(head+t.Faint.Render(w.Why), fit.Width(head), width-1)
	})
	lines = append(lines, rows...)
	if below > 0 {
		more := fmt.Sprintf("  %d more below", below)
		lines[len(lines)-1] = fit.Cut(lines[len(lines)-1], width-fit.Width(more)-1) + t.Faint.Render(more)
	}
	lines = append(append(lines, ""), preview...)
	return lines[:min(len(lines), height)]
}
