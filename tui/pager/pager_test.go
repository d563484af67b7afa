package pager

import (
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

const text = "# A heading\n\nFirst words of a\nparagraph that is filled.\n\n- an item that goes\n  on in a line\n1. another\n\n| name | what |\n|---|---|\n| reef | a site \\| more |\n\n```\ncode  as it is\n```\n"

func TestLinesAreFilled(t *testing.T) {
	want := []string{"# A heading", "", "First words of a", "paragraph that is", "filled.", "", "- an item that goes", "  on in a line", "1. another", "", "name  what", "reef  a site | more", "", "    code  as it is"}
	if got := Lines(text, 20); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	for _, width := range []int{1, 7, 80} {
		for _, line := range Lines(text+strings.Repeat("long-word", 30), width) {
			if ansi.StringWidth(line) > width {
				t.Errorf("%d columns in %d: %q", ansi.StringWidth(line), width, line)
			}
		}
	}
}

func TestATextIsScrolledAndSearched(t *testing.T) {
	m := newModel("test", text+strings.Repeat("\nmore\n", 40)+"\nthe Needle\n")
	press := func(keys ...tea.KeyPressMsg) {
		for _, k := range keys {
			m.Update(k)
		}
	}
	m.Update(tea.WindowSizeMsg{Width: 40, Height: 8})
	see := func() string { return ansi.Strip(m.View().Content) }
	if s := see(); !strings.Contains(s, "A heading") || strings.Contains(s, "#") || !strings.Contains(s, "q quit") {
		t.Error(s)
	}
	press(tea.KeyPressMsg{Code: '/', Text: "/"})
	for _, r := range "needle" {
		press(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
	press(tea.KeyPressMsg{Code: tea.KeyEnter})
	if s := see(); !strings.HasPrefix(s, "the Needle") {
		t.Error(s)
	}
	press(tea.KeyPressMsg{Code: tea.KeyHome})
	if s := see(); !strings.HasPrefix(s, "A heading") {
		t.Error(s)
	}
	if _, cmd := m.Update(tea.KeyPressMsg{Code: 'q', Text: "q"}); cmd == nil {
		t.Error("q does not end it")
	}
}

// A terminal of no size at all is drawn on, too.
func TestATextInATinyTerminal(t *testing.T) {
	m := newModel("test", text)
	for _, size := range []tea.WindowSizeMsg{{}, {Width: 1, Height: 1}, {Width: 3, Height: 2}} {
		m.Update(size)
		m.View()
	}
}
