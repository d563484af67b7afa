// Package settle decides what a changed host key means: nothing yet, that the
// address now belongs to another machine we know, or that the machine was
// replaced. Both ways on ask for typing that cannot happen by accident, and
// change one record alone; its earlier key becomes history.
package settle

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/login"
	"meatus/core/trail"
	"meatus/core/vouch"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
	"meatus/tui/stack"
)

// The messages of the task's own: what is known of the address and the host's history,
// why the record could not be changed, and that it was.
type (
	known struct {
		before  []string // hosts that were seen at the address before, with when
		history []vouch.Vouch
	}
	refused struct{ err error }
	settled struct{}
)

// tail is how many characters of the new fingerprint have to be typed.
const tail = 6

// Model is the decision.
type Model struct {
	stack.Base
	s     *place.Services
	what  *login.ChangedIdentity
	known known
	input *line.Line
	note  string
}

// New asks what a changed identity means.
func New(s *place.Services, what *login.ChangedIdentity) stack.Layer {
	return &Model{s: s, what: what, input: line.New(s.Theme, "› ")}
}

// Show looks up what is known of the address and the host.
func (m *Model) Show() tea.Cmd {
	record, t, c := m.s.Workspace().Vouched, m.s.Trail, m.what
	return m.s.Run(func() tea.Msg {
		var k known
		if t != nil {
			k.before = t.SightedAt(c.Seen)
		}
		k.history, _ = record.History(c.At())
		return k
	})
}

// Typing tells that keys go into the line.
func (m *Model) Typing() bool { return true }

// Table is what can be done.
func (m *Model) Table() action.Table {
	return action.Table{
		action.On("enter", "do what is typed", m.decide),
		action.On("esc ctrl+c", "leave it refused", func() tea.Cmd { m.s.Close(); return nil }),
	}
}

func (m *Model) fingerprint() string { return ssh.FingerprintSHA256(m.what.Key) }

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case known:
		m.known = msg
	case refused:
		m.note = msg.err.Error()
	case settled:
		m.s.Close()
	case tea.PasteMsg:
		m.paste(msg)
	case tea.KeyPressMsg:
		m.note = ""
		m.input.Take(msg)
	}
	return nil
}

// paste takes a whole fingerprint, which somebody has from elsewhere, as on a first visit. A
// piece of one, or a name, may be copied from here unread.
func (m *Model) paste(msg tea.PasteMsg) {
	switch match, ok := vouch.Compare(strings.TrimSpace(msg.Content), m.what.Key); {
	case ok && match.Same:
		m.note = "it matches the new key; enter replaces the trusted one"
		m.input.Begin(m.fingerprint())
	case ok:
		m.note = "that is another fingerprint than the new key's; nothing was changed"
	default:
		m.note = "type it by hand, or paste the whole fingerprint that you expect"
	}
}

// decide does what was typed: the end of the new fingerprint, or the whole of it, replaces the
// record, the name of the machine the key belongs to gives it the address.
func (m *Model) decide() tea.Cmd {
	typed := strings.TrimSpace(m.input.Text())
	if f := m.fingerprint(); typed == f[len(f)-tail:] || typed == f {
		return m.replace("replaced by a person's word", fmt.Sprintf("the new host key of %s is trusted", m.what.Hop))
	}
	for _, v := range m.what.Elsewhere {
		if typed == v.Host {
			return m.replace("the address went to "+v.Host, fmt.Sprintf("%s is now known as the machine %s", m.what.Host, v.Host))
		}
	}
	m.note = "that is neither; nothing was changed"
	m.input.Begin("")
	return nil
}

func (m *Model) replace(why, say string) tea.Cmd {
	vouched, c, b, record := m.s.Workspace().Vouched, m.what, m.s.Board, m.s.Record
	return m.s.Run(func() tea.Msg {
		if err := vouched.Replace(c.At(), c.Key, c.Seen, time.Now(), why); err != nil {
			return refused{err}
		}
		b.Say(c.Session, say)
		record(trail.Entry{Kind: trail.Vouch, Session: c.Session, Say: say})
		return settled{}
	})
}

// wordWidth is how wide the words before the rows are, with a blank behind the longest.
const wordWidth = len("seen here") + 1

// View draws the decision in height lines.
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t, c := m.s.Theme, m.what
	lines := []string{t.Title(t.Verdict(gate.Shut).Render("changed identity")+t.Rule.Render(" ─ ")+t.Strong.Render(c.Hop), t.Faint.Render(c.Host), width, fit.Spread)}
	if height > 12 {
		lines = append(lines, "")
	}
	now := m.fingerprint()
	old := c.Vouched[len(c.Vouched)-1]
	row := func(word, kind, print, against, when string) {
		lines = append(lines, fit.Cut("   "+t.Faint.Render(fit.Pad(word, wordWidth))+fit.Pad(kind, 20)+m.differing(print, against), width))
		if width < 100 {
			lines = append(lines, fit.Cut("   "+fit.Pad("", wordWidth)+t.Faint.Render(when), width))
			return
		}
		lines[len(lines)-1] += "  " + t.Faint.Render(when)
	}
	row("vouched", old.Algorithm, old.SHA256, now, old.When.Local().Format("2 Jan 2006")+" "+old.Source())
	row("now", c.Key.Type(), now, old.SHA256, "at "+c.Seen)
	for _, v := range m.known.history {
		if !v.Current() {
			row("earlier", v.Algorithm, v.SHA256, now, fmt.Sprintf("until %s: %s", v.Until.Local().Format("2 Jan 2006"), v.Ended))
		}
	}
	if len(m.known.before) > 0 {
		lines = append(lines, fit.Hang("   "+t.Faint.Render(fit.Pad("seen here", wordWidth))+t.Faint.Render(strings.Join(m.known.before, ", ")), 3+wordWidth, width).Whole...)
	}
	lines = append(lines, "")
	say := func(format string, args ...any) {
		for _, l := range fit.Wrap(fmt.Sprintf(format, args...), width-6) {
			lines = append(lines, "   "+l)
		}
	}
	for _, v := range c.Elsewhere {
		say("The key is that of %s, trusted %s. If this address now belongs to that machine, type its name: %s",
			v.Host, v.When.Local().Format("2 Jan 2006"), t.Accent.Render(v.Host))
	}
	say("If the machine was replaced, compare the new fingerprint with what its console shows, and type its last %d characters, or paste the whole of it from there.", tail)
	lines = append(lines, "   "+m.input.View(60))
	if m.note != "" {
		lines = append(lines, "   "+t.Accent.Render(m.note))
	}
	return lines[:min(len(lines), height)]
}

// differing draws a fingerprint with the part that differs from the other marked.
func (m *Model) differing(print, other string) string {
	return m.s.Theme.Differing(strings.TrimPrefix(print, "SHA256:"), strings.TrimPrefix(other, "SHA256:"))
}
