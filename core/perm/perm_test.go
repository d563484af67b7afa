package perm

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func file(t *testing.T, mode fs.FileMode) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "sessions.toml")
	if err := os.WriteFile(path, []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestWhatOthersCanWriteIsForeign(t *testing.T) {
	for mode, want := range map[fs.FileMode]string{0o600: "", 0o644: "", 0o400: "", 0o664: "set mode 0644", 0o602: "set mode 0600", 0o666: "set mode 0644"} {
		err := Judge(file(t, mode))
		var foreign *Foreign
		switch {
		case want == "" && err != nil:
			t.Errorf("%04o: %v", mode, err)
		case want != "" && (!errors.As(err, &foreign) || foreign.Mend != want || !foreign.Mode):
			t.Errorf("%04o: got %v", mode, err)
		}
	}
	if err := Judge(filepath.Join(t.TempDir(), "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what is not there: %v", err)
	}
}

func TestAFolderOthersCanWriteMakesItForeign(t *testing.T) {
	path := file(t, 0o600)
	os.Chmod(filepath.Dir(path), 0o777)
	var foreign *Foreign
	if err := Judge(path); !errors.As(err, &foreign) || !strings.Contains(foreign.Say, filepath.Dir(path)) {
		t.Errorf("got %v", err)
	}
	os.Chmod(filepath.Dir(path), 0o777|fs.ModeSticky)
	if err := Judge(path); err != nil {
		t.Errorf("in a sticky folder: %v", err)
	}
	// A link is judged where it stands, and where it leads.
	safe := file(t, 0o600)
	os.Remove(safe)
	os.Chmod(filepath.Dir(path), 0o777)
	if err := os.Symlink(path, safe); err != nil {
		t.Fatal(err)
	}
	if err := Judge(safe); !errors.As(err, &foreign) {
		t.Errorf("a link into a folder of others: %v", err)
	}
}

func TestAnotherAccountsFileIsForeign(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("only the superuser can give a file away; the rule is tested where it is")
		return
	}
	path := file(t, 0o600)
	os.Chown(path, 1234, 1234)
	var foreign *Foreign
	if err := Judge(path); !errors.As(err, &foreign) || !strings.Contains(foreign.Say, "belongs to 1234") {
		t.Errorf("got %v", err)
	}
	path = file(t, 0o600)
	os.Chown(filepath.Dir(path), 1234, 1234)
	if err := Judge(path); !errors.As(err, &foreign) || !strings.Contains(foreign.Say, "the folder") {
		t.Errorf("in a folder of another account: %v", err)
	}
	if err := Restrict(file(t, 0o600), func(fs.FileMode) fs.FileMode { return 0o600 }, nil); err != nil {
		t.Errorf("our own file: %v", err)
	}
	path = file(t, 0o644)
	os.Chown(path, 1234, 1234)
	if err := Restrict(path, func(fs.FileMode) fs.FileMode { return 0o600 }, nil); err == nil {
		t.Error("another account's file was changed")
	}
}

func TestRestrictFollowsNoLinkAndUndoesWhatIsRefused(t *testing.T) {
	path := file(t, 0o644)
	to600 := func(fs.FileMode) fs.FileMode { return 0o600 }
	mode := func() fs.FileMode { info, _ := os.Stat(path); return info.Mode().Perm() }
	link := path + ".link"
	os.Symlink(path, link)
	if err := Restrict(link, to600, nil); err == nil || mode() != 0o644 {
		t.Errorf("through a link: %v, mode %04o", err, mode())
	}
	no := errors.New("no")
	if err := Restrict(path, to600, func(*os.File) error { return no }); !errors.Is(err, no) || mode() != 0o644 {
		t.Errorf("refused: %v, mode %04o", err, mode())
	}
	os.Chmod(path, 0o200)
	read := ""
	err := Restrict(path, to600, func(f *os.File) error {
		var b [1]byte
		_, err := f.Read(b[:])
		read = string(b[:])
		return err
	})
	if err != nil || mode() != 0o600 || read != "x" {
		t.Errorf("not readable before: %v, mode %04o, read %q", err, mode(), read)
	}
	if err := Restrict(filepath.Dir(path), to600, nil); err == nil {
		t.Error("a folder was changed")
	}
}
