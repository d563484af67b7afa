package workspace

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
)

func TestAWorkspaceThatOthersCanWriteIsNotUsed(t *testing.T) {
	for _, part := range []string{book.FileName, StateDir, "."} {
		dir := t.TempDir()
		os.Mkdir(filepath.Join(dir, StateDir), 0o700)
		if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte("[session.quay]\nhost = \"203.0.113.10\"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(dir); err != nil {
			t.Fatal(err)
		}
		os.Chmod(filepath.Join(dir, part), 0o777)
		if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "others can write") {
			t.Errorf("%s of mode 0777: %v", part, err)
		}
	}
}

func TestTheNamedFolderWins(t *testing.T) {
	t.Setenv(Variable, "/from/environment")
	if got := Folder("/named"); got != "/named" {
		t.Errorf("named: %s", got)
	}
	if got := Folder(""); got != "/from/environment" {
		t.Errorf("from the environment: %s", got)
	}
	t.Setenv(Variable, "")
	if got := Folder(""); filepath.Base(got) != "meatus" {
		t.Errorf("by default: %s", got)
	}
}

func TestAMissingFileIsAnEmptyWorkspace(t *testing.T) {
	w, err := Open(filepath.Join(t.TempDir(), "new"))
	if err != nil || len(w.Book.Sessions) != 0 {
		t.Fatalf("%v", err)
	}
	b, err := book.Add(w.SessionsPath(), book.Draft{Name: "a", Host: "h"})
	if err != nil {
		t.Fatal(err)
	}
	if w.With(b).Book.Session("a") == nil {
		t.Error("the new session is not there")
	}
	again, err := w.Reread()
	if err != nil || again.Book.Session("a") == nil || w.Book.Session("a") != nil {
		t.Errorf("read again: %v", err)
	}
}

func TestABrokenSessionBecomesAReport(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte("[session.a]\nport = 1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, r := w.Check("a", w.Knowledge()); r.Verdict() != gate.Shut || r.Broken == "" {
		t.Errorf("report %+v", r)
	}
}

func TestKeysAreNamedAsARouteLineWantsThem(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "keys", "old"), 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"tide.pem", "tide.pem.pub"} {
		if err := os.WriteFile(filepath.Join(dir, "keys", name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if k := w.Known(nil).Keys; len(k) != 1 || k[0] != "tide.pem" {
		t.Errorf("keys %q", k)
	}
	home := filepath.Join(dir, "home")
	t.Setenv("HOME", home)
	k := w.Known([]keyfile.Sheet{{Access: keyfile.Access{Path: home + "/got/new.pem"}}, {Access: keyfile.Access{Path: "/srv/other.pem"}}})
	if !slices.Equal(k.Downloads, []string{"~/got/new.pem", "/srv/other.pem"}) {
		t.Errorf("keys elsewhere %q", k.Downloads)
	}
}

func TestAFileIsNoWorkspace(t *testing.T) {
	file := filepath.Join(t.TempDir(), "f")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(file); err == nil {
		t.Error("no error")
	}
}

func TestAWrittenFileIsNoticed(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new")
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	written, err := w.Watch(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "other"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := book.Add(w.SessionsPath(), book.Draft{Name: "a", Host: "h"}); err != nil {
		t.Fatal(err)
	}
	<-written
	again, err := w.Reread()
	if err != nil || again.Book.Session("a") == nil {
		t.Errorf("read again: %v", err)
	}
}

func TestMarksAreRemembered(t *testing.T) {
	w, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	other, _ := Open(w.Dir)
	for _, err := range []error{w.Mark("a", true), other.Mark("b", true), w.Mark("c", true), other.Mark("a", false)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if m, err := w.Marks(); err != nil || len(m) != 2 || !m["b"] || !m["c"] {
		t.Errorf("marks %v, %v", m, err)
	}
}
