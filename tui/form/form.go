// Package form asks a person for one thing after another in a line or two at the
// top of a place.
package form

import (
	"bytes"

	tea "charm.land/bubbletea/v2"

	"meatus/core/keyfile"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/theme"
)

// Step is one thing that is asked for.
type Step struct {
	Prompt   string
	Value    string // what is there, to be edited
	Proposed string // what is taken where nothing else is typed
	Hidden   bool
	Judge    bool // a new passphrase: say how strong it is
	Again    bool // the same is typed hidden as at the step before
	Bare     bool // nothing is typed, only agreed to
}

// Form asks for its steps in order.
type Form struct {
	What    string   // for the place that asks
	values  []string // "" for what is typed hidden
	secrets [][]byte // which is here

	steps []Step
	at    int
	line  *line.Line
	theme *theme.Theme
	note  string // what was wrong
}

// New returns a form at its first step.
func New(t *theme.Theme, what string, steps ...Step) *Form {
	f := &Form{What: what, steps: steps, theme: t}
	f.begin()
	return f
}

func (f *Form) begin() {
	s := f.steps[f.at]
	f.line = line.New(f.theme, "")
	if s.Hidden {
		f.line.Hide()
	}
	if f.line.Begin(s.Value); s.Proposed != "" {
		f.line.Propose(s.Proposed)
	}
}

// next takes what was typed, and goes to the next step. It tells whether that was the last.
func (f *Form) next() (last bool) {
	f.note = ""
	secret, value := []byte(nil), ""
	if f.steps[f.at].Hidden {
		secret = f.line.Secret()
	} else {
		value = f.line.Text()
	}
	if f.steps[f.at].Again {
		before := f.secrets[f.at-1]
		if !bytes.Equal(before, secret) { // what was asked before stays
			clear(before)
			clear(secret)
			f.at--
			f.values, f.secrets = f.values[:f.at], f.secrets[:f.at]
			f.note = "the two are not the same; type both again"
			f.begin()
			return false
		}
		clear(secret)
		secret = nil
	}
	f.values, f.secrets = append(f.values, value), append(f.secrets, secret)
	if f.at++; f.at < len(f.steps) {
		f.begin()
		return false
	}
	return true
}

// Secrets are what was typed hidden, by step, nil at the others. Whoever uses them wipes
// them.
func (f *Form) Secrets() [][]byte { return f.secrets }

// Wipe empties the form of what was typed hidden. It may be called for nil.
func (f *Form) Wipe() {
	if f == nil {
		return
	}
	for _, secret := range f.secrets {
		clear(secret)
	}
	f.line.Wipe()
}

// Typed is what is typed at the step that is asked for.
func (f *Form) Typed() string { return f.line.Text() }

// Table is what can be done with the form: answered is given what was typed when all
// steps are answered, and left is called when it was given up.
func (f *Form) Table(answered func(what string, values []string) tea.Cmd, left func()) action.Table {
	return action.Table{
		action.On("enter", "continue", func() tea.Cmd {
			if !f.next() {
				return nil
			}
			return answered(f.What, f.values)
		}),
		action.On("esc ctrl+c", "cancel", func() tea.Cmd {
			f.Wipe()
			left()
			return nil
		}),
	}
}

// Take takes a key or what was pasted.
func (f *Form) Take(msg tea.Msg) {
	if !f.steps[f.at].Bare {
		f.line.Take(msg)
	}
}

// View draws the step that is asked for.
func (f *Form) View(width int) []string {
	s := f.steps[f.at]
	if s.Bare {
		var lines []string
		for _, l := range fit.Wrap(s.Prompt, width-5) {
			lines = append(lines, "   "+f.theme.Accent.Render(l))
		}
		return lines
	}
	lines := []string{"   " + f.theme.Accent.Render(s.Prompt) + f.line.View(max(width-len(s.Prompt)-8, 12))}
	if s.Judge {
		say := "a good one"
		if len(f.line.Peek()) == 0 {
			say = ""
		} else if weak := keyfile.JudgePassphrase(f.line.Peek()); weak != "" {
			say = weak
		}
		lines = append(lines, "   "+f.theme.Faint.Render("  "+say))
	}
	if f.note != "" {
		lines = append(lines, "   "+f.theme.Accent.Render(f.note))
	}
	return lines
}
