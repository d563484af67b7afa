// Package shells is the place of a shell: its terminal, with one line above that
// answers "where am I". Every key goes to the far side but the leader, and those
// that scroll back.
package shells

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/plain"
	"meatus/core/route"
	"meatus/core/shell"
	"meatus/core/term"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Changed says that a shell has a new frame, or has ended.
type Changed struct{ ID int }

// Closed asks the frame to put an ended shell away.
type Closed struct{ ID int }

// Again asks the frame to walk an ended shell's route again.
type Again struct{ ID int }

// Shell is one shell and how it is shown.
type Shell struct {
	ID    int
	Route route.Route
	*shell.Shell
	back int // lines scrolled back
	seen uint64
}

// Bells tells whether a bell rang since the shell was last shown.
func (s *Shell) Bells() bool { return s.Frame().Bells > s.seen }

// Wait waits for the shell's next change.
func (s *Shell) Wait() tea.Cmd {
	return func() tea.Msg {
		select {
		case <-s.Shell.Changed():
		case <-s.Ended():
		}
		return Changed{s.ID}
	}
}

// Where says where a shell is, in words: user, machine, address and way.
func (s *Shell) Where() (who, way string) {
	target := s.Route.Target()
	stations := []string{"here"}
	for _, h := range s.Route.Hops {
		stations = append(stations, h.Name)
	}
	return fmt.Sprintf("%s on %s (%s)", plain.Line(target.User, 40), target.Name, target.Host), strings.Join(stations, " ▸ ")
}

// Model shows one shell.
type Model struct {
	theme         *theme.Theme
	width, height int
	shell         *Shell
	notice        string // stands in the line above until a key is pressed
	rows          rowCache
}

// New returns the place without a shell.
func New(t *theme.Theme) *Model { return &Model{theme: t} }

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) { m.theme = t }

// Show shows a shell.
func (m *Model) Show(s *Shell) {
	m.shell, m.notice = s, ""
	m.resize()
}

// Shell is the one that shows, or nil.
func (m *Model) Shell() *Shell { return m.shell }

// Notice puts a text into the line above, until a key is pressed.
func (m *Model) Notice(text string) { m.notice = text }

// SetSize changes the size of the place, the line above included.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.resize()
}

// Room is the size of the terminal.
func (m *Model) Room() (cols, rows int) { return m.width, max(m.height-1, 1) }

func (m *Model) resize() {
	if m.shell != nil && m.width > 0 {
		m.shell.Resize(m.Room())
	}
}

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg) {
	if m.shell == nil {
		return nil
	}
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		m.notice = ""
		if !m.shell.Live() {
			return m.afterEnd(msg)
		}
		m.key(msg)
	case tea.PasteMsg:
		m.toEnd()
		if !m.shell.Type(term.EncodePaste(msg.Content, m.shell.Frame().Modes)) {
			m.notice = "the far side takes no more input just now"
		}
	case tea.MouseWheelMsg:
		switch msg.Button {
		case tea.MouseWheelUp:
			m.scroll(3)
		case tea.MouseWheelDown:
			m.scroll(-3)
		}
	}
	return nil
}

func (m *Model) afterEnd(msg tea.KeyPressMsg) (wish tea.Msg) {
	id := m.shell.ID
	switch msg.String() {
	case "enter", "esc", "q":
		return Closed{id}
	case "a":
		return Again{id}
	case "pgup", "shift+pgup":
		m.scroll(m.height / 2)
	case "pgdown", "shift+pgdown":
		m.scroll(-m.height / 2)
	}
	return nil
}

func (m *Model) key(msg tea.KeyPressMsg) {
	switch msg.String() {
	case "shift+pgup":
		m.scroll(m.height / 2)
		return
	case "shift+pgdown":
		m.scroll(-m.height / 2)
		return
	}
	m.Send(msg)
}

// Send types a key at the far side.
func (m *Model) Send(msg tea.KeyPressMsg) {
	m.toEnd()
	if out := toKey(msg).Encode(m.shell.Frame().Modes); len(out) > 0 && !m.shell.Type(out) {
		m.notice = "the far side takes no more input just now"
	}
}

func (m *Model) scroll(by int) {
	f := m.shell.Frame()
	if f.Alternate {
		return
	}
	m.shell.back = min(max(m.shell.back+by, 0), f.Scrolled)
	m.shell.Look(m.shell.back)
}

func (m *Model) toEnd() {
	if m.shell.back > 0 {
		m.shell.back = 0
		m.shell.Look(0)
	}
}

// View draws the place: waiting says what waits elsewhere, roundTrip is that of
// the shell's link. cursor is where the terminal's cursor is, nil where it is
// hidden.
func (m *Model) View(waiting string, roundTrip time.Duration) (lines []string, cursor *tea.Cursor) {
	if m.shell == nil {
		return nil, nil
	}
	f := m.shell.Frame()
	m.shell.seen = f.Bells
	lines = append(lines, m.where(f, waiting, roundTrip))
	_, rows := m.Room()
	for i := 0; i < rows && i < len(f.Lines); i++ {
		lines = append(lines, m.rows.render(f, f.Lines[i]))
	}
	if f.CursorOn && m.shell.Live() {
		cursor = tea.NewCursor(f.X, f.Y+1)
		cursor.Shape, cursor.Blink = shape(f.Shape)
	}
	return lines, cursor
}

func shape(s term.CursorShape) (tea.CursorShape, bool) {
	blink := s%2 == 1 || s == 0
	switch s {
	case 3, 4:
		return tea.CursorUnderline, blink
	case 5, 6:
		return tea.CursorBar, blink
	}
	return tea.CursorBlock, blink
}

// where is the line above the terminal.
func (m *Model) where(f *term.Frame, waiting string, roundTrip time.Duration) string {
	t, s := m.theme, m.shell
	who, way := s.Where()
	left := " " + t.Accent.Render("▌") + t.Strong.Render(who) + t.Faint.Render(" · ") + way
	var right string
	switch {
	case !s.Live():
		e := s.Ending()
		switch {
		case e.Err != nil:
			right = t.Accent.Render("lost: " + fit.Cut(e.Err.Error(), m.width/2))
		case e.Signal != "":
			right = t.Accent.Render("ended by signal " + plain.Line(e.Signal, 20))
		default:
			right = t.Accent.Render(fmt.Sprintf("ended, status %d", e.Status))
		}
		right += t.Faint.Render(" · ") + t.Keys(theme.Hint{Key: "enter", Does: "back"}, theme.Hint{Key: "a", Does: "walk again"})
	case m.notice != "":
		right = t.Accent.Render(m.notice)
	case waiting != "":
		right = t.Accent.Render(waiting)
	case s.back > 0:
		right = t.Accent.Render(fmt.Sprintf("%d lines back", f.Back)) + t.Faint.Render(" of "+fmt.Sprint(f.Scrolled))
	default:
		if rtt := fit.RoundTrip(roundTrip); rtt != "" {
			right = t.Faint.Render(rtt + " · ")
		}
		right += t.Faint.Render("idle " + fit.Ago(s.Idle()))
	}
	return fit.Spread(left, right+" ", m.width, " ")
}

var specials = map[rune]term.Special{
	tea.KeyUp: term.Up, tea.KeyDown: term.Down, tea.KeyRight: term.Right, tea.KeyLeft: term.Left,
	tea.KeyHome: term.Home, tea.KeyEnd: term.End, tea.KeyInsert: term.Insert, tea.KeyDelete: term.Delete,
	tea.KeyPgUp: term.PageUp, tea.KeyPgDown: term.PageDown, tea.KeyBackspace: term.Backspace, tea.KeyTab: term.Tab,
	tea.KeyEnter: term.Enter, tea.KeyKpEnter: term.Enter, tea.KeyEscape: term.Escape,
	tea.KeyF1: term.F1, tea.KeyF2: term.F2, tea.KeyF3: term.F3, tea.KeyF4: term.F4, tea.KeyF5: term.F5, tea.KeyF6: term.F6,
	tea.KeyF7: term.F7, tea.KeyF8: term.F8, tea.KeyF9: term.F9, tea.KeyF10: term.F10, tea.KeyF11: term.F11, tea.KeyF12: term.F12,
}

// keypad is what stands on the keys of the numeric keypad.
var keypad = map[rune]rune{
	tea.KeyKp0: '0', tea.KeyKp1: '1', tea.KeyKp2: '2', tea.KeyKp3: '3', tea.KeyKp4: '4', tea.KeyKp5: '5', tea.KeyKp6: '6',
	tea.KeyKp7: '7', tea.KeyKp8: '8', tea.KeyKp9: '9', tea.KeyKpMultiply: '*', tea.KeyKpPlus: '+', tea.KeyKpComma: ',',
	tea.KeyKpMinus: '-', tea.KeyKpDecimal: '.', tea.KeyKpDivide: '/', tea.KeyKpEqual: '=', tea.KeyKpEnter: '\r',
}

// toKey is a key press as the terminal knows it.
func toKey(msg tea.KeyPressMsg) term.Key {
	k := term.Key{Special: specials[msg.Code], Text: msg.Text, Shift: msg.Mod.Contains(tea.ModShift), Alt: msg.Mod.Contains(tea.ModAlt), Ctrl: msg.Mod.Contains(tea.ModCtrl)}
	if r, ok := keypad[msg.Code]; ok {
		k.Rune, k.Keypad = r, true
	} else if k.Special == term.NoKey {
		k.Rune = msg.Code
	}
	return k
}
