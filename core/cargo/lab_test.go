package cargo_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/custody"
	"meatus/core/ring"
	"meatus/core/walk"
	"meatus/lab"
	"meatus/lab/labtest"
)

// atArchive opens a tree of the bay's archive.
func atArchive(t testing.TB, dir string) (*ends.There, *lab.Host) {
	t.Helper()
	l, ws := labtest.Workspace(t)
	w := walk.New(walk.Config{Vouched: ws.Vouched, Asker: labtest.Yes{}, Network: l.Dialer(), Keys: custody.New(&ring.Ring{})})
	t.Cleanup(w.Close)
	r, err := ws.Planner().Plan("archive")
	if err != nil {
		t.Fatal(err)
	}
	far, err := ends.OpenThere(t.Context(), ends.Options{Session: "archive", Silence: 2 * time.Second, Walk: func(ctx context.Context, _ int, again bool) (*walk.Passage, error) {
		if again {
			return w.Await(ctx, r, time.Minute)
		}
		return w.Walk(ctx, r)
	}}, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { far.Close() })
	return far, l.Host("archive")
}

// The bay's archive comes whole, with its odd names and its link that leads nowhere.
func TestTheArchiveComesWhole(t *testing.T) {
	far, _ := atArchive(t, "/srv/archive")
	to := here(t, t.TempDir())
	report, _ := carried(t, planned(t, far, to, cargo.Rules{}), far, to, cargo.Options{})
	if report.Proven != 2024 {
		t.Errorf("%+v", report)
	}
	if p := planned(t, far, to, cargo.Rules{Content: true}); p.Acts() {
		t.Errorf("there is still something to do:\n%s", acts(p))
	}
	got := tree(t, to.Root())
	for name, want := range map[string]string{"latest": "-> readings/2004", "odd/caf\xe9.txt": "its name is no UTF-8\n", "odd/tide\ntable.txt": "a line's end is in its name\n", "readings/1999/02/03.txt": "1999-02-03 06:00 level "} {
		if !strings.HasPrefix(got[name], want) {
			t.Errorf("%q is %q", name, got[name])
		}
	}
}

// What goes wrong at a machine's files is found out and told, and loses nothing.
func TestFaultsOfAMachinesFiles(t *testing.T) {
	const before = "as it was\n"
	for _, c := range []struct {
		name  string
		fault func(*lab.FileFaults)
		proof cargo.Proof
		says  string // why nothing is there, "" where all is
	}{
		{"in good health", func(*lab.FileFaults) {}, cargo.ProveCheap, ""},
		{"forgets", func(f *lab.FileFaults) { f.Forget(true) }, cargo.ProveCheap, "differs from what is sent, twice"},
		{"forgets, and has no shell", func(f *lab.FileFaults) { f.Forget(true); f.FilesOnly(true) }, cargo.ProveAll, "differs from what is sent, twice"},
		{"forgets, and is read back in part", func(f *lab.FileFaults) { f.Forget(true); f.FilesOnly(true) }, cargo.ProveCheap, "differs from what is sent, twice"},
		{"lies about sizes", func(f *lab.FileFaults) { f.Lie(true); f.FilesOnly(true) }, cargo.ProveCheap, "have arrived"},
		{"has a quota", func(f *lab.FileFaults) { f.Quota(13_000_000) }, cargo.ProveCheap, "not enough room"},
		{"is cut in the middle", func(f *lab.FileFaults) { f.CutAfter(300_000) }, cargo.ProveCheap, ""},
		{"falls silent", func(f *lab.FileFaults) { f.Crowd(true) }, cargo.ProveCheap, ""},
		{"has files alone", func(f *lab.FileFaults) { f.FilesOnly(true) }, cargo.ProveCheap, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := t.TempDir()
			random(t, filepath.Join(a, "large"), 900_000)
			far, host := atArchive(t, "/home/keeper")
			host.SetText("/home/keeper/large", before)
			text, _ := os.ReadFile(filepath.Join(a, "large"))
			c.fault(&host.Files)
			if err := far.Again(t.Context()); err != nil {
				t.Fatal(err)
			}
			from := here(t, a)
			p, err := cargo.NewFilePlan(t.Context(), from, far, "large", "large", cargo.Rules{Over: cargo.OverAll})
			if err != nil {
				t.Fatal(err)
			}
			report, err := cargo.NewCarry(p, from, far, cargo.Options{Proof: c.proof}).Run(t.Context())
			said := ""
			if err != nil {
				said = err.Error()
			}
			for _, f := range report.Failures {
				said += f.Err.Error()
			}
			if !strings.Contains(said, c.says) || (c.says == "") != (said == "") {
				t.Errorf("it said %q", said)
			}
			want := before
			if c.says == "" {
				want = string(text)
			}
			if got := host.Text("/home/keeper/large"); got != want {
				t.Errorf("there are %d bytes, not %d", len(got), len(want))
			}
		})
	}
}

// Closing a file waits for a silent far side no longer than anything else does.
func TestClosingAFileAtASilentMachineEnds(t *testing.T) {
	far, host := atArchive(t, "/home/keeper")
	file, err := far.Create(t.Context(), "silent")
	if err != nil {
		t.Fatal(err)
	}
	host.Files.Silent(true)
	if err := file.Close(); !far.Lost(err) {
		t.Errorf("it said %v", err)
	}
}

func TestAClockThatIsOffIsTold(t *testing.T) {
	far, host := atArchive(t, "/home/keeper")
	host.Files.Clock(3 * time.Minute)
	if ahead, ok := far.Ahead(); !ok || ahead < 178 || ahead > 182 {
		t.Errorf("it is %d s ahead, %v", ahead, ok)
	}
}
