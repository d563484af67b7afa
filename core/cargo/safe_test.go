package cargo_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
)

// Links that lead out together, each of which seems to lead to somewhere in the tree, are refused; so is what a plan that
// somebody wrote says.
func TestLinksLeadOutNeitherAloneNorTogether(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"deep/er/file": "text"})
	plant(t, b, map[string]string{"there": ""})
	for name, leads := range map[string]string{"p": ".", "x": "p/p/../../etc/passwd", "deep/up": "..", "deep/er/two": "../../..", "deep/er/fine": "../../p/deep", "abs": "/etc/passwd", "y": "deep/../there"} {
		if err := os.Symlink(leads, filepath.Join(a, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/", filepath.Join(b, "root")); err != nil { // the account's own
		t.Fatal(err)
	}
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{})
	report, _ := carried(t, p, from, to, cargo.Options{})
	got := tree(t, b)
	for name, want := range map[string]string{"p": "-> .", "deep/up": "-> ..", "deep/er/fine": "-> ../../p/deep", "x": "", "y": "", "abs": "", "deep/er/two": ""} {
		if got[name] != want {
			t.Errorf("%s is %q, want %q", name, got[name], want)
		}
	}
	if report.Failed > 0 {
		t.Errorf("%+v", report)
	}
	for name, leads := range map[string]string{"z": "/etc/passwd", "z2": "../../etc/passwd", "z3": "root/etc/passwd", "z4": "p/../../etc"} {
		plan := &cargo.Plan{ID: cargo.NewID(), To: cargo.Place{Path: b}, Batches: []cargo.Batch{cargo.NewBatch("", []cargo.Item{{Name: name, Act: cargo.Make, New: ends.Entry{Kind: ends.Link, Link: leads}}})}}
		r, err := cargo.NewCarry(plan, from, to, cargo.Options{}).Run(t.Context())
		if err != nil || r.Failed != 1 {
			t.Errorf("%s: %+v, %v", leads, r, err)
		}
		if _, err := os.Lstat(filepath.Join(b, name)); err == nil {
			t.Errorf("%s was made", leads)
		}
	}
}

func TestALinkIsFollowedBeneathTheRootToReadAlone(t *testing.T) {
	dir := t.TempDir()
	plant(t, dir, map[string]string{"file": "text"})
	if err := os.Symlink("file", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	h := here(t, dir)
	if err := os.Symlink("/etc/hostname", filepath.Join(dir, "out")); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]bool{"link": true, "out": false} {
		f, err := h.Open(t.Context(), name)
		if (err == nil) != want {
			t.Errorf("%s: %v", name, err)
		}
		if err == nil {
			f.Close()
		}
	}
	if f, err := h.Reopen(t.Context(), "link"); err == nil {
		f.Close()
		t.Error("a link was followed where a file was to be written")
	}
	f, err := h.Open(t.Context(), "file")
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
}

// volatile is a log on a disk that loses what was not flushed when the power is cut.
type volatile struct {
	mu               sync.Mutex
	flushed, pending []byte
}

func (v *volatile) Write(p []byte) (int, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.pending = append(v.pending, p...)
	return len(p), nil
}

func (v *volatile) Sync() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.flushed, v.pending = append(v.flushed, v.pending...), nil
	return nil
}

func (v *volatile) Close() error { return nil }

// dying is a tree whose machine loses its power after so many names were given or taken.
type dying struct {
	*ends.Here
	mu    sync.Mutex
	left  int
	power context.CancelFunc
}

func (d *dying) name(do func() error) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.left <= 0 {
		return errors.New("there is no power")
	}
	if d.left--; d.left == 0 {
		defer d.power()
	}
	return do()
}

func (d *dying) Rename(ctx context.Context, from, to string) error {
	return d.name(func() error { return d.Here.Rename(ctx, from, to) })
}

func (d *dying) Replace(ctx context.Context, from, to string) error {
	return d.name(func() error { return d.Here.Replace(ctx, from, to) })
}

func (d *dying) Link(ctx context.Context, from, to string) error {
	return d.name(func() error { return d.Here.Link(ctx, from, to) })
}

// Whenever the power is cut, what was put aside is known afterwards, and comes back.
func TestAPowerCutLosesNothingThatWasPutAside(t *testing.T) {
	for after := 1; after <= 14; after++ {
		a, b, records := t.TempDir(), t.TempDir(), t.TempDir()
		plant(t, b, map[string]string{"r1": "1", "r2": "2", "changed": "text of before", "gone/x": "3", "gone/y": "4", "later": "5"})
		plant(t, a, map[string]string{"changed": "new text, longer", "later": "and another"})
		before := tree(t, b)
		from, to := here(t, a), here(t, b)
		p := planned(t, from, to, cargo.Rules{Delete: true})
		record, err := cargo.NewRecord(records, p)
		if err != nil {
			t.Fatal(err)
		}
		log := &volatile{}
		record.LogTo(log)
		ctx, cancel := context.WithCancel(t.Context())
		end := &dying{Here: to, left: after, power: cancel}
		cargo.NewCarry(p, from, end, cargo.Options{Record: record}).Run(ctx)
		cancel()
		// The power is back.
		if err := os.WriteFile(filepath.Join(records, p.ID, "log"), log.flushed, 0o600); err != nil {
			t.Fatal(err)
		}
		again, err := cargo.OpenRecord(records, p.ID)
		if err != nil {
			t.Fatal(err)
		}
		if undone, err := cargo.Undo(t.Context(), again, from, to, nil); err != nil || undone.Failed > 0 {
			t.Errorf("after %d: %+v, %v", after, undone, err)
		}
		again.Close()
		got := tree(t, b)
		for name, text := range before {
			if got[name] != text || strings.HasSuffix(name, "/") && got[name] == "" && !has(got, name) {
				t.Errorf("after %d names: %s is %q and was %q; flushed was\n%s", after, name, got[name], text, log.flushed)
			}
		}
	}
}

func has(all map[string]string, name string) bool { _, ok := all[name]; return ok }

// roomy is a tree with so much room.
type roomy struct {
	*ends.Here
	free uint64
}

func (r *roomy) Room(context.Context) (uint64, bool) { return r.free, true }

// What has arrived before a carry was cut off has its room already.
func TestGoingOnAsksForTheRestAlone(t *testing.T) {
	a, b, records := t.TempDir(), t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"one": strings.Repeat("x", 600_000), "two": strings.Repeat("y", 600_000)})
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{})
	if _, err := cargo.NewCarry(p, from, &roomy{to, 1_000_000}, cargo.Options{}).Run(t.Context()); !errors.Is(err, cargo.ErrNoRoom) {
		t.Fatalf("%v", err)
	}
	record, err := cargo.NewRecord(records, p)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cargo.NewCarry(p, from, &dying{Here: to, left: 1, power: cancel}, cargo.Options{Record: record}).Run(ctx)
	record.Close()
	if record, err = cargo.OpenRecord(records, p.ID); err != nil {
		t.Fatal(err)
	}
	defer record.Close()
	if r, err := cargo.NewCarry(p, from, &roomy{to, 700_000}, cargo.Options{Record: record}).Run(t.Context()); err != nil || r.Failed > 0 {
		t.Errorf("%+v, %v", r, err)
	}
	same(t, b, a)
}

// full is a tree that takes no more after so many bytes.
type full struct{ *ends.Here }

func (f *full) Create(ctx context.Context, name string) (ends.Writer, error) {
	w, err := f.Here.Create(ctx, name)
	return fullWriter{w}, err
}

type fullWriter struct{ ends.Writer }

func (w fullWriter) WriteAt(p []byte, at int64) (int, error) {
	if at+int64(len(p)) > 300_000 {
		return 0, syscall.ENOSPC
	}
	return w.Writer.WriteAt(p, at)
}

func TestWhatFinallyFailedLeavesNothing(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"large": strings.Repeat("x", 900_000), "small": "y"})
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{})
	r, err := cargo.NewCarry(p, from, &full{to}, cargo.Options{}).Run(t.Context())
	if err != nil || r.Failed != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	list, err := os.ReadDir(b)
	if err != nil || len(list) != 1 || list[0].Name() != "small" {
		t.Errorf("%v is left, %v", list, err)
	}
}

func TestAnEditThatWasKilledIsFound(t *testing.T) {
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	dir, kept := t.TempDir(), t.TempDir()
	plant(t, dir, map[string]string{"conf": "as it was", "other": "as it is"})
	begin := func(name string) *cargo.Edit {
		e, err := cargo.BeginEdit(t.Context(), here(t, dir), name, func(cargo.Event) {})
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	lost, idle, alive := begin("conf"), begin("other"), begin("conf")
	defer alive.Close()
	for _, e := range []*cargo.Edit{lost, alive} {
		if err := os.WriteFile(e.Copy(), []byte("what somebody typed"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if left, err := cargo.TakeLeftEdits(kept); err != nil || len(left) > 0 {
		t.Errorf("of those that go on: %+v, %v", left, err)
	}
	lost.Die()
	idle.Die()
	left, err := cargo.TakeLeftEdits(kept)
	if err != nil || len(left) != 1 || !strings.HasSuffix(left[0].Of, "/conf") {
		t.Fatalf("%+v, %v", left, err)
	}
	if text, err := os.ReadFile(left[0].Kept); err != nil || string(text) != "what somebody typed" {
		t.Errorf("%q, %v", text, err)
	}
	for _, e := range []*cargo.Edit{lost, idle} {
		if _, err := os.Stat(filepath.Dir(e.Copy())); err == nil {
			t.Error("a private copy is left")
		}
	}
	if _, err := os.Stat(alive.Copy()); err != nil {
		t.Errorf("the one that goes on: %v", err)
	}
}

func TestLinksThatAreLeftAsWishedAreNoProblem(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"file": "text"})
	if err := os.Symlink("/etc/passwd", filepath.Join(a, "out")); err != nil {
		t.Fatal(err)
	}
	for links, want := range map[cargo.Links]int{cargo.LeaveLinks: 0, cargo.KeepLinks: 1} {
		if s := planned(t, here(t, a), here(t, b), cargo.Rules{Links: links}).Sum(); s.Problems != want {
			t.Errorf("%v: %d problems, want %d", links, s.Problems, want)
		}
	}
}
