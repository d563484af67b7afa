package followed

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// following is a file that is followed by a clock of the test.
type following struct {
	*testing.T
	*Files
	path string
	now  time.Time
}

func follow(t *testing.T, texts bool) *following {
	f := &following{T: t, path: filepath.Join(t.TempDir(), "file"), now: time.Now()}
	f.write("first\n")
	f.Files = New(f.path)
	f.texts = texts
	f.clock = func() time.Time { return f.now }
	if !f.Changed() || !f.Take() || f.Changed() {
		t.Fatal("what is read for the first time is not taken")
	}
	return f
}

func (f *following) write(text string) {
	if err := os.WriteFile(f.path, []byte(text), 0o600); err != nil {
		f.Fatal(err)
	}
}

// sees tells whether a change is seen within some time, as a program looks that follows the file.
func (f *following) sees(within time.Duration) bool {
	for until := f.now.Add(within); f.now.Before(until); {
		f.now = f.now.Add(LookEvery)
		if f.Changed() {
			return f.Take()
		}
	}
	return false
}

func TestAFileIsSeenToChangeHoweverItDoes(t *testing.T) {
	second := time.Second
	for name, change := range map[string]func(f *following){
		"written":                   func(f *following) { f.write("other\n") },
		"its permissions":           func(f *following) { os.Chmod(f.path, 0o660) },
		"moved away":                func(f *following) { os.Remove(f.path) },
		"same length and same time": func(f *following) { at := times(f); f.write("third\n"); os.Chtimes(f.path, at, at) },
		"another file of the same time": func(f *following) {
			at := times(f)
			if err := os.WriteFile(f.path+"2", []byte("third\n"), 0o600); err != nil {
				f.Fatal(err)
			}
			os.Chtimes(f.path+"2", at, at)
			os.Rename(f.path+"2", f.path)
		},
	} {
		f := follow(t, true)
		change(f)
		if !f.sees(second) {
			t.Errorf("%s: it is not seen", name)
		}
		if f.sees(second) {
			t.Errorf("%s: it is seen twice", name)
		}
		os.Remove(f.path)
		f.write("first\n")
		os.Chmod(f.path, 0o600)
		if !f.sees(second) {
			t.Errorf("%s, and back: it is not seen", name)
		}
	}
}

func times(f *following) time.Time {
	info, err := os.Stat(f.path)
	if err != nil {
		f.Fatal(err)
	}
	return info.ModTime()
}

func TestAFileThatIsBeingWrittenIsNotTaken(t *testing.T) {
	f := follow(t, true)
	text := ""
	for _, piece := range []string{"allow mi", "ra to reef\n", "deny os", "kar to any", "thing\n"} {
		text += piece
		f.write(text)
		if f.sees(LookEvery) {
			t.Fatalf("it was taken at %q", text)
		}
	}
	if !f.sees(time.Second) {
		t.Error("it was not taken when it was whole")
	}
	f.write("deny oskar to an")
	if f.sees(3 * time.Second) {
		t.Error("a line without an end was taken at once")
	}
	if !f.sees(3 * time.Second) {
		t.Error("a last line without an end is never taken")
	}
}

func TestAFileThatChangesWhileItIsReadIsReadAgain(t *testing.T) {
	f := follow(t, false)
	f.write("second\n")
	for !f.Changed() {
		f.now = f.now.Add(LookEvery)
	}
	f.write("third\n")
	if f.Take() {
		t.Error("what was read counts, and is another by now")
	}
	if !f.sees(time.Second) {
		t.Error("it is not read again")
	}
}
