// Package theme is how the program looks: its colours on dark and light grounds
// and its marks. Every style in the interface comes from here.
//
// The ground is the terminal's own. There is one warm accent; a verdict is a
// mark, a word and a colour, so that none of it depends on colour alone.
package theme

import (
	"image/color"
	"strings"

	"charm.land/bubbles/v2/textinput"
	"charm.land/lipgloss/v2"

	"meatus/core/gate"
)

// Theme is the set of styles for one ground.
type Theme struct {
	Dark   bool
	Text   lipgloss.Style // what is read
	Faint  lipgloss.Style // what is there when looked for
	Rule   lipgloss.Style // hairlines and idle rails
	Strong lipgloss.Style // names
	Accent lipgloss.Style // where the eye should go
	Key    lipgloss.Style // a key to press
	Live   lipgloss.Style // what carries traffic
	open   lipgloss.Style
	ajar   lipgloss.Style
	shut   lipgloss.Style
}

// New returns the theme for a dark or a light ground.
func New(dark bool) *Theme {
	pick := lipgloss.LightDark(dark)
	ink := func(light, dark string) lipgloss.Style {
		return lipgloss.NewStyle().Foreground(pick(lipgloss.Color(light), lipgloss.Color(dark)))
	}
	accent := ink("#8A4B00", "#E8A95B")
	return &Theme{
		Dark:   dark,
		Text:   lipgloss.NewStyle(),
		Faint:  ink("#6B6B6B", "#8C8C8C"),
		Rule:   ink("#B4B0A8", "#55524C"),
		Strong: lipgloss.NewStyle().Bold(true),
		Accent: accent,
		Key:    accent.Bold(true),
		Live:   ink("#00666B", "#6FC3C0"),
		open:   ink("#2F6B3C", "#8DBB8A"),
		ajar:   ink("#8A5A00", "#E3B04B"),
		shut:   ink("#B3261E", "#EE7B6C").Bold(true),
	}
}

var marks = map[gate.Verdict]string{gate.Untried: "○", gate.Open: "●", gate.Ajar: "◐", gate.Shut: "╳"}

// Turning are the marks of a gate that is being tried, one after another.
var Turning = []string{"◜", "◝", "◞", "◟"}

// Mark is a verdict's mark, in its colour.
func (t *Theme) Mark(v gate.Verdict) string { return t.Verdict(v).Render(marks[v]) }

// Verdict is the style of a verdict's word.
func (t *Theme) Verdict(v gate.Verdict) lipgloss.Style {
	switch v {
	case gate.Open:
		return t.open
	case gate.Ajar:
		return t.ajar
	case gate.Shut:
		return t.shut
	}
	return t.Faint
}

// Differing renders a fingerprint with the part that differs from another marked.
func (t *Theme) Differing(print, other string) string {
	var b strings.Builder
	for i := range len(print) {
		style := t.Faint
		if i >= len(other) || print[i] != other[i] {
			style = t.shut
		}
		b.WriteString(style.Render(print[i : i+1]))
	}
	return b.String()
}

// Input gives a text input our styles.
func (t *Theme) Input(m *textinput.Model, proposed bool) {
	s := m.Styles()
	s.Focused.Prompt, s.Focused.Text, s.Focused.Placeholder = t.Accent, t.Text, t.Faint
	if proposed {
		s.Focused.Text = t.Faint
	}
	s.Blurred.Prompt, s.Blurred.Text, s.Blurred.Placeholder = t.Faint, t.Faint, t.Faint
	s.Cursor.Blink = false
	var c color.Color = lipgloss.Color("#E8A95B")
	if !t.Dark {
		c = lipgloss.Color("#8A4B00")
	}
	s.Cursor.Color = c
	m.SetStyles(s)
}

// Keys renders key hints as "enter open shell · n new".
func (t *Theme) Keys(hints ...Hint) string {
	out := ""
	for i, h := range hints {
		if i > 0 {
			out += t.Faint.Render(" · ")
		}
		out += t.Key.Render(h.Key) + " " + t.Faint.Render(h.Does)
	}
	return out
}

// Hint is a key and what it does, in words.
type Hint struct{ Key, Does string }

// Title renders a hairline with text at its ends.
func (t *Theme) Title(left, right string, width int, spread func(l, r string, w int, fill string) string) string {
	if right != "" {
		right = " " + right + t.Rule.Render(" ─")
	}
	return spread(t.Rule.Render("─ ")+left+" ", right, width, t.Rule.Render("─"))
}
