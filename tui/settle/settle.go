// Package settle decides what a changed host key means: nothing yet, that the
// address now belongs to another machine we know, or that the machine was
// replaced. Both ways on ask for typing that cannot happen by accident, and
// change one record alone; its earlier key becomes history.
package settle

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Left says that nothing was decided.
type Left struct{}

// Settled says that the record of a host was changed.
type Settled struct {
	Session string
	Say     string
}

// notSettled says why the record could not be changed.
type notSettled struct{ err error }

// tail is how many characters of the new fingerprint have to be typed.
const tail = 6

// Model is the decision.
type Model struct {
	theme  *theme.Theme
	width  int
	record *vouch.Record
	what   *walk.ChangedIdentity
	before []string // hosts that were seen at this address before, with when
	input  textinput.Model
	note   string
}

// New asks what a changed identity means. before are the hosts that were seen at
// its address, with when.
func New(record *vouch.Record, what *walk.ChangedIdentity, before []string, t *theme.Theme, width int) *Model {
	m := &Model{theme: t, width: width, record: record, what: what, before: before, input: textinput.New()}
	m.input.Prompt = "› "
	m.input.SetVirtualCursor(true)
	m.input.SetWidth(60)
	t.Input(&m.input)
	m.input.Focus()
	return m
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	t.Input(&m.input)
}

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

func (m *Model) fingerprint() string { return ssh.FingerprintSHA256(m.what.Key) }

// Update takes a message. It returns what is asked of the frame, or nil, and
// what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case notSettled:
		m.note = msg.err.Error()
		return nil, nil
	case tea.KeyPressMsg:
		switch msg.String() {
		case "esc", "ctrl+c":
			return Left{}, nil
		case "enter":
			return nil, m.decide()
		}
	case tea.PasteMsg: // what is pasted was not read
		m.note = "type it, so that it is read"
		return nil, nil
	default:
		return nil, nil
	}
	m.note = ""
	m.input, cmd = m.input.Update(msg)
	return nil, cmd
}

// decide does what was typed: the end of the new fingerprint replaces the record,
// the name of the machine the key belongs to gives it the address.
func (m *Model) decide() tea.Cmd {
	typed := strings.TrimSpace(m.input.Value())
	if f := m.fingerprint(); typed == f[len(f)-tail:] {
		return m.replace("replaced by a person's word", fmt.Sprintf("%s is vouched for with its new key", m.what.Hop))
	}
	for _, v := range m.what.Elsewhere {
		if typed == v.Host {
			return m.replace("the address went to "+v.Host, fmt.Sprintf("%s is now known as the machine %s", m.what.Host, v.Host))
		}
	}
	m.note = "that is neither; nothing was changed"
	m.input.Reset()
	return nil
}

func (m *Model) replace(why, say string) tea.Cmd {
	record, c := m.record, m.what
	return func() tea.Msg {
		if err := record.Replace(c.Host, c.Port, c.Key, c.Seen, time.Now(), why); err != nil {
			return notSettled{err}
		}
		return Settled{c.Session, say}
	}
}

// View draws the decision in height lines.
func (m *Model) View(height int) []string {
	t, c := m.theme, m.what
	lines := []string{t.Title(t.Verdict(gate.Shut).Render("changed identity")+t.Rule.Render(" ─ ")+t.Strong.Render(c.Hop), t.Faint.Render(c.Host), m.width, fit.Spread)}
	if height > 12 {
		lines = append(lines, "")
	}
	now := m.fingerprint()
	old := c.Vouched[len(c.Vouched)-1]
	row := func(word, kind, print, against, when string) {
		lines = append(lines, "   "+t.Faint.Render(fit.Pad(word, 9))+fit.Pad(kind, 20)+m.differing(print, against)+"  "+t.Faint.Render(when))
	}
	row("vouched", old.Algorithm, old.SHA256, now, fmt.Sprintf("%s by %s", old.When.Local().Format("2 Jan 2006"), old.By))
	row("now", c.Key.Type(), now, old.SHA256, "at "+c.Seen)
	if history, err := m.record.History(c.Host, c.Port); err == nil {
		for _, v := range history {
			if !v.Current() {
				row("earlier", v.Algorithm, v.SHA256, now, fmt.Sprintf("until %s: %s", v.Until.Local().Format("2 Jan 2006"), v.Ended))
			}
		}
	}
	if len(m.before) > 0 {
		lines = append(lines, fit.Cut("   "+t.Faint.Render(fit.Pad("seen here", 9))+t.Faint.Render(strings.Join(m.before, ", ")), m.width))
	}
	lines = append(lines, "")
	say := func(format string, args ...any) {
		for _, l := range fit.Wrap(fmt.Sprintf(format, args...), m.width-6) {
			lines = append(lines, "   "+l)
		}
	}
	for _, v := range c.Elsewhere {
		say("The key it shows is that of %s, vouched %s. If this address now belongs to that machine, type its name: %s",
			v.Host, v.When.Local().Format("2 Jan 2006"), t.Accent.Render(v.Host))
	}
	say("If the machine was replaced, compare the new fingerprint with what its console shows, and type its last %d characters.", tail)
	lines = append(lines, "   "+m.input.View())
	if m.note != "" {
		lines = append(lines, "   "+t.Accent.Render(m.note))
	}
	return lines[:min(len(lines), height)]
}

// differing draws a fingerprint with the part that differs from the other marked.
func (m *Model) differing(print, other string) string {
	return m.theme.Differing(strings.TrimPrefix(print, "SHA256:"), strings.TrimPrefix(other, "SHA256:"))
}

// Hints are the keys of the decision.
func (m *Model) Hints() []theme.Hint {
	return []theme.Hint{{Key: "enter", Does: "do what is typed"}, {Key: "esc", Does: "leave it refused"}}
}
