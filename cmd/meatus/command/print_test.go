package command

import "testing"

// Columns are as wide as their cells are on a terminal, and no line ends in spaces.
func TestATableIsAlignedByDisplayWidth(t *testing.T) {
	table := &Table{}
	table.Row("潮汐", 22, "open")
	table.Row("quay", "none", "")
	table.Row("a")
	if got, want := table.String(), "潮汐  22    open\nquay  none\na\n"; got != want {
		t.Errorf("got\n%s, want\n%s", got, want)
	}
	if (&Table{}).String() != "" {
		t.Error("an empty table prints something")
	}
}
