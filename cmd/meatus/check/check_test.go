package check

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"meatus/core/workspace"
)

// manySessions is a workspace of n sessions behind a bastion.
func manySessions(t *testing.T, n int) *workspace.Workspace {
	t.Helper()
	text := strings.Builder{}
	text.WriteString("[session.quay]\nhost = \"203.0.113.10\"\n")
	for i := range n {
		fmt.Fprintf(&text, "[session.gauge-%d]\nhost = \"10.61.%d.%d\"\nvia = [\"quay\"]\n", i, i/250, i%250+1)
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(text.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// Many sessions are judged by several goroutines, and printed in their order all the same.
func TestManyChecksArePrintedInTheirOrder(t *testing.T) {
	w := manySessions(t, 800)
	names := w.Book.Names()
	var out bytes.Buffer
	print := newPrinter(&out, true, false, names)
	if err := errors.Join(workspace.CheckAll(w, names, print.prepare, print.put), print.end()); err != nil {
		t.Fatal(err)
	}
	var reports []struct{ Session string }
	if err := json.Unmarshal(out.Bytes(), &reports); err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range reports {
		got = append(got, r.Session)
	}
	if !slices.Equal(got, names) {
		t.Errorf("%d reports, from %s to %s", len(got), got[0], got[len(got)-1])
	}
	out.Reset()
	print = newPrinter(&out, false, false, names)
	if err := errors.Join(workspace.CheckAll(w, names, print.prepare, print.put), print.end()); err != nil || strings.Count(out.String(), "gauge-") != len(names)-1 {
		t.Errorf("%v; as text:\n%.300s", err, out.String())
	}
}

// broken is where nothing can be written to.
type broken struct{}

func (broken) Write([]byte) (int, error) { return 0, errors.New("no room") }

func TestACheckThatCannotBePrintedEnds(t *testing.T) {
	w := manySessions(t, 1300)
	names := w.Book.Names()
	print := newPrinter(broken{}, true, false, names)
	if err := workspace.CheckAll(w, names, print.prepare, print.put); err == nil || !strings.Contains(err.Error(), "no room") {
		t.Error(err)
	}
}
