package workspace

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"meatus/core/gate"
)

// manySessions is a workspace of n sessions behind a bastion.
func manySessions(t *testing.T, n int) *Workspace {
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
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// Many sessions are judged by several goroutines, and reported in their order all the same.
func TestManyChecksComeInTheirOrder(t *testing.T) {
	w := manySessions(t, 3*atOnce+7)
	names := w.Book.Names()
	var got []string
	if err := CheckAll(w, names, func(r gate.Report) string { return r.Session }, func(name string) error { got = append(got, name); return nil }); err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(got, names) {
		t.Errorf("%d reports, from %s to %s", len(got), got[0], got[len(got)-1])
	}
	if err := CheckAll(w, nil, func(r gate.Report) string { return r.Session }, func(string) error { return errors.New("of nothing") }); err != nil {
		t.Error(err)
	}
}

// Where a report cannot be taken, judging ends, and the goroutines with it.
func TestAReportThatCannotBeTakenEndsTheChecks(t *testing.T) {
	w := manySessions(t, 5*atOnce)
	full := errors.New("no room")
	took := 0
	err := CheckAll(w, w.Book.Names(), func(r gate.Report) string { return r.Session }, func(string) error {
		if took++; took > atOnce {
			return full
		}
		return nil
	})
	if !errors.Is(err, full) || took != atOnce+1 {
		t.Errorf("%v after %d", err, took)
	}
}
