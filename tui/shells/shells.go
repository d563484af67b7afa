// Package shells is the place of a shell: its terminal, with one line above that
// answers "where am I", and where it is asked for another shell beside it. Every
// key goes to the far side but the leader, and those that scroll back; what else
// can be done with a shell is reached through the leader.
package shells

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/shell"
	"meatus/core/term"
	"meatus/tui/line"
	"meatus/tui/theme"
)

// Changed says that a shell has a new frame, or has ended.
type Changed struct{ ID int }

// Closed asks the frame to put an ended shell away.
type Closed struct{ ID int }

// Again asks the frame to walk an ended shell's route again.
type Again struct{ ID int }

// Copy asks the frame to put a text on the clipboard of the local terminal.
type Copy struct{ Text string }

// OpenLink asks the frame to have a link opened by the program that a person has named for that.
type OpenLink struct{ Link string }

// Run asks the frame to do something that reads or writes files, and to show what it returns, where that is not "".
type Run func() (say string)

// Shell is one shell and how it is shown.
type Shell struct {
	ID    int
	Route route.Route // as it was asked for; see Way
	*shell.Shell
	back   int    // lines scrolled back
	bells  uint64 // heard when it was last shown
	seenAt time.Time
}

// News says what a shell has done since it was last shown: "bell", "output" or
// "".
func (s *Shell) News() string {
	switch {
	case s.Frame().Bells > s.bells:
		return "bell"
	case s.LastByte().After(s.seenAt):
		return "output"
	}
	return ""
}

// saw notes that the shell is shown now.
func (s *Shell) saw(f *term.Frame) { s.bells, s.seenAt = f.Bells, time.Now() }

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

// Way is the way that the shell goes, of several.
func (s *Shell) Way() route.Route {
	if s.Shell == nil {
		return s.Route
	}
	return s.Shell.Route()
}

// Where says where a shell is, in words: user, machine, address and way.
func (s *Shell) Where() (who, through string) {
	way := s.Way()
	target := way.Target()
	stations := []string{"here"}
	for _, h := range way.Hops {
		stations = append(stations, h.Name)
	}
	return fmt.Sprintf("%s on %s (%s)", sanitize.Line(target.User, 40), target.Name, target.Host), strings.Join(stations, " ▸ ")
}

// mode is what keys do while the place does something of its own.
type mode uint8

const (
	typing    mode = iota // keys go to the far side
	searching             // a text to look for is typed
	stepping              // from match to match
	selecting             // a cursor moves over what was shown
	pasting               // several lines wait for a yes
	saving                // a file's name is typed
	logging               // a file's name is typed
	manying               // typing to several waits for a yes
	linking               // links of what was shown are gone through
)

// Model shows one shell, or several that share the room.
type Model struct {
	theme         *theme.Theme
	width, height int
	shell         *Shell // the one that has the keys, or nil
	panes         []*Shell
	arrangement   arrangement
	share         int    // of the width that the left of two has, in hundredths
	many          bool   // what is typed goes to all that show
	notice        string // stands in the line above until a key is pressed
	rows          rowCache

	mode    mode
	input   *line.Line
	marked  span       // what is selected or found
	cursor  term.Point // while selecting with keys
	held    string     // what was pasted
	links   []string   // of what was shown
	link    int        // which of them is chosen
	jumped  bool       // a command was gone back to, which is marked
	whole   bool       // everything is saved, not the screen alone
	drag    bool       // the mouse selects
	divide  bool       // the mouse moves the divide
	wish    tea.Msg    // of an action, for the frame
	clicked time.Time
}

// span is what is marked on the screen, from one cell up to and with another.
type span struct {
	from, to term.Point
	on       bool
}

// New returns the place without a shell.
func New(t *theme.Theme) *Model {
	return &Model{theme: t, share: 50, input: line.New(t, "")}
}

// Show shows a shell: in the place of the one that has the keys, or where it shows already, by
// giving it the keys.
func (m *Model) Show(s *Shell) {
	m.leaveMode()
	m.endMany()
	m.notice = ""
	if slices.Contains(m.panes, s) {
		m.shell = s
		return
	}
	if i := slices.Index(m.panes, m.shell); i >= 0 && len(m.panes) > 1 {
		m.panes[i] = s
	} else {
		m.panes = []*Shell{s}
	}
	m.shell = s
	m.resize()
}

// Shell is the one that has the keys, or nil.
func (m *Model) Shell() *Shell { return m.shell }

// Notice puts a text into the line above, until a key is pressed.
func (m *Model) Notice(text string) { m.notice = text }

// SetSize changes the size of the place, the line above included.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.resize()
}

// Room is the size of a terminal that is alone.
func (m *Model) Room() (cols, rows int) { return m.width, max(m.height-1, 1) }

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg) {
	if m.shell == nil {
		return nil
	}
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		m.notice = ""
		switch {
		case m.mode != typing:
			return m.modeKey(msg)
		case !m.shell.Live():
			return m.afterEnd(msg)
		}
		if _, lost := m.shell.Lost(); lost && msg.String() == "esc" {
			return Closed{m.shell.ID}
		}
		m.key(msg)
	case tea.PasteMsg:
		m.paste(msg)
	case tea.MouseMsg:
		return m.mouse(msg)
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
	m.sendAll(keyFor(msg))
}

// swapErase makes backspace send what control and backspace sends, and the other
// way round.
func swapErase(out []byte) []byte {
	swapped := []byte(nil)
	for _, b := range out {
		switch b {
		case 0x7f:
			b = 0x08
		case 0x08:
			b = 0x7f
		}
		swapped = append(swapped, b)
	}
	return swapped
}

func (m *Model) send(out []byte) {
	if len(out) == 0 || m.shell.Type(out) {
		return
	}
	m.notice = "the remote shell accepts no input at the moment"
	if _, lost := m.shell.Lost(); lost {
		m.notice = "not typed: the connection was lost, and the new shell is another"
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
	if m.jumped {
		m.jumped, m.marked = false, span{}
	}
	if m.shell.back > 0 {
		m.shell.back = 0
		m.shell.Look(0)
	}
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
