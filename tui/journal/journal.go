// Package journal is the place to read the trail: what was done, by whom, when,
// how long it took and why it failed; narrowed by what is typed.
package journal

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/draw"
	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// shown is how many entries are read at most.
const shown = 2000

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	entries       *list.List[int64, trail.Entry] // by their numbers
	filter        trail.Filter
	picked        bool // its text was asked for by another place
	typing        bool
	line          *line.Line
	err           error
	over          int           // of spans: how far back a drawing reaches
	of            *book.Gateway // the gateway or issuer whose record shows, nil for the trail of this account
	asked         int           // readings asked for; answers to older ones are dropped
}

type read struct {
	asked   int
	entries []trail.Entry
	err     error
}

// spans are how far back a drawing can reach.
var spans = []struct {
	over time.Duration
	word string
}{{time.Hour, "hour"}, {6 * time.Hour, "6 hours"}, {24 * time.Hour, "day"}, {7 * 24 * time.Hour, "week"}, {28 * 24 * time.Hour, "4 weeks"}, {91 * 24 * time.Hour, "13 weeks"}}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, entries: list.New(func(e trail.Entry) int64 { return e.ID }), line: line.New(s.Theme, ""), over: 2}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.entries.SetRoom(m.room())
}

// Show reads the trail anew.
func (m *Model) Show() tea.Cmd { return m.read() }

// Typing tells whether keys go into what is looked for.
func (m *Model) Typing() bool { return m.typing }

// read reads the trail anew.
func (m *Model) read() tea.Cmd {
	if m.of != nil {
		return m.readRecord()
	}
	if m.s.Trail == nil {
		return nil
	}
	m.asked++
	t, f, asked := m.s.Trail, m.filter, m.asked
	f.Limit = shown
	return m.s.Run(func() tea.Msg {
		entries, err := t.Read(context.Background(), f)
		return read{asked, entries, err}
	})
}

// readRecord reads the record of a gateway, or of an issuer.
func (m *Model) readRecord() tea.Cmd {
	m.asked++
	record, f, asked, of := m.s.GatewayRecord, m.filter, m.asked, m.of
	if of.Issuer {
		record = m.s.IssuerRecord
	}
	f.Limit = shown
	return m.s.Run(func() tea.Msg {
		entries, err := record(of.Name, f)
		return read{asked, entries, err}
	})
}

// services are those of the sessions file that keep a record.
func (m *Model) services() []*book.Gateway {
	b := m.s.Workspace().Book
	return slices.Concat(b.Gateways, b.Issuers)
}

// another shows the record of the next service, or the trail again.
func (m *Model) another() tea.Cmd {
	all := m.services()
	next := 0
	if m.of != nil {
		next = 1 + slices.IndexFunc(all, func(g *book.Gateway) bool { return g.Name == m.of.Name && g.Issuer == m.of.Issuer })
	}
	m.of = nil
	if next < len(all) {
		m.of = all[next]
	}
	m.err = nil
	m.entries.Set(nil)
	m.entries.Restart()
	return m.read()
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.typing {
		return action.Table{
			action.On("enter tab", "apply the filter", func() tea.Cmd { m.typing = false; return nil }),
			action.On("esc ctrl+c", "show all", func() tea.Cmd { m.typing = false; return m.find("") }),
		}
	}
	return action.Table{
		action.On("up down", "choose", nil).Ranked(action.Movement),
		action.On("/", "find", func() tea.Cmd { m.typing = true; m.line.Begin(m.filter.Text); return nil }).Whole().Also("search narrow filter"),
		action.On("|", "failures only", m.failures).Whole().Also("errors filter failed"),
		action.On("r", "read again", m.read).Whole().Also("reload refresh"),
		action.On("a", "audit log of a gateway or an issuer", m.another).If(func() bool { return len(m.services()) > 0 }, "the sessions file names no gateway and no issuer").Ranked(action.InHelp).Whole().Also("gateway issuer lease record who reached what audit"),
		action.On("x", "draw the last "+spans[m.over].word, m.draw).Whole().Also("timeline picture svg pdf who was connected"),
		action.On("+ =", "longer", func() tea.Cmd { m.over = min(m.over+1, len(spans)-1); return nil }).Whole().Also("timeline span"),
		action.On("-", "shorter", func() tea.Cmd { m.over = max(m.over-1, 0); return nil }).Whole().Also("timeline span"),
		action.On("esc q ctrl+c", "to Routes", m.leave),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case read:
		if msg.asked == m.asked {
			m.err = msg.err
			m.entries.Set(msg.entries)
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		if m.typing {
			m.line.Take(msg)
			return m.find(m.line.Text())
		}
		m.entries.Take(msg)
	}
	return nil
}

// mouse moves with the wheel.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	m.entries.Take(msg)
	return nil
}

// Select has what stands behind a slash found, as a place does that asks for the entries of one thing; it is
// forgotten when the place is gone to otherwise.
func (m *Model) Select(name string) {
	text, picked := strings.CutPrefix(name, "/")
	if picked {
		m.filter.Text = text
		m.entries.Restart()
	} else if m.picked {
		m.filter.Text = ""
	}
	m.picked = picked
}

// find shows the entries that hold a text.
func (m *Model) find(text string) tea.Cmd {
	if text == m.filter.Text {
		return nil
	}
	m.filter.Text = text
	m.entries.Restart()
	return m.read()
}

func (m *Model) failures() tea.Cmd {
	m.filter.Failed = !m.filter.Failed
	m.entries.Restart()
	return m.read()
}

func (m *Model) leave() tea.Cmd {
	if m.filter.Text != "" {
		return m.find("")
	}
	return m.s.Go("0", "")
}

// draw draws who was connected where over the chosen span.
func (m *Model) draw() tea.Cmd {
	t, title, span := m.s.Trail, m.s.Title(), spans[m.over]
	if m.of != nil {
		return m.drawRecord(*m.of, span.word, span.over)
	}
	if t == nil {
		return nil
	}
	return m.s.Draw(place.Drawing{Kind: "timeline", Of: "who was connected where over the last " + span.word, Private: "the accounts here", Make: func(private bool) work.Draw {
		return work.Draw{Of: "the last " + span.word, Make: func(ctx context.Context) (draw.Drawing, error) {
			l, err := work.Timeline(ctx, t, title, nil, span.over, time.Now())
			l.Private = private
			return l, err
		}}
	}})
}

// drawRecord draws who reached what, or had leases where, as a service's record has it.
func (m *Model) drawRecord(of book.Gateway, word string, over time.Duration) tea.Cmd {
	record, f := m.s.GatewayRecord, m.filter
	if of.Issuer {
		record = m.s.IssuerRecord
	}
	title := "the record of " + of.Name
	return m.s.Draw(place.Drawing{Kind: "timeline", Of: title + " over the last " + word, Private: "the people there", Make: func(private bool) work.Draw {
		return work.Draw{Of: title, Make: func(context.Context) (draw.Drawing, error) {
			entries, err := record(of.Name, f)
			l := work.RecordTimeline(entries, title, over, time.Now())
			l.Private = private
			return l, err
		}}
	}})
}

// room is how many entries fit.
func (m *Model) room() int { return max(m.height-3, 1) }

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	n := m.entries.Len()
	note := fmt.Sprintf("%d entries", n)
	if n == shown {
		note = fmt.Sprintf("the newest %d", shown)
	}
	if m.filter.Failed {
		note = "failures only · " + note
	}
	title := t.Accent.Render("trail")
	if m.of != nil {
		mark := theme.Gateway
		if m.of.Issuer {
			mark = theme.Issuer
		}
		title += t.Faint.Render(" of ") + t.Accent.Render(mark) + " " + t.Strong.Render(m.of.Name)
	}
	if m.typing || m.filter.Text != "" {
		text := t.Strong.Render(m.filter.Text)
		if m.typing {
			text = m.line.View(30)
		}
		title += t.Accent.Render(" / ") + text
	}
	lines := []string{t.Title(title, t.Faint.Render(note), m.width, fit.Spread)}
	switch {
	case m.s.Trail == nil && m.of == nil:
		for _, l := range fit.Wrap(m.s.NoTrail.Error(), m.width-6) {
			lines = append(lines, "   "+l)
		}
	case m.err != nil:
		lines = append(lines, fit.Hang("   "+t.Mark(gate.Shut)+" "+m.err.Error(), 5, m.width-1).Whole...)
	case n == 0 && m.of != nil:
		lines = append(append(lines, ""), "   "+t.Faint.Render("reading, or nothing is recorded"))
	case n == 0:
		lines = append(append(lines, ""), fit.Hang("   "+t.Faint.Render("Nothing yet. What is done stands here, with what came of it: walks, shells, tunnels, edits, keys mended and lent."), 3, m.width-1).Whole...)
	}
	names := 8
	for _, e := range m.entries.All() {
		names = min(max(names, fit.Width(where(e))), 24)
	}
	rows, _ := m.entries.Rows(m.room(), func(e trail.Entry, chosen bool) fit.Row { return m.row(e, names, chosen) })
	lines = append(lines, rows...)
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	return append(lines, t.Rule.Render(strings.Repeat("─", max(m.width, 0))), m.detail())
}

// where is the session or the hop that an entry is about.
func where(e trail.Entry) string {
	if e.Session != "" {
		return e.Session
	}
	return e.Hop
}

func (m *Model) row(e trail.Entry, names int, selected bool) fit.Row {
	t := m.s.Theme
	pointer := "  "
	if selected {
		pointer = t.Accent.Render(theme.Chosen + " ")
	}
	mark := t.Mark(gate.Open)
	say := e.Say
	if e.Failed != "" {
		mark = t.Mark(gate.Shut)
		say += ": " + e.Failed
	}
	if e.Took > 0 {
		say += t.Faint.Render(", " + duration(e.Took))
	}
	head := fmt.Sprintf(" %s%s %s %s  %s ", pointer, t.Faint.Render(fit.Pad(e.At.Local().Format("2 Jan 15:04:05"), 15)), mark,
		fit.Pad(where(e), names), t.Faint.Render(fit.Pad(string(e.Kind), 8)))
	return fit.Hang(head+say, fit.Width(head), m.width)
}

// detail is when the chosen entry was made, by whom, and where.
func (m *Model) detail() string {
	e, ok := m.entries.Selected()
	if !ok {
		return ""
	}
	who := "  by " + e.Who
	if e.Who == "" {
		who = ""
	}
	head := fmt.Sprintf("%s%s", e.At.Local().Format("Monday, 2 January 2006, 15:04:05"), who)
	if e.Hop != "" && e.Hop != e.Session {
		head += "  at " + e.Hop
	}
	return fit.Cut("   "+m.s.Theme.Faint.Render(head), m.width)
}

func duration(d time.Duration) string {
	if d < time.Minute {
		return fit.RoundTrip(d)
	}
	return fit.Ago(d)
}
