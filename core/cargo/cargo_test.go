package cargo_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
)

// here opens a tree of this machine.
func here(t testing.TB, dir string) *ends.Here {
	t.Helper()
	h, err := ends.OpenHere(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Close() })
	return h
}

// old is when the files of tests were written last, unless said otherwise.
var old = time.Date(2026, time.October, 14, 6, 0, 0, 0, time.UTC)

// plant writes files into a folder: their text by path, folders end in "/".
func plant(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(name, "/") {
			if err := os.MkdirAll(path, 0o755); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, old, old); err != nil {
			t.Fatal(err)
		}
	}
}

// tree is what stands in a folder, without what is put aside: text by path, links as "-> TO".
func tree(t testing.TB, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(dir, path)
		switch {
		case name == ".":
		case d.Name() == cargo.AsideFolder:
			return fs.SkipDir
		case d.IsDir():
			all[name+"/"] = ""
		case d.Type()&fs.ModeSymlink != 0:
			to, _ := os.Readlink(path)
			all[name] = "-> " + to
		default:
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			all[name] = string(text)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// same fails where two folders differ.
func same(t testing.TB, got, want string) {
	t.Helper()
	if g, w := listed(tree(t, got)), listed(tree(t, want)); g != w {
		t.Fatalf("got\n%s\nwant\n%s", g, w)
	}
}

func listed(all map[string]string) string {
	var lines []string
	for name, text := range all {
		if len(text) > 40 {
			text = fmt.Sprintf("%d bytes, %x", len(text), ends.Sum{}.String()[:4])
		}
		lines = append(lines, fmt.Sprintf("%q %q", name, text))
	}
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}

// planned makes a plan between two folders.
func planned(t testing.TB, from, to ends.End, rules cargo.Rules) *cargo.Plan {
	t.Helper()
	p, err := cargo.NewPlan(context.Background(), from, to, rules, nil)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// acts are a plan's items, as "make a/b".
func acts(p *cargo.Plan) string {
	var lines []string
	for path, items := range p.Folders() {
		for _, i := range items {
			line := i.Act.String() + " " + cargo.Say(ends.Join(path, i.Name))
			if i.Why != "" {
				line += ": " + i.Why
			}
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

// How fast a line was is kept beside the folders, where enough was moved to tell.
func TestFoldersAndRatesAreRemembered(t *testing.T) {
	dir := t.TempDir()
	if err := errors.Join(
		cargo.RememberRate(dir, "quay", 100, time.Second), // too little to tell
		cargo.RememberRate(dir, "reef", 8<<20, 2*time.Second),
		cargo.Remember(dir, "reef", cargo.Last{Here: "/here", There: "/there"}),
		cargo.RememberRate(dir, "light", 8<<20, time.Second),
	); err != nil {
		t.Fatal(err)
	}
	all := cargo.Remembered(dir)
	if len(all) != 2 || all["reef"] != (cargo.Last{Here: "/here", There: "/there", Rate: 4 << 20}) || all["light"].Known() || all["light"].Rate != 8<<20 {
		t.Errorf("%+v", all)
	}
}

// carried carries a plan out, with a record of its own, and fails where anything was not done.
func carried(t testing.TB, p *cargo.Plan, from, to ends.End, o cargo.Options) (cargo.Report, *cargo.Record) {
	t.Helper()
	var err error
	if o.Record, err = cargo.NewRecord(t.TempDir(), p); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.Record.Close() })
	report, err := cargo.NewCarry(p, from, to, o).Run(context.Background())
	if err != nil || report.Failed > 0 {
		t.Fatalf("%v, %+v", err, report)
	}
	return report, o.Record
}

func TestATreeIsMovedAndBroughtBack(t *testing.T) {
	movedAndBack(t)
	for _, items := range []int{1, 2, 5} { // however few names are looked at at once
		t.Run(fmt.Sprint(items), func(t *testing.T) {
			defer cargo.Window(items)()
			movedAndBack(t)
		})
	}
}

func movedAndBack(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{
		"levels.csv": "hour,level\n", "deep/er/storm.txt": "4.31 m\n", "empty/": "", "none": "",
		"changed": "new text", "large": strings.Repeat("tide ", 200_000), "same": "as it is",
	})
	os.Symlink("levels.csv", filepath.Join(a, "latest"))
	os.Chmod(filepath.Join(a, "same"), 0o600)
	now := time.Now().Add(-time.Hour)
	os.Chtimes(filepath.Join(a, "changed"), now, now)
	plant(t, b, map[string]string{"changed": "text of before", "same": "as it is", "gone": "to go", "old/x": "1", "old/y/z": "2"})
	before := tree(t, b)

	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{Delete: true})
	want := `make deep
make empty
make large
make latest
make levels.csv
make none
replace changed
remove gone
remove old
settle same
make deep/er
make deep/er/storm.txt`
	if got := sorted(acts(p)); got != sorted(want) {
		t.Fatalf("the plan:\n%s", got)
	}
	report, record := carried(t, p, from, to, cargo.Options{})
	same(t, b, a)
	if report.Proven != 5 {
		t.Errorf("%d files were proven", report.Proven)
	}
	for name, mode := range map[string]fs.FileMode{"same": 0o600, "large": 0o644, "deep": 0o755} {
		if info, err := os.Stat(filepath.Join(b, name)); err != nil || info.Mode().Perm() != mode {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
	if info, _ := os.Stat(filepath.Join(b, "changed")); !info.ModTime().Equal(now) {
		t.Errorf("its time is %v, not %v", info.ModTime(), now)
	}
	if again := planned(t, from, to, cargo.Rules{Delete: true, Content: true}); again.Acts() {
		t.Errorf("there is still something to do:\n%s", acts(again))
	}
	undone, err := cargo.Undo(context.Background(), record, from, to, nil)
	if err != nil || undone.Failed > 0 {
		t.Fatalf("undo: %v, %+v", err, undone)
	}
	if got := listed(tree(t, b)); got != listed(before) {
		t.Errorf("after undo:\n%s", got)
	}
}

func sorted(lines string) string {
	all := strings.Split(lines, "\n")
	sort.Strings(all)
	return strings.Join(all, "\n")
}
