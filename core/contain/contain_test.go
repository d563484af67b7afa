package contain

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func broken(secret []byte) error {
	var none []int
	_ = none[len(secret)]
	return nil
}

func TestAPanicIsAnErrorWithAReportThatHoldsNoSecret(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	var told *Panic
	defer Report(dir, func(p *Panic) { told = p })()
	err := Do("the shell of tide-db", func() error { return broken([]byte("ebb-and-flow")) })
	var p *Panic
	if !errors.As(err, &p) || told != p || p.Report == "" || !strings.Contains(err.Error(), "the shell of tide-db ended by a fault") {
		t.Fatalf("got %v, told %v", err, told)
	}
	text, _ := os.ReadFile(p.Report)
	if !strings.Contains(string(text), "contain.broken (contain_test.go:") || !strings.Contains(string(text), "index out of range") {
		t.Errorf("the report does not say where:\n%s", text)
	}
	if info, err := os.Stat(p.Report); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the report has %v", info.Mode())
	}
	err = Do("a part", func() error { panic("passphrase ebb-and-flow") })
	if text, _ := os.ReadFile(err.(*Panic).Report); strings.Contains(string(text)+err.Error(), "ebb-and-flow") {
		t.Errorf("what was thrown is told: %v\n%s", err, text)
	}
}

func TestReportsDoNotPileUp(t *testing.T) {
	dir := t.TempDir()
	defer Report(dir, nil)()
	first := Do("a part", func() error { panic(1) }).(*Panic).Report
	for i := range 3 * MaxReports {
		p := Do(fmt.Sprint("part ", i), func() error { panic(1) }).(*Panic)
		if again := Do(p.Part, func() error { panic(1) }).(*Panic); again.Report == "" {
			t.Error("a fault that comes again names no report")
		}
	}
	if _, err := os.Stat(first); err == nil {
		t.Error("the oldest report is still there")
	}
	if files, _ := os.ReadDir(dir); len(files) > MaxReports {
		t.Errorf("%d reports are kept", len(files))
	}
}

func TestWhatDoesNotPanicIsLeftAlone(t *testing.T) {
	want := errors.New("no")
	if err := Do("a part", func() error { return want }); err != want {
		t.Errorf("got %v", err)
	}
	var group sync.WaitGroup
	var ended error
	Go(&group, "a part", func() {}, func(err error) { t.Error(err) })
	Go(&group, "another", func() { panic("x") }, func(err error) { ended = err })
	group.Wait()
	if ended == nil {
		t.Error("nobody was told that it ended")
	}
}
