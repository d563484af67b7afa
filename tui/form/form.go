// Package form asks a person for one thing after another in a line or two at the
// top of a place.
package form

import (
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/core/keyfile"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Step is one thing that is asked for.
type Step struct {
	Prompt string
	Value  string // proposed
	Hidden bool
	Judge  bool // a new passphrase: say how strong it is
	Bare   bool // nothing is typed, only agreed to
}

// Form asks for its steps in order. What is typed hidden goes with it.
type Form struct {
	What   string // for the place that asks
	Values []string

	steps []Step
	at    int
	input textinput.Model
	theme *theme.Theme
}

// New returns a form at its first step.
func New(t *theme.Theme, what string, steps ...Step) *Form {
	f := &Form{What: what, steps: steps, theme: t}
	f.begin()
	return f
}

func (f *Form) begin() {
	s := f.steps[f.at]
	f.input = textinput.New()
	f.input.Prompt = ""
	f.input.SetVirtualCursor(true)
	if s.Hidden {
		f.input.EchoMode, f.input.EchoCharacter = textinput.EchoPassword, '•'
	}
	f.theme.Input(&f.input)
	f.input.SetValue(s.Value)
	f.input.CursorEnd()
	f.input.Focus()
}

// SetTheme changes the styles.
func (f *Form) SetTheme(t *theme.Theme) {
	f.theme = t
	t.Input(&f.input)
}

// Typed is what is typed at the step that is asked for.
func (f *Form) Typed() string { return f.input.Value() }

// Update takes a message. left tells that the form was given up, and done that all
// steps are answered, which Values has then.
func (f *Form) Update(msg tea.Msg) (done, left bool, cmd tea.Cmd) {
	if key, ok := msg.(tea.KeyPressMsg); ok {
		switch key.String() {
		case "esc", "ctrl+c":
			return false, true, nil
		case "enter":
			f.Values = append(f.Values, f.input.Value())
			if f.at++; f.at < len(f.steps) {
				f.begin()
				return false, false, nil
			}
			return true, false, nil
		}
	}
	if !f.steps[f.at].Bare {
		f.input, cmd = f.input.Update(msg)
	}
	return false, false, cmd
}

// View draws the step that is asked for.
func (f *Form) View(width int) []string {
	s := f.steps[f.at]
	f.input.SetWidth(max(width-len(s.Prompt)-8, 12))
	if s.Bare {
		var lines []string
		for _, l := range fit.Wrap(s.Prompt, width-5) {
			lines = append(lines, "   "+f.theme.Accent.Render(l))
		}
		return lines
	}
	lines := []string{"   " + f.theme.Accent.Render(s.Prompt) + f.input.View()}
	if s.Judge {
		say := "a good one"
		if weak := keyfile.JudgePassphrase([]byte(f.input.Value())); weak != "" {
			say = weak
		}
		lines = append(lines, "   "+f.theme.Faint.Render("  "+say))
	}
	return lines
}

// Hints are the form's keys.
func Hints() []theme.Hint {
	return []theme.Hint{{Key: "enter", Does: "go on"}, {Key: "esc", Does: "leave it"}}
}
