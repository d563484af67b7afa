package farfile_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"meatus/core/farfile"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

// reached are the two ways to the same folder of a real server, by name.
func reached(t *testing.T) (folder string, ways map[string]farfile.Account) {
	t.Helper()
	s := servertest.Start(t)
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(t.TempDir(), "v")), Asker: labtest.Yes{}})
	t.Cleanup(w.Close)
	p, err := w.Walk(t.Context(), s.Way(1))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	client, done, err := remote.Files(t.Context(), p, 0)
	if err != nil {
		t.Fatal(err)
	}
	files := &farfile.Files{Client: client, Done: done}
	t.Cleanup(files.Close)
	return t.TempDir(), map[string]farfile.Account{"commands": farfile.Commands{Passage: p}, "files": files}
}

func TestAFileBecomesWhatItIsToBeAndNothingElse(t *testing.T) {
	dir, ways := reached(t)
	for name, a := range ways {
		for _, base := range []string{"plain", "it's a $(touch ran)", `back\slash`, "ünïcode\n!!"} {
			path := filepath.Join(dir, name+base)
			on := func(what string, want farfile.State, c farfile.Change, wrong error) {
				t.Helper()
				c.Path = path
				if err := farfile.Apply(t.Context(), a, c, nil, ""); !errors.Is(err, wrong) {
					t.Errorf("%s, %q, %s: %v", name, base, what, err)
				}
				text, err := os.ReadFile(path)
				if now := (farfile.State{err == nil, text}); !now.Same(want) {
					t.Errorf("%s, %q, %s: it is %q", name, base, what, now.Text)
				}
				if now, err := a.Read(t.Context(), path); err != nil || !now.Same(want) {
					t.Errorf("%s, %q, %s: it is read as %q, %v", name, base, what, now.Text, err)
				}
			}
			one, two, empty := farfile.Text([]byte("one\x00\n")), farfile.Text([]byte("two")), farfile.Text(nil)
			on("made", one, farfile.Change{Before: farfile.None, After: one, Mode: 0o640}, nil)
			if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o640 {
				t.Errorf("%s: %v, %v", name, info.Mode(), err)
			}
			os.Chmod(path, 0o664)
			on("another stands there", one, farfile.Change{Before: two, After: empty}, farfile.ErrChanged)
			on("nothing was to stand there", one, farfile.Change{Before: farfile.None, After: two}, farfile.ErrChanged)
			on("replaced and kept", two, farfile.Change{Before: one, After: two, Deny: 0o022, Keep: true}, nil)
			if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o644 {
				t.Errorf("%s: %v, %v", name, info.Mode(), err)
			}
			on("emptied", empty, farfile.Change{Before: two, After: empty, Keep: true}, nil)
			if kept, err := os.ReadFile(farfile.Kept(path)); err != nil || string(kept) != "one\x00\n" {
				t.Errorf("%s: what was first is kept as %q, %v", name, kept, err)
			}
			on("removed, and it is another", empty, farfile.Change{Before: one}, farfile.ErrChanged)
			on("removed", farfile.None, farfile.Change{Before: empty, Keep: true}, nil)
			on("done already", farfile.None, farfile.Change{}, nil)
			if err := farfile.Drop(t.Context(), a, path); err != nil {
				t.Error(err)
			}
		}
	}
	if left, _ := os.ReadDir(dir); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}

func TestAFolderAndALongFileAreLeft(t *testing.T) {
	dir, ways := reached(t)
	for name, a := range ways {
		if err := farfile.Apply(t.Context(), a, farfile.Change{Path: dir, After: farfile.Text([]byte("x")), Mode: 0o600}, nil, ""); err == nil {
			t.Errorf("%s: a folder was replaced", name)
		}
		if err := farfile.Apply(t.Context(), a, farfile.Change{Path: dir + "/long", After: farfile.Text(make([]byte, farfile.Max+1))}, nil, ""); err == nil {
			t.Errorf("%s: a file was written that is too long", name)
		}
		if err := os.WriteFile(dir+"/there", make([]byte, farfile.Max+70<<10), 0o600); err != nil {
			t.Fatal(err)
		}
		if s, err := a.Read(t.Context(), dir+"/there"); err == nil {
			t.Errorf("%s: %d bytes were read of one that is too long", name, len(s.Text))
		}
	}
}

func TestWhatIsSaidAfterALostLineIsWhatWasFound(t *testing.T) {
	dir, ways := reached(t)
	a := ways["commands"]
	path := filepath.Join(dir, "list")
	if err := os.WriteFile(path, []byte("one"), 0o600); err != nil {
		t.Fatal(err)
	}
	again := func(context.Context) (farfile.Account, error) { return a, nil }
	never := func(context.Context) (farfile.Account, error) { return nil, errors.New("nobody is there") }
	c := farfile.Change{Path: path, Before: farfile.Text([]byte("one")), After: farfile.Text([]byte("two"))}
	var not *farfile.NotMade
	if err := farfile.Apply(t.Context(), farfile.Lose(a, false), c, again, ""); !errors.As(err, &not) {
		t.Errorf("one that was not made: %v", err)
	}
	if err := farfile.Apply(t.Context(), farfile.Lose(a, true), c, again, ""); err != nil {
		t.Errorf("one that was made: %v", err)
	}
	c.Before, c.After = c.After, c.Before
	var unknown *farfile.Unknown
	if err := farfile.Apply(t.Context(), farfile.Lose(a, true), c, farfile.Patiently(never, time.Millisecond), "meatus run box -- cat list"); !errors.As(err, &unknown) || !strings.Contains(err.Error(), "meatus run box -- cat list") {
		t.Errorf("one of which nothing is known: %v", err)
	}
	os.WriteFile(path, []byte("three"), 0o600)
	if err := farfile.Apply(t.Context(), farfile.Lose(a, false), c, again, ""); !errors.Is(err, farfile.ErrChanged) {
		t.Errorf("one that somebody else made: %v", err)
	}
}

// Input that ends too early changes nothing, wherever it ends.
func TestWhatDoesNotArriveWholeIsNotPut(t *testing.T) {
	text := bytes.Repeat([]byte("0123456789\n"), 20)
	path := filepath.Join(t.TempDir(), "file")
	for n := 0; n < len(text); n += 7 {
		for _, part := range [][]byte{text[:n], append(bytes.Clone(text[:n]), bytes.Repeat([]byte("x"), len(text)-n)...)} {
			if err := os.WriteFile(path, []byte("before"), 0o600); err != nil {
				t.Fatal(err)
			}
			replace(t, path, part, len(text), farfile.Sum(farfile.Text(text)), farfile.Sum(farfile.Text([]byte("before"))))
			if now, _ := os.ReadFile(path); string(now) != "before" {
				t.Fatalf("%d of %d bytes: it is %q", n, len(text), now)
			}
		}
	}
	if left, _ := os.ReadDir(filepath.Dir(path)); len(left) != 1 {
		t.Errorf("%v is left", left)
	}
}

// A connection that ends before the answer leaves the file as it was, and no temporary file.
func TestALostConnectionLeavesNoTemporaryFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(path, []byte("before"), 0o600); err != nil {
		t.Fatal(err)
	}
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	read.Close()
	defer write.Close()
	run := exec.Command("sh", "-c", posix.Line(farfile.ReplaceScript, path, "name", "5", farfile.Sum(farfile.Text([]byte("after"))), farfile.Sum(farfile.Text([]byte("before"))), "600", "", "keep"))
	run.Stdin, run.Stdout = strings.NewReader("after"), write
	if err := run.Run(); err == nil {
		t.Error("it says that the file was replaced, to nobody")
	}
	if now, _ := os.ReadFile(path); string(now) != "before" {
		t.Errorf("it is %q", now)
	}
	if left, _ := filepath.Glob(path + ".meatus-new-*"); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}

func replace(t *testing.T, path string, input []byte, size int, sum, before string) ([]byte, error) {
	run := exec.Command("sh", "-c", posix.Line(farfile.ReplaceScript, path, "name", strconv.Itoa(size), sum, before, "600", "", ""))
	run.Stdin = bytes.NewReader(input)
	return run.Output()
}

func FuzzReplaceAndRead(f *testing.F) {
	f.Add("name", []byte("text"), []byte("other"))
	f.Add("-n $(x) 'y'\n", []byte{}, []byte("\x00\xff"))
	f.Add("*", []byte("=meatus=\n"), []byte("there 4\n"))
	f.Fuzz(func(t *testing.T, name string, text, input []byte) {
		name = strings.NewReplacer("/", "", "\x00", "").Replace(name)
		if name == "" || name == "." || name == ".." || len(name) > 150 {
			return
		}
		path := filepath.Join(t.TempDir(), name)
		out, err := replace(t, path, input, len(text), farfile.Sum(farfile.Text(text)), "none")
		whole := bytes.Equal(input, text)
		if got, there := os.ReadFile(path); (there == nil) != whole || whole && !bytes.Equal(got, text) || (err == nil) != whole {
			t.Fatalf("%q: %q %v: it is %q", name, out, err, got)
		}
		out, err = exec.Command("sh", "-c", posix.Line(farfile.ReadScript, path, "-")).Output()
		_, after, _ := bytes.Cut(out, []byte("=meatus=\n"))
		if s, perr := farfile.Parse(path, after); err != nil || perr != nil || s.There != whole || whole && !bytes.Equal(s.Text, text) {
			t.Fatalf("%q: %v %v: it is read as %q", name, err, perr, s.Text)
		}
		if _, err := farfile.Parse(path, input); err == nil && len(input) == 0 {
			t.Fatal("nothing at all is a state")
		}
	})
}
