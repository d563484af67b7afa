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
	Look
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
	cursor color.Color // of a line that is typed in, nil for the terminal's own
}

// Ground is what the program is drawn on.
type Ground uint8

// The grounds.
const (
	Dark     Ground = iota
	Light           // dark letters on it
	Terminal        // the terminal's own 16 colours, on a ground that is not known
	None            // no colours
)

// Look is what a theme is made for.
type Look struct {
	Ground   Ground
	RedGreen bool // for those who tell red from green badly
	Still    bool // nothing turns or runs
}

// inks are the colours of one ground: those of text stand out against it by 4.5 to 1 at least.
type inks struct{ faint, rule, accent, live, open, ajar, shut string }

// grounds are the inks of each, and with them those for who tells red from green badly.
var grounds = map[Ground][2]inks{
	Dark: {
		{"#8C8C8C", "#55524C", "#E8A95B", "#6FC3C0", "#8DBB8A", "#E3B04B", "#EE7B6C"},
		{"#8C8C8C", "#55524C", "#E6A0C4", "#6FC3C0", "#7FB2F0", "#E3C84B", "#F28E2B"},
	},
	Light: {
		{"#6B6B6B", "#B4B0A8", "#8A4B00", "#00666B", "#2F6B3C", "#8A5A00", "#B3261E"},
		{"#6B6B6B", "#B4B0A8", "#8B2F6B", "#00666B", "#1F5FA8", "#7A6200", "#A84300"},
	},
	// The numbers are the terminal's own: 1 red, 2 green, 3 yellow, 4 blue, 5 magenta, 6 cyan, 8 grey.
	Terminal: {
		{"8", "8", "5", "6", "2", "3", "1"},
		{"8", "8", "5", "6", "4", "3", "1"},
	},
}

// New returns the theme for a dark or a light ground.
func New(dark bool) *Theme {
	if dark {
		return Made(Look{Ground: Dark})
	}
	return Made(Look{Ground: Light})
}

// Made returns the theme of a look.
func Made(l Look) *Theme {
	t := &Theme{Look: l, Strong: lipgloss.NewStyle().Bold(true)}
	both, coloured := grounds[l.Ground]
	if !coloured { // what stands out does so by its weight, and by its mark and word
		t.Accent, t.Key, t.Live, t.shut = t.Strong, t.Strong, t.Strong, t.Strong
		t.Faint, t.Rule = lipgloss.NewStyle().Faint(true), lipgloss.NewStyle().Faint(true)
		return t
	}
	set := both[0]
	if l.RedGreen {
		set = both[1]
	}
	ink := func(c string) lipgloss.Style { return lipgloss.NewStyle().Foreground(lipgloss.Color(c)) }
	t.Faint, t.Rule, t.Accent, t.Live = ink(set.faint), ink(set.rule), ink(set.accent), ink(set.live)
	t.Key, t.open, t.ajar, t.shut = t.Accent.Bold(true), ink(set.open), ink(set.ajar), ink(set.shut).Bold(true)
	t.cursor = lipgloss.Color(set.accent)
	return t
}

var marks = map[gate.Verdict]string{gate.Untried: Untried, gate.Open: Open, gate.Ajar: Ajar, gate.Shut: Shut}

// Turn is the mark of a gate that is being tried, at a step of its turning.
func (t *Theme) Turn(step int) string {
	if t.Still {
		step = 0
	}
	return Turning[step%len(Turning)]
}

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
	s.Cursor.Color = t.cursor
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
