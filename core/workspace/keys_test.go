package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/core/keyfile"
)

// keyed is a workspace with keys in every state.
func keyed(t *testing.T) *Workspace {
	t.Helper()
	dir, downloads, folder := t.TempDir(), t.TempDir(), t.TempDir()
	os.Mkdir(filepath.Join(dir, "keys"), 0o700)
	put := func(path, passphrase string, mode os.FileMode) {
		key, err := keyfile.Make("Ed25519", 0)
		if err != nil {
			t.Fatal(err)
		}
		if err := keyfile.Write(path, key, keyfile.Wrapping{Passphrase: []byte(passphrase), Comment: "of " + filepath.Base(path)}); err != nil {
			t.Fatal(err)
		}
		os.Remove(path + ".pub")
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
	}
	put(filepath.Join(dir, "keys", "sound.pem"), "", 0o600)
	put(filepath.Join(dir, "keys", "loose.pem"), "", 0o640)
	put(filepath.Join(dir, "keys", "locked.pem"), "low tide", 0o600)
	put(filepath.Join(dir, "keys", "stray.pem"), "", 0o600)
	put(filepath.Join(downloads, "new.pem"), "", 0o600)
	put(filepath.Join(folder, "far.pem"), "", 0o600)
	text := "[session.a]\nhost = \"h\"\nkey = [\"keys/sound.pem\", \"keys/loose.pem\"]\n[session.b]\nhost = \"h\"\nkey = [\"keys/locked.pem\", \"keys/gone.pem\", \"keys/sound.pem\"]\n"
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	w.Downloads = downloads
	if err := w.AddKeyFolder(folder, true); err != nil {
		t.Fatal(err)
	}
	return w
}

func TestEveryKeyIsListedWithHowItStands(t *testing.T) {
	w := keyed(t)
	got := map[string]string{}
	for _, k := range w.Keys() {
		got[filepath.Base(k.Path)] = strings.Join(k.States(), " ") + ": " + strings.Join(k.Uses, " ")
	}
	for name, want := range map[string]string{
		"sound.pem": "sound: a b", "loose.pem": "loose: a", "locked.pem": "locked: b", "stray.pem": "stray: ",
		"gone.pem": "missing: b", "new.pem": "arrived: ", "far.pem": "stray: ",
	} {
		if got[name] != want {
			t.Errorf("%s is %q, want %q", name, got[name], want)
		}
	}
	if len(got) != 7 {
		t.Errorf("%d keys", len(got))
	}
	if err := w.AddKeyFolder(w.KeyFolders()[0], false); err != nil || len(w.KeyFolders()) != 0 {
		t.Errorf("folders %q, %v", w.KeyFolders(), err)
	}
	if err := w.AddKeyFolder("nowhere", true); err == nil {
		t.Error("added what is no folder")
	}
}

func TestWhichKeyIsAskedInManyWays(t *testing.T) {
	w := keyed(t)
	keys := w.Keys()
	at := slices.IndexFunc(keys, func(k Key) bool { return filepath.Base(k.Path) == "sound.pem" })
	k := keys[at]
	line := keyfile.PublicLine(k.Sheet.Public, "x")
	for _, asked := range []string{k.Sheet.SHA256, strings.TrimPrefix(k.Sheet.SHA256, "SHA256:"), "MD5:" + k.Sheet.MD5, line, "sound", "SOUND.pem", "of sound.pem", keyfile.PublicPrints(k.Sheet.Public)[2].Value} {
		found := WhichKey(keys, asked)
		if len(found) != 1 || found[0].Key.Path != k.Path || found[0].By == "" {
			t.Errorf("%q: %+v", asked, found)
		}
	}
	for _, none := range []string{"", "SHA256:" + strings.Repeat("A", 43), "soun"} {
		if found := WhichKey(keys, none); len(found) > 0 {
			t.Errorf("%q: %+v", none, found)
		}
	}
}

func TestAKeyAmongTwentyThousandDownloadsIsFound(t *testing.T) {
	w, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	w.Downloads = t.TempDir()
	for i := range 20_000 {
		if err := os.WriteFile(filepath.Join(w.Downloads, fmt.Sprintf("photo-%d.jpg", i)), []byte("no key"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	before := w.KeysStamp()
	key, err := keyfile.Make("Ed25519", 0)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(w.Downloads, "fresh.pem")
	if err := keyfile.Write(path, key, keyfile.Wrapping{}); err != nil {
		t.Fatal(err)
	}
	if found := w.Arrived(); len(found) != 1 || found[0].Path != path {
		t.Errorf("found %+v", found)
	}
	if w.KeysStamp() == before {
		t.Error("that it came is not seen")
	}
}
