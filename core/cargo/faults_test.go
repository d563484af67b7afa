package cargo_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/lab/await"
)

// badEnd is a tree of this machine on which things go wrong. As a far one, it has a line that can
// be lost.
type badEnd struct {
	ends.End
	lostAt  atomic.Int64 // after how many operations the line is lost, 0 for never
	count   atomic.Int64
	again   atomic.Int64
	down    atomic.Bool
	forget  atomic.Bool // what is written is acknowledged, and null bytes are kept
	forgets atomic.Int64
	full    bool
	held    bool                                  // a file that a lost line had open is opened by nobody
	plain   bool                                  // no rename that replaces, no second names
	list    func(folder string) ([]string, error) // in place of what is there
	before  func(operation, name string)
	mu      sync.Mutex
}

var errLost = errors.New("the line is lost")

// step counts an operation, and tells whether the line is lost under it.
func (b *badEnd) step(operation, name string) error {
	if b.before != nil {
		b.before(operation, name)
	}
	n := b.count.Add(1)
	if at := b.lostAt.Load(); at > 0 && n >= at {
		b.down.Store(true)
	}
	if b.down.Load() {
		return errLost
	}
	return nil
}

func (b *badEnd) Lost(err error) bool { return errors.Is(err, errLost) }

func (b *badEnd) Again(context.Context) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.down.Load() {
		b.again.Add(1)
		if at := b.lostAt.Load(); at > 0 {
			b.lostAt.Store(b.count.Load() + at)
		}
		b.down.Store(false)
	}
	return nil
}

func (b *badEnd) Can(f ends.Feature) bool {
	if b.plain && f&(ends.Replaces|ends.Hardens) != 0 {
		return false
	}
	return b.End.Can(f)
}

func (b *badEnd) Lstat(ctx context.Context, name string) (ends.Entry, error) {
	if err := b.step("lstat", name); err != nil {
		return ends.Entry{}, err
	}
	return b.End.Lstat(ctx, name)
}

func (b *badEnd) List(ctx context.Context, folder string, each func(string, ends.Entry) error) error {
	if b.list == nil {
		return b.End.List(ctx, folder, each)
	}
	names, err := b.list(folder)
	for _, name := range names {
		if err := each(name, ends.Entry{Kind: ends.File, Size: 1, Time: 1}); err != nil {
			return err
		}
	}
	return err
}

// after has an operation done, and its answer lost where the line is lost under it: half of what
// is lost is lost on the way there, and half on the way back.
func (b *badEnd) after(operation, name string, do func() error) error {
	err := b.step(operation, name)
	if err != nil && b.count.Load()%2 == 0 {
		return err
	}
	if derr := do(); derr != nil {
		return derr
	}
	return err
}

func (b *badEnd) Rename(ctx context.Context, from, to string) error {
	return b.after("rename", to, func() error { return b.End.Rename(ctx, from, to) })
}

func (b *badEnd) Replace(ctx context.Context, from, to string) error {
	return b.after("replace", to, func() error { return b.End.Replace(ctx, from, to) })
}

func (b *badEnd) Link(ctx context.Context, from, to string) error {
	return b.after("link", to, func() error { return b.End.Link(ctx, from, to) })
}

func (b *badEnd) Mkdir(ctx context.Context, name string, mode uint16) error {
	return b.after("mkdir", name, func() error { return b.End.Mkdir(ctx, name, mode) })
}

func (b *badEnd) Chmod(ctx context.Context, name string, mode uint16) error {
	return b.after("chmod", name, func() error { return b.End.Chmod(ctx, name, mode) })
}

func (b *badEnd) Symlink(ctx context.Context, leads, name string) error {
	return b.after("symlink", name, func() error { return b.End.Symlink(ctx, leads, name) })
}

type badFile struct {
	ends.Writer
	b    *badEnd
	name string
}

func (b *badEnd) Create(ctx context.Context, name string) (ends.Writer, error) {
	if err := b.step("create", name); err != nil {
		return nil, err
	}
	w, err := b.End.Create(ctx, name)
	return badFile{w, b, name}, err
}

func (b *badEnd) Reopen(ctx context.Context, name string) (ends.Writer, error) {
	if err := b.step("reopen", name); err != nil {
		return nil, err
	}
	if b.held {
		return nil, fs.ErrPermission
	}
	w, err := b.End.Reopen(ctx, name)
	if err != nil {
		return nil, err
	}
	return badFile{w, b, name}, nil
}

func (f badFile) WriteAt(p []byte, at int64) (int, error) {
	if err := f.b.step("write", f.name); err != nil {
		return 0, err
	}
	if f.b.full {
		return 0, syscall.ENOSPC
	}
	if f.b.forget.Load() {
		f.b.forgets.Add(1)
		p = make([]byte, len(p))
	}
	return f.Writer.WriteAt(p, at)
}

// mixed is a tree with some of everything, and what stood before it at the target.
func mixed(t testing.TB) (a, b string) {
	a, b = memory(t), memory(t)
	files := map[string]string{"large": strings.Repeat("0123456789abcdef", 100_000), "empty": ""}
	for i := range 60 {
		files[fmt.Sprintf("d%d/f%d", i%5, i)] = fmt.Sprintf("text of %d", i)
	}
	plant(t, a, files)
	os.Symlink("large", filepath.Join(a, "link"))
	soon := old.Add(time.Hour)
	for _, name := range []string{"large", "d1/f1", "d2/f2"} {
		os.Chtimes(filepath.Join(a, name), soon, soon)
	}
	plant(t, b, map[string]string{"large": "the old one", "d1/f1": "old text", "d2/f2": "old, too", "gone/x": "1", "alone": "2"})
	return a, b
}

// However often the line is lost, and wherever, all arrives.
func TestALineThatIsLostAgainAndAgain(t *testing.T) {
	for _, c := range []struct {
		plain, held bool
		first       int64
	}{{}, {plain: true}, {held: true, first: 80}} { // a file that is begun anew wants some operations in a row
		for at := c.first + 11; at < 160; at += 16 {
			a, b := mixed(t)
			before := tree2(t, b)
			from, bad := here(t, a), &badEnd{End: here(t, b), plain: c.plain, held: c.held}
			p := planned(t, from, bad, cargo.Rules{Delete: true})
			bad.count.Store(0)
			bad.lostAt.Store(at)
			_, record := carried(t, p, from, bad, cargo.Options{})
			if bad.again.Load() == 0 {
				t.Fatalf("after %d: the line was never lost", at)
			}
			bad.lostAt.Store(0)
			same(t, b, a)
			if report, err := cargo.Undo(t.Context(), record, from, bad, nil); err != nil || report.Failed > 0 {
				t.Fatalf("undo after %d: %v, %+v", at, err, report)
			}
			if got := tree2(t, b); got != before {
				t.Fatalf("undone after %d:\n%s\nnot\n%s", at, got, before)
			}
		}
	}
}

// A program that is killed has left a record, and another goes on with it. The half that has
// arrived is under no real name.
func TestWhatWasCutOffIsGoneOnWith(t *testing.T) {
	for at := int64(5); at < 400; at += 40 {
		a, b := mixed(t)
		from, bad := here(t, a), &badEnd{End: here(t, b)}
		p := planned(t, from, bad, cargo.Rules{Delete: true})
		records := t.TempDir()
		r, err := cargo.NewRecord(records, p)
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		bad.before = func(string, string) {
			if bad.count.Load() == at {
				cancel()
			}
		}
		cargo.NewCarry(p, from, bad, cargo.Options{Record: r}).Run(ctx)
		cancel()
		r.Close()
		intact(t, a, b)
		bad.before = nil
		// A command over there may have gone on for a moment, and no stream of the next time takes its place.
		left := filepath.Join(b, ".meatus-part-"+p.ID+"-7")
		if err := os.MkdirAll(left, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(left, "0"), []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
		// And so may a rename of which nothing was heard any more.
		if at%80 == 5 {
			putNew(t, a, b)
		}
		again, err := cargo.OpenRecord(records, p.ID)
		if err != nil {
			t.Fatal(err)
		}
		report, err := cargo.NewCarry(again.Plan, from, bad, cargo.Options{Record: again}).Run(t.Context())
		if err != nil || report.Failed > 0 {
			t.Fatalf("after %d: %v, %+v", at, err, report)
		}
		again.Close()
		same(t, b, a)
		noParts(t, b)
	}
}

// putNew puts what is new in one tree in its place in another, with its times.
func putNew(t testing.TB, a, b string) {
	t.Helper()
	err := filepath.WalkDir(a, func(path string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(a, path)
		to := filepath.Join(b, rel)
		if _, lerr := os.Lstat(to); lerr == nil || err != nil || e.Type()&^fs.ModeDir != 0 {
			return err
		}
		info, err := e.Info()
		if err == nil && e.IsDir() {
			return os.Mkdir(to, 0o700)
		}
		text, rerr := os.ReadFile(path)
		if errors.Join(err, rerr) == nil {
			err = errors.Join(os.WriteFile(to, text, 0o600), os.Chtimes(to, info.ModTime(), info.ModTime()))
		}
		return errors.Join(err, rerr)
	})
	if err != nil {
		t.Fatal(err)
	}
}

// intact fails where a file of the target is neither what it was nor what it is to be.
func intact(t testing.TB, a, b string) {
	t.Helper()
	want := tree(t, a)
	for name, text := range tree(t, b) {
		if strings.Contains(name, ".meatus-part-") || strings.HasSuffix(name, "/") || want[name] == text {
			continue
		}
		switch text {
		case "the old one", "old text", "old, too", "1", "2":
		default:
			t.Fatalf("%s holds %.60q", name, text)
		}
	}
}

func noParts(t testing.TB, dir string) {
	t.Helper()
	for name := range tree(t, dir) {
		if strings.Contains(name, ".meatus-part-") {
			t.Errorf("%s is left behind", name)
		}
	}
}

func TestWhatIsNotGoneOnWithIsClearedUp(t *testing.T) {
	a, b := mixed(t)
	from, bad := here(t, a), &badEnd{End: here(t, b)}
	p := planned(t, from, bad, cargo.Rules{})
	r, err := cargo.NewRecord(t.TempDir(), p)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	bad.before = func(operation, _ string) {
		if operation == "replace" {
			cancel()
		}
	}
	cargo.NewCarry(p, from, bad, cargo.Options{Record: r}).Run(ctx)
	bad.before = nil
	if err := cargo.Clean(t.Context(), r, from, bad); err != nil {
		t.Fatal(err)
	}
	noParts(t, b)
}

// A server that acknowledges and does not write is found out, and what was there stays.
func TestWhatWasNotWrittenTakesNoPlace(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"x": "new text", "y": "too"})
	plant(t, b, map[string]string{"x": "old"})
	soon := old.Add(time.Hour)
	os.Chtimes(filepath.Join(a, "x"), soon, soon)
	from, bad := here(t, a), &badEnd{End: here(t, b)}
	bad.forget.Store(true)
	p := planned(t, from, bad, cargo.Rules{})
	report, err := cargo.NewCarry(p, from, bad, cargo.Options{}).Run(t.Context())
	if err != nil || report.Failed != 2 || !strings.Contains(report.Failures[0].Err.Error(), "differs from what is sent, twice") {
		t.Fatalf("%v, %+v", err, report)
	}
	if got := tree2(t, b); got != `"x" "old"` {
		t.Errorf("there is\n%s", got)
	}
	if bad.forgets.Load() != 4 {
		t.Errorf("it was written %d times, not twice each", bad.forgets.Load())
	}
}

func TestAFullDiskLosesNothing(t *testing.T) {
	a, b := mixed(t)
	before := tree2(t, b)
	from, bad := here(t, a), &badEnd{End: here(t, b), full: true}
	report, err := cargo.NewCarry(planned(t, from, bad, cargo.Rules{}), from, bad, cargo.Options{}).Run(t.Context())
	if err != nil || report.Failed == 0 {
		t.Fatalf("%v, %+v", err, report)
	}
	for _, f := range report.Failures {
		if !errors.Is(f.Err, syscall.ENOSPC) {
			t.Errorf("%s: %v", f.Path, f.Err)
		}
	}
	for _, line := range strings.Split(before, "\n") {
		if !strings.Contains(tree2(t, b), line) {
			t.Errorf("%s is gone", line)
		}
	}
}

// What has changed since the plan was made is left alone, on both sides.
func TestTheWorldHasChangedSinceThePlan(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"source-grew": "1", "source-gone": "2", "target-changed": "333", "target-came": "4", "target-link": "5", "folder/in": "6"})
	plant(t, b, map[string]string{"target-changed": "old", "removed-changed": "r"})
	soon := old.Add(time.Hour)
	os.Chtimes(filepath.Join(a, "target-changed"), soon, soon)
	outside := t.TempDir()
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{Delete: true})
	plant(t, a, map[string]string{"source-grew": "11"})
	os.Remove(filepath.Join(a, "source-gone"))
	plant(t, b, map[string]string{"target-changed": "older", "target-came": "somebody else's", "removed-changed": "rr"})
	os.Symlink(filepath.Join(outside, "x"), filepath.Join(b, "target-link"))
	os.Symlink(outside, filepath.Join(b, "folder"))
	report, err := cargo.NewCarry(p, from, to, cargo.Options{}).Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	failed := map[string]bool{}
	for _, f := range report.Failures {
		failed[f.Path] = true
	}
	for _, name := range []string{"source-grew", "source-gone", "target-changed", "target-came", "target-link", "folder", "removed-changed"} {
		if !failed[name] {
			t.Errorf("%s was done", name)
		}
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("%v was written outside of the tree", left)
	}
	if got := tree(t, b); got["target-came"] != "somebody else's" || got["target-changed"] != "older" || got["removed-changed"] != "rr" {
		t.Errorf("there is %v", got)
	}
}

func TestHostileNamesAreRefusedAndOddOnesMoved(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	odd := []string{"line\nend", "\x1b[31mred", "caf\xe9", strings.Repeat("n", 255), "-rf", "back\\slash", " blank ", "$(id)", "%s"}
	files := map[string]string{}
	for _, name := range odd {
		files[name] = "text"
	}
	plant(t, a, files)
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{})
	text, err := json.Marshal(p)
	if err != nil {
		t.Fatal(err)
	}
	read := &cargo.Plan{}
	if err := json.Unmarshal(text, read); err != nil {
		t.Fatal(err)
	}
	if acts(read) != acts(p) || read.Batches[0].Len() != len(odd) {
		t.Fatalf("read back:\n%s", acts(read))
	}
	carried(t, read, from, to, cargo.Options{})
	same(t, b, a)

	bad := &badEnd{End: from, list: func(string) ([]string, error) {
		return []string{"..", ".", "../../etc/passwd", "/etc/passwd", "", "a\x00b", "fine"}, nil
	}}
	q := planned(t, bad, to, cargo.Rules{})
	made := 0
	for item := range q.Items() {
		if item.Act == cargo.Make {
			made++
		}
	}
	if made != 1 || q.Sum().Problems != 4 {
		t.Errorf("the plan of hostile names:\n%s", acts(q))
	}
	bad.list = func(string) ([]string, error) {
		return slices.Concat(slices.Repeat([]string{"same"}, 500_000), slices.Repeat([]string{"../same"}, 500_000)), nil
	}
	if q := planned(t, bad, to, cargo.Rules{}); q.Sum().By[cargo.Make].Names != 1 || q.Sum().Problems != 1 {
		t.Errorf("the plan of two names, half a million times each:\n%s", acts(q))
	}
}

// A plan from a file is not trusted: names in it lead nowhere else.
func TestPlansWithPathsThatLeadOutAreRefused(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"d/x": "1"})
	good, err := json.Marshal(planned(t, here(t, a), here(t, b), cargo.Rules{}))
	if err != nil {
		t.Fatal(err)
	}
	for _, change := range [][2]string{
		{`"folder":"d"`, `"folder":"../d"`}, {`"folder":"d"`, `"folder":"/etc"`}, {`"folder":"d"`, `"folder":"d/"`}, {`"name":"x"`, `"name":".."`},
		{`"name":"x"`, `"name":"a/b"`}, {`"name":"x"`, `"name":".meatus-aside"`}, {`"act":"make"`, `"act":"burn"`}, {`"version":1`, `"version":2`},
		{`"kind":"file"`, `"kind":"door"`}, {`"act":"make"`, `"act":"remove"`}, {`"id":"`, `"id":"../`}, {`"mode":"0644"`, `"mode":"99"`},
	} {
		text := strings.Replace(string(good), change[0], change[1], 1)
		if text == string(good) {
			t.Errorf("%s is not in %s", change[0], good)
		}
		if err := json.Unmarshal([]byte(text), &cargo.Plan{}); err == nil {
			t.Errorf("%s was taken", change[1])
		}
	}
}

func FuzzPlan(f *testing.F) {
	a, b := f.TempDir(), f.TempDir()
	plant(f, a, map[string]string{"d/x": "1"})
	good, _ := json.Marshal(planned(f, here(f, a), here(f, b), cargo.Rules{}))
	f.Add(good)
	f.Fuzz(func(t *testing.T, text []byte) {
		p := &cargo.Plan{}
		if json.Unmarshal(text, p) != nil {
			return
		}
		for path, items := range p.Folders() {
			for _, i := range items {
				if full := ends.Join(path, i.Name); strings.HasPrefix(full, "/") || strings.Contains("/"+full+"/", "/../") {
					t.Fatalf("%q leads out", full)
				}
			}
		}
		p.Sum()
		p.Says()
	})
}

func TestLinksStayInTheTree(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"real": "text", "d/e/f": "deep"})
	for name, leads := range map[string]string{"good": "real", "d/up": "../real", "out": "../outside", "absolute": "/etc/passwd", "broken": "nowhere", "circle": "circle", "d/e/loop": "../../d"} {
		if err := os.Symlink(leads, filepath.Join(a, name)); err != nil {
			t.Fatal(err)
		}
	}
	from, to := here(t, a), here(t, b)
	carried(t, planned(t, from, to, cargo.Rules{}), from, to, cargo.Options{})
	got := tree(t, b)
	for _, kept := range []string{"good", "d/up", "broken", "circle", "d/e/loop"} {
		if got[kept] == "" {
			t.Errorf("%s is not there", kept)
		}
	}
	if got["out"] != "" || got["absolute"] != "" {
		t.Errorf("links lead out: %q, %q", got["out"], got["absolute"])
	}
	c := t.TempDir()
	to = here(t, c)
	carried(t, planned(t, from, to, cargo.Rules{Links: cargo.FollowLinks}), from, to, cargo.Options{})
	if got := tree(t, c); got["good"] != "text" || got["d/up"] != "text" || got["out"]+got["absolute"]+got["broken"]+got["circle"] != "" {
		t.Errorf("followed: %v", got)
	}
	d := t.TempDir()
	to = here(t, d)
	carried(t, planned(t, from, to, cargo.Rules{Links: cargo.LeaveLinks}), from, to, cargo.Options{})
	if got := tree(t, d); len(got) != 4 {
		t.Errorf("left: %v", got)
	}
}

func TestSpecialFilesTimesAndSizes(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"before": "1960", "after": "2050", "zero": ""})
	for name, year := range map[string]int{"before": 1960, "after": 2050} {
		at := time.Date(year, 1, 2, 3, 4, 5, 0, time.UTC)
		os.Chtimes(filepath.Join(a, name), at, at)
	}
	if err := syscall.Mkfifo(filepath.Join(a, "pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	sparse, err := os.Create(filepath.Join(a, "sparse"))
	if err != nil {
		t.Fatal(err)
	}
	const size = 5 << 30 // beyond 2^32
	sparse.WriteAt([]byte("begin"), 0)
	sparse.WriteAt([]byte("middle"), 3<<30)
	if err := sparse.Truncate(size); err != nil {
		t.Fatal(err)
	}
	sparse.Close()
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{})
	if !strings.Contains(acts(p), "leave pipe: a device, a socket or a pipe") {
		t.Errorf("the plan:\n%s", acts(p))
	}
	carried(t, p, from, to, cargo.Options{Proof: cargo.ProveNought})
	info, err := os.Stat(filepath.Join(b, "sparse"))
	if err != nil || info.Size() != size || info.Sys().(*syscall.Stat_t).Blocks*512 > 16<<20 {
		t.Errorf("%v, %v", info, err)
	}
	if info, _ := os.Stat(filepath.Join(b, "before")); info.ModTime().Year() != 1960 {
		t.Errorf("it is of %v", info.ModTime())
	}
	if again := planned(t, from, to, cargo.Rules{}); again.Acts() {
		t.Errorf("there is still something to do:\n%s", acts(again))
	}
}

func TestACarryPausesGoesOnAndKeepsToARate(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"x": strings.Repeat("x", 3<<20)})
	from, to := here(t, a), here(t, b)
	c := cargo.NewCarry(planned(t, from, to, cargo.Rules{}), from, to, cargo.Options{Rate: 400 << 20})
	c.Pause(true)
	done := make(chan error, 1)
	go func() { _, err := c.Run(context.Background()); done <- err }()
	await.Until(t, "the pause", func() bool { return c.Progress().Paused && c.Progress().Took > 0 })
	if p := c.Progress(); p.NamesDone != 0 {
		t.Errorf("%+v", p)
	}
	c.Pause(false)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if p := c.Progress(); p.Share() != 1 || p.NamesDone != 1 || !p.Over {
		t.Errorf("%+v", p)
	}
	same(t, b, a)
}

func TestPatternsLeaveOut(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"a.log": "1", "keep.csv": "2", "cache/x.csv": "3", "data/deep/y.tmp": "4", "data/deep/z.csv": "5", ".meatus-aside/old": "6", ".meatus-part-00": "7"})
	plant(t, b, map[string]string{"gone/a.log": "1", "gone/b": "2"})
	from, to := here(t, a), here(t, b)
	rules := cargo.Rules{Exclude: []string{"*.log", "cache/", "data/**/*.tmp"}, Delete: true}
	got := sorted(acts(planned(t, from, to, rules)))
	want := "leave gone: something in it is left, so the folder is, too\nmake data\nmake data/deep\nmake data/deep/z.csv\nmake keep.csv\nremove gone/b"
	if got != want {
		t.Errorf("the plan:\n%s", got)
	}
	if got := sorted(acts(planned(t, from, to, cargo.Rules{Include: []string{"*.csv"}}))); strings.Contains(got, "a.log") || !strings.Contains(got, "z.csv") {
		t.Errorf("with what is taken alone:\n%s", got)
	}
	for _, bad := range []string{"", "/", "[", "a{"} {
		if (cargo.Rules{Exclude: []string{bad}}).Check() == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestWhatWasPutAsideIsKeptForItsTime(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"x": "new!"})
	plant(t, b, map[string]string{"x": "old"})
	soon := old.Add(time.Hour)
	os.Chtimes(filepath.Join(a, "x"), soon, soon)
	from, to := here(t, a), here(t, b)
	carried(t, planned(t, from, to, cargo.Rules{}), from, to, cargo.Options{Keep: 48 * time.Hour})
	kept := func() int {
		all, _ := filepath.Glob(filepath.Join(b, cargo.AsideFolder, "*", "x"))
		return len(all)
	}
	for _, c := range []struct {
		after time.Duration
		kept  int
	}{{0, 1}, {47 * time.Hour, 1}, {96 * time.Hour, 0}} {
		if err := cargo.Expire(t.Context(), to, time.Now().Add(c.after)); err != nil || kept() != c.kept {
			t.Errorf("after %v: %d are kept, %v", c.after, kept(), err)
		}
	}
	if _, err := os.Stat(filepath.Join(b, cargo.AsideFolder)); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the folder is left: %v", err)
	}
}

func TestRecordsOfLongAgoGo(t *testing.T) {
	a, b, records := t.TempDir(), t.TempDir(), t.TempDir()
	from, to := here(t, a), here(t, b)
	for _, over := range []bool{true, false} {
		plant(t, a, map[string]string{fmt.Sprint("f", over): "1"})
		r, err := cargo.NewRecord(records, planned(t, from, to, cargo.Rules{}))
		if err != nil {
			t.Fatal(err)
		}
		if over {
			r.End()
		}
		r.Close()
	}
	for _, c := range []struct {
		days, left int
	}{{89, 2}, {91, 1}} {
		cargo.Prune(records, time.Now().AddDate(0, 0, c.days))
		if all, errs := cargo.Records(records); len(all) != c.left || len(errs) > 0 {
			t.Errorf("after %d days there are %d, %v", c.days, len(all), errs)
		}
	}
}

func TestALinkThatCannotTakeItsPlaceLeavesNothing(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	if err := os.Symlink("readings", filepath.Join(a, "latest")); err != nil {
		t.Fatal(err)
	}
	from, to := here(t, a), here(t, b)
	p := planned(t, from, to, cargo.Rules{})
	plant(t, b, map[string]string{"latest": "somebody was faster"})
	report, err := cargo.NewCarry(p, from, to, cargo.Options{}).Run(t.Context())
	if err != nil || report.Failed != 1 {
		t.Errorf("%+v, %v", report, err)
	}
	if got := tree2(t, b); got != listed(map[string]string{"latest": "somebody was faster"}) {
		t.Errorf("there is\n%s", got)
	}
}
