package form

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/tui/action"
	"meatus/tui/theme"
)

func TestAPassphraseTypedTwiceDifferentlyKeepsTheRest(t *testing.T) {
	f := New(theme.New(true), "make",
		Step{Prompt: "name: ", Proposed: "new.pem"},
		Step{Prompt: "passphrase: ", Hidden: true, Judge: true},
		Step{Prompt: "again: ", Hidden: true, Again: true},
		Step{Prompt: "comment: ", Value: "of the bay"})
	var got []string
	var secrets [][]byte
	press := func(text string) {
		for _, r := range text {
			f.Take(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
		table := f.Table(func(_ string, values []string) tea.Cmd { got, secrets = values, f.Secrets(); return nil }, func() { t.Error("left") })
		enter(table)
	}
	press("tide.pem")
	press("ebb and flow")
	press("ebb and flew")
	if seen := ansi.Strip(strings.Join(f.View(80), "\n")); !strings.Contains(seen, "not the same; type both again") || !strings.Contains(seen, "passphrase: ") {
		t.Errorf("it shows\n%s", seen)
	}
	press("ebb and flow")
	press("ebb and flow")
	press("")
	if len(got) != 4 || got[0] != "tide.pem" || got[1] != "" || got[3] != "of the bay" || string(secrets[1]) != "ebb and flow" || secrets[2] != nil {
		t.Errorf("%q, %q", got, secrets)
	}
}

// enter presses enter as the frame does.
func enter(table action.Table) {
	if cmd, _ := table.Do(tea.KeyPressMsg{Code: tea.KeyEnter}); cmd != nil {
		cmd()
	}
}
