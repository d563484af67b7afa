// Package form asks a person for one thing after another in a line or two at the
// top of a place.
package form

import (
	tea "charm.land/bubbletea/v2"

	"meatus/core/keyfile"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
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
	values []string

	steps []Step
	at    int
	line  *line.Line
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
	f.line = line.New(f.theme, "")
	if s.Hidden {
		f.line.Hide()
	}
	f.line.Begin(s.Value)
}

// Typed is what is typed at the step that is asked for.
func (f *Form) Typed() string { return f.line.Text() }

// Table is what can be done with the form: answered is given what was typed when all
// steps are answered, and left is called when it was given up.
func (f *Form) Table(answered func(what string, values []string) tea.Cmd, left func()) place.Table {
	return place.Table{
		place.On("enter", "go on", func() tea.Cmd {
			f.values = append(f.values, f.line.Text())
			if f.at++; f.at < len(f.steps) {
				f.begin()
				return nil
			}
			return answered(f.What, f.values)
		}),
		place.On("esc ctrl+c", "leave it", func() tea.Cmd { left(); return nil }),
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
		if weak := keyfile.JudgePassphrase([]byte(f.line.Text())); weak != "" {
			say = weak
		}
		lines = append(lines, "   "+f.theme.Faint.Render("  "+say))
	}
	return lines
}
