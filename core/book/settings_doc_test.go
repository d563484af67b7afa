package book

import (
	"os"
	"strings"
	"testing"
)

// TestEverySettingIsDocumented looks for a row of each in the table of docs/workspace.md.
func TestEverySettingIsDocumented(t *testing.T) {
	doc, err := os.ReadFile("../../docs/workspace.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, key := range FieldsOf(InSession) {
		if !strings.Contains(string(doc), "\n| `"+key+"` | ") {
			t.Errorf("docs/workspace.md has no row for %s", key)
		}
	}
}
