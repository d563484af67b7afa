package switcher

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/route"
	"meatus/tui/place"
	"meatus/tui/shells"
	"meatus/tui/theme"
)

func key(name string) tea.KeyPressMsg {
	switch name {
	case "up":
		return tea.KeyPressMsg{Code: tea.KeyUp}
	case "down":
		return tea.KeyPressMsg{Code: tea.KeyDown}
	case "enter":
		return tea.KeyPressMsg{Code: tea.KeyEnter}
	}
	return tea.KeyPressMsg{Code: rune(name[0]), Text: name}
}

var entries = []place.Entry{{Key: "0", Name: "Routes", Mark: "◎"}, {Key: "K", Name: "Keys", Does: "key files", Mark: "◇"}, {Key: "W", Name: "Watch", Does: "what is alive", Mark: "≋"}}

func TestAPlaceIsChosenByItsKeyOrTheCursor(t *testing.T) {
	for keys, want := range map[string]Place{
		"K": {At: "K"}, "down enter": {At: "K"}, "down down down enter": {At: "W"}, "j k enter": {At: "0"}, "up enter": {At: "0"},
		"z": {}, "1": {}, "a": {},
	} {
		m := New(theme.New(true), 100, entries, nil, Place{At: "0"})
		var to Place
		var chosen bool
		for _, k := range strings.Fields(keys) {
			to, chosen = m.Update(key(k))
		}
		if to != want || chosen != (want != Place{}) {
			t.Errorf("%s: %+v, %v", keys, to, chosen)
		}
	}
}

func TestTheCursorStandsAtWhatShowsNow(t *testing.T) {
	m := New(theme.New(true), 100, entries, nil, Place{At: "W"})
	if to, _ := m.Update(key("enter")); to.At != "W" {
		t.Errorf("%+v", to)
	}
}

func TestAQuestionIsGoneToFromTheSwitcher(t *testing.T) {
	m := New(theme.New(true), 60, entries, nil, Place{At: "K"})
	m.Question = "spit asks for a-key-with-a-very-long-name-that-does-not-fit-anywhere.pem"
	seen := ""
	for _, l := range m.View(20, "15 routes") {
		plain := ansi.Strip(l)
		if ansi.StringWidth(plain) > 60 {
			t.Errorf("%d columns: %q", ansi.StringWidth(plain), plain)
		}
		seen += plain + "\n"
	}
	if !strings.Contains(seen, "needs you: spit asks for a-key") || !strings.Contains(seen, "15 routes") || !strings.Contains(seen, "what is alive") {
		t.Errorf("it shows\n%s", seen)
	}
	if to, chosen := m.Update(key("a")); !chosen || !to.Answer {
		t.Errorf("%+v, %v", to, chosen)
	}
}

func TestWhatCanBeDoneWithAShellIsListedThere(t *testing.T) {
	s := &shells.Shell{Route: route.Route{Session: "quay", Hops: []route.Hop{{Name: "quay", Destination: route.Destination{Host: "203.0.113.10"}, Credentials: route.Credentials{User: "warden"}}}}}
	m := New(theme.New(false), 100, entries, nil, Place{Shell: s})
	if seen := ansi.Strip(strings.Join(m.View(24, ""), "\n")); !strings.Contains(seen, "with this shell") || !strings.Contains(seen, "search the output") {
		t.Errorf("it shows\n%s", seen)
	}
	if to, chosen := m.Update(key("/")); !chosen || to.Do != "/" {
		t.Errorf("%+v, %v", to, chosen)
	}
	m.SetShells(nil)
	m.SetWidth(80)
	if to, _ := m.Update(key("/")); to.Do != "/" {
		t.Errorf("after it: %+v", to)
	}
}
