package keyfile

import (
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"golang.org/x/crypto/ssh"
)

// folder is a folder with a loose key, a sound one and other things.
func folder(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	text := newPEM(t)
	for name, mode := range map[string]os.FileMode{"loose.pem": 0o644, "sound.pem": 0o600, "shut": 0o000} {
		put(t, filepath.Join(dir, name), text, mode)
	}
	put(t, filepath.Join(dir, "letter.txt"), []byte("how do I make a PRIVATE KEY?\n"), 0o644)
	put(t, filepath.Join(dir, "picture"), make([]byte, 1000), 0o644)
	if err := os.Mkdir(filepath.Join(dir, "below"), 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func put(t *testing.T, path string, text []byte, mode os.FileMode) {
	t.Helper()
	if err := os.WriteFile(path, text, mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
}

func names(sheets []Sheet) []string {
	var all []string
	for _, s := range sheets {
		all = append(all, filepath.Base(s.Path))
	}
	slices.Sort(all)
	return all
}

func TestKeysInAFolderAreFoundByWhatTheyHold(t *testing.T) {
	dir := folder(t)
	got := names(Found(dir))
	want := []string{"loose.pem", "sound.pem"}
	if os.Geteuid() == 0 { // who may read everything
		want = []string{"loose.pem", "shut", "sound.pem"}
	}
	if !slices.Equal(got, want) {
		t.Errorf("found %q, want %q", got, want)
	}
	if Found(filepath.Join(dir, "nowhere")) != nil {
		t.Error("keys in a folder that is not there")
	}
}

func TestAWholeFolderIsMended(t *testing.T) {
	dir := folder(t)
	changed, err := MendFolder(dir)
	if err != nil || !slices.Contains(changed, "loose.pem") || slices.Contains(changed, "sound.pem") {
		t.Fatalf("changed %q, %v", changed, err)
	}
	if info, _ := os.Stat(filepath.Join(dir, "loose.pem")); info.Mode().Perm() != 0o600 {
		t.Errorf("loose.pem has mode %o", info.Mode())
	}
	if info, _ := os.Stat(filepath.Join(dir, "letter.txt")); info.Mode().Perm() != 0o644 {
		t.Error("a letter was changed")
	}
	if again, err := MendFolder(dir); err != nil || len(again) != 0 {
		t.Errorf("again: %q, %v", again, err)
	}
}

func TestAdoptingMovesAKeyAndOverwritesNothing(t *testing.T) {
	from, keys := t.TempDir(), filepath.Join(t.TempDir(), "keys")
	first, second := newPEM(t), newPEM(t)
	adopt := func(name string, text []byte) string {
		path := filepath.Join(from, name)
		put(t, path, text, 0o644)
		to, err := Adopt(path, keys)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := os.Stat(path); !os.IsNotExist(err) {
			t.Errorf("%s is still there: %v", path, err)
		}
		info, err := os.Stat(to)
		if err != nil || info.Mode().Perm() != 0o400 {
			t.Errorf("%s: %v, %v", to, info, err)
		}
		return filepath.Base(to)
	}
	if to := adopt("a.pem", first); to != "a.pem" {
		t.Errorf("first as %s", to)
	}
	if to := adopt("a.pem", first); to != "a.pem" {
		t.Errorf("the same again as %s", to)
	}
	if to := adopt("a.pem", second); to != "a-2.pem" {
		t.Errorf("another of that name as %s", to)
	}
	letter := filepath.Join(from, "letter")
	put(t, letter, []byte("no key"), 0o644)
	if _, err := Adopt(letter, keys); err == nil {
		t.Error("a letter was adopted")
	}
	if _, err := os.Stat(letter); err != nil {
		t.Error("the letter is gone")
	}
}

// newPEM is a fresh private key.
func newPEM(t *testing.T) []byte {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return encode(must(ssh.MarshalPrivateKey(key, "")))
}

func TestAForeignFileIsTakenOverWhereTheSystemAllowsIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "k.pem")
	put(t, path, newPEM(t), 0o644)
	if os.Geteuid() == 0 {
		if err := os.Chown(path, 65534, 65534); err != nil {
			t.Fatal(err)
		}
	}
	a, err := Own(path)
	if fault, stopped := a.Blocked(); err != nil || stopped {
		t.Errorf("%v, %+v", err, fault)
	}
	if _, err := Own(path + "-not-there"); err == nil {
		t.Error("a file that is not there was taken over")
	}
}
