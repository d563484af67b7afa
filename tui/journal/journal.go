// Package journal is the place to read the trail: what was done, by whom, when,
// how long it took and why it failed; narrowed by what is typed.
package journal

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/tui/fit"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// shown is how many entries are read at most.
const shown = 2000

// Left says that the place was left for Routes.
type Left struct{}

// Draw asks the frame to draw who was connected where.
type Draw struct{}

// Model is the place.
type Model struct {
	theme         *theme.Theme
	trail         *trail.Trail // nil where there is none
	why           string       // why there is none
	width, height int
	entries       []trail.Entry
	at            scroll.Cursor
	filter        trail.Filter
	typing        bool
	err           error
	asked         int // readings asked for; answers to older ones are dropped
}

type read struct {
	asked   int
	entries []trail.Entry
	err     error
}

// New returns the place for a trail, which may be nil; why then says why.
func New(t *trail.Trail, why string, th *theme.Theme) *Model {
	return &Model{trail: t, why: why, theme: th}
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) { m.theme = t }

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) { m.width, m.height = width, height }

// Read reads the trail anew.
func (m *Model) Read() tea.Cmd {
	if m.trail == nil {
		return nil
	}
	m.asked++
	t, f, asked := m.trail, m.filter, m.asked
	f.Limit = shown
	return func() tea.Msg {
		entries, err := t.Read(context.Background(), f)
		return read{asked, entries, err}
	}
}

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case read:
		if msg.asked == m.asked {
			m.entries, m.err = msg.entries, msg.err
			m.move(0)
		}
	case tea.MouseWheelMsg:
		m.at.Take(msg, len(m.entries), m.room())
	case tea.KeyPressMsg:
		if m.typing {
			return nil, m.typed(msg)
		}
		return m.key(msg)
	}
	return nil, nil
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	if m.at.Take(msg, len(m.entries), m.room()) {
		return nil, nil
	}
	switch msg.String() {
	case "/":
		m.typing = true
	case "f":
		m.filter.Failed = !m.filter.Failed
		m.at.At = 0
		return nil, m.Read()
	case "r":
		return nil, m.Read()
	case "x":
		return Draw{}, nil
	case "esc", "q", "ctrl+c":
		if m.filter.Text != "" {
			m.filter.Text = ""
			return nil, m.Read()
		}
		return Left{}, nil
	}
	return nil, nil
}

func (m *Model) typed(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "esc", "ctrl+c":
		m.typing, m.filter.Text = false, ""
	case "enter", "tab":
		m.typing = false
		return nil
	case "backspace":
		_, size := utf8.DecodeLastRuneInString(m.filter.Text)
		m.filter.Text = m.filter.Text[:len(m.filter.Text)-size]
	default:
		m.filter.Text += msg.Text
	}
	m.at.At = 0
	return m.Read()
}

// room is how many entries fit.
func (m *Model) room() int { return max(m.height-6, 1) }

func (m *Model) move(by int) { m.at.Move(by, len(m.entries), m.room()) }

// View draws the place.
func (m *Model) View() []string {
	t := m.theme
	note := fmt.Sprintf("%d entries", len(m.entries))
	if len(m.entries) == shown {
		note = fmt.Sprintf("the newest %d", shown)
	}
	if m.filter.Failed {
		note = "failures only · " + note
	}
	title := t.Accent.Render("trail")
	if m.typing || m.filter.Text != "" {
		title += t.Accent.Render(" / ") + t.Strong.Render(m.filter.Text)
		if m.typing {
			title += t.Accent.Render("▏")
		}
	}
	lines := []string{t.Title(title, t.Faint.Render(note), m.width, fit.Spread)}
	switch {
	case m.trail == nil:
		for _, l := range fit.Wrap(m.why, m.width-6) {
			lines = append(lines, "   "+l)
		}
	case m.err != nil:
		lines = append(lines, "   "+t.Mark(gate.Shut)+" "+m.err.Error())
	case len(m.entries) == 0:
		lines = append(lines, "", "   "+t.Faint.Render("Nothing here yet."))
	}
	for i := m.at.Top; i < min(m.at.Top+m.room(), len(m.entries)); i++ {
		lines = append(lines, m.row(m.entries[i], i == m.at.At))
	}
	for len(lines) < m.height-4 {
		lines = append(lines, "")
	}
	lines = append(lines, t.Rule.Render(strings.Repeat("─", max(m.width, 0))))
	lines = append(lines, m.detail()...)
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	return append(lines[:max(m.height-1, 0)], fit.Spread(t.Rule.Render("─ ")+t.Keys(m.hints()...)+" ", "", m.width, t.Rule.Render("─")))
}

func (m *Model) row(e trail.Entry, selected bool) string {
	t := m.theme
	pointer := "  "
	if selected {
		pointer = t.Accent.Render("❯ ")
	}
	mark := t.Mark(gate.Open)
	say := e.Say
	if e.Failed != "" {
		mark = t.Mark(gate.Shut)
		say += ": " + e.Failed
	}
	took := ""
	if e.Took > 0 {
		took = duration(e.Took)
	}
	where := e.Session
	if where == "" {
		where = e.Hop
	}
	return fit.Cut(fmt.Sprintf(" %s%s %s %s  %s %s %s", pointer, t.Faint.Render(e.At.Local().Format("2 Jan 15:04:05")), mark,
		fit.Pad(where, 14), t.Faint.Render(fit.Pad(string(e.Kind), 8)), t.Faint.Render(fmt.Sprintf("%8s", took)), say), m.width)
}

// detail is the selected entry in full.
func (m *Model) detail() []string {
	if m.at.At >= len(m.entries) {
		return nil
	}
	t, e := m.theme, m.entries[m.at.At]
	head := fmt.Sprintf("%s  by %s", e.At.Local().Format("Monday, 2 January 2006, 15:04:05"), e.Who)
	if e.Hop != "" && e.Hop != e.Session {
		head += "  at " + e.Hop
	}
	lines := []string{"   " + t.Faint.Render(head)}
	text := e.Say
	if e.Failed != "" {
		text = e.Failed
	}
	for _, l := range fit.Wrap(text, m.width-6) {
		lines = append(lines, "   "+l)
	}
	return lines[:min(len(lines), 2)]
}

func duration(d time.Duration) string {
	if d < time.Minute {
		return fit.RoundTrip(d)
	}
	return fit.Ago(d)
}

func (m *Model) hints() []theme.Hint {
	if m.typing {
		return []theme.Hint{{Key: "enter", Does: "keep it"}, {Key: "esc", Does: "show all"}}
	}
	return []theme.Hint{{Key: "↑↓", Does: "choose"}, {Key: "/", Does: "find"}, {Key: "f", Does: "failures only"}, {Key: "r", Does: "read again"}, {Key: "x", Does: "draw who was where"}, {Key: "esc", Does: "to Routes"}}
}
