package e2e

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestKeysAreSeenMendedAdoptedAndMade(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 40, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("K")
	s.until("8 keys · 1 missing · 3 loose", "❯ ● gauge.pem", "gauge-1, gauge-2", "SEC1", "owner  group  others", "MD5 DER")
	s.text("/")
	s.text("tide.pem")
	s.keys("Enter")
	s.until("❯ ╳ tide.pem", "▨", "2 too many", "opens       tide-db")
	s.text("m")
	s.until("tide.pem has mode 0600", "● tide.pem")
	s.keys("Escape")
	s.until("shore.pem")

	s.text("/")
	s.text("arrived")
	s.keys("Enter")
	s.until("downloads/buoy.pem")
	s.text("m")
	s.until("is ", "keys/buoy.pem now", "7 keys", "❯ ● buoy.pem", "gauge.pem")

	s.text("n")
	s.until("name of the new key")
	s.keys("C-u")
	s.text("pier.pem")
	s.keys("Enter")
	s.until("kind (Ed25519")
	s.keys("Enter")
	s.until("anyone with the file can use the key):")
	s.text("tide")
	s.until("it is short")
	s.text(" tables of the bay")
	s.until("a good one")
	s.keys("Enter")
	s.until("the same again")
	s.text("tide tables of the bay")
	if seen := s.see(); strings.Contains(seen, "tables of the bay") {
		t.Errorf("the passphrase is shown:\n%s", seen)
	}
	s.keys("Enter")
	s.until("pier.pem is made", "8 keys")
	info, err := os.Stat(filepath.Join(dir, "keys", "pier.pem"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("pier.pem: %v, %v", info, err)
	}

	line, _ := os.ReadFile(filepath.Join(dir, "lab", "survey.pem.pub"))
	s.pasteText(strings.TrimSpace(string(line)))
	s.until("survey.pem is ", "by the public key itself", "❯ ● survey.pem")
	s.keys("Escape")
	s.gone("by the public key itself")
	s.text("a")
	s.until("a fingerprint, a public key")
	s.text("nothing-like-it")
	s.keys("Enter")
	s.until("no key here fits nothing-like-it", "cannot be downloaded again")
	s.keys("Escape")
	s.gone("no key here fits")
	s.text("D") // survey.pem is still selected
	s.until("move survey.pem aside", "survey-web will have it no more")
	s.keys("Enter")
	s.until("retired/survey.pem now; survey-web has it no more", "missing")

	if err := os.WriteFile(filepath.Join(dir, "downloads", "fresh.pem"), must(os.ReadFile(filepath.Join(dir, "keys", "shore.pem"))), 0o644); err != nil {
		t.Fatal(err)
	}
	s.until("fresh.pem has arrived in the download folder")

	// What was typed stands nowhere.
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if text, err := os.ReadFile(path); err == nil && bytes.Contains(text, []byte("tide tables of the bay")) {
				t.Errorf("the passphrase stands in %s", path)
			}
		}
		return nil
	})
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestAServerIsAskedWhichKeyItWouldTake(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 40, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("/gauge-1")
	s.keys("Tab")
	s.text("e")
	s.until("session sheet ─ gauge-1")
	s.keys("Down", "Down", "Down", "Down", "Down", "Down", "Down", "Enter")
	s.until("key files, separated by commas")
	s.text("keys/shore.pem")
	s.keys("Enter")
	s.until("key is saved")
	s.keys("Escape")
	s.gone("session sheet")
	s.keys("Enter")
	s.until("no key accepted at gauge-1")
	s.text("m")
	s.until("ask the server which of your keys it accepts")
	s.keys("End", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Enter")
	s.until("the server accepts it", "❯ use the key gauge.pem")
	s.keys("Enter")
	s.until("key of gauge-1 is keys/gauge.pem now")
}

// withPass runs a key command with a passphrase on file descriptor 3.
func withPass(t *testing.T, dir, pass string, args ...string) result {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	w.WriteString(pass + "\n")
	w.Close()
	cmd := exec.Command("setsid", append([]string{"-w", program, "--workspace", dir, "key"}, args...)...)
	cmd.ExtraFiles = []*os.File{r}
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Run()
	r.Close()
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

func TestKeysOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "a.pem")
	if r := do(t, dir, "", "key", "make", path); r.status != 2 || !strings.Contains(r.err, "nobody to ask") {
		t.Errorf("with nobody to ask: %+v", r)
	}
	if r := withPass(t, dir, "four words of the sea", "make", path, "--passphrase-fd", "3", "--comment", "of the pier"); r.status != 0 || !strings.Contains(r.out, "Ed25519, 256 bits, sound") || !strings.Contains(r.out, "bcrypt, ") {
		t.Fatalf("%+v", r)
	}
	if r := withPass(t, dir, "x", "make", path, "--passphrase-fd", "3"); r.status != 1 || !strings.Contains(r.err, "already") {
		t.Errorf("written over: %+v", r)
	}
	shown := do(t, dir, "", "key", "show", "--json", path)
	if shown.status != 0 || !strings.Contains(shown.out, `"passphrase": true`) || !strings.Contains(shown.out, `"of the pier"`) {
		t.Errorf("%+v", shown)
	}
	if r := withPass(t, dir, "four words of the sea", "convert", path, "--passphrase-fd", "3", "--format", "pkcs8", "--keep-passphrase"); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if r := withPass(t, dir, "wrong", "convert", path, "--passphrase-fd", "3", "--no-passphrase"); r.status == 0 || !strings.Contains(r.err, "does not open the key") {
		t.Errorf("a wrong passphrase: %+v", r)
	}
	if r := withPass(t, dir, "four words of the sea", "convert", path, "--passphrase-fd", "3", "--no-passphrase", "--format", "bcrypt"); r.status != 0 {
		t.Errorf("%+v", r)
	}
	public := do(t, dir, "", "key", "public", path)
	if !strings.HasPrefix(public.out, "ssh-ed25519 ") {
		t.Errorf("%+v", public)
	}
	if r := do(t, dir, "", "key", "public", "--rfc4716", path); !strings.HasPrefix(r.out, "---- BEGIN SSH2 PUBLIC KEY ----\n") {
		t.Errorf("%+v", r)
	}
	os.Chmod(path, 0o644)
	if r := do(t, dir, "", "key", "show", path); r.status != 3 || !strings.Contains(r.out, "mode 0644") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "mend", path); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "adopt", path); r.status != 0 || r.out != filepath.Join(dir, "keys", "a.pem")+"\n" {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "find", strings.TrimSpace(public.out)); r.status != 0 || !strings.Contains(r.out, "keys/a.pem") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "find", "SHA256:"+strings.Repeat("A", 43)); r.status != 3 || !strings.Contains(r.err, "no key here fits") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "rename", filepath.Join(dir, "keys", "a.pem"), "b.pem"); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "retire", filepath.Join(dir, "keys", "b.pem")); r.status != 0 || !strings.Contains(r.out, "retired/b.pem") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "list", "--json"); r.status != 0 || strings.TrimSpace(r.out) != "[]" {
		t.Errorf("%+v", r)
	}
}

// TestNoSecretIsWritten has secrets typed wherever they can be, and then looks for
// them in everything that was written and shown.
func TestNoSecretIsWritten(t *testing.T) {
	t.Parallel()
	dir, logs := t.TempDir(), t.TempDir()
	const mark = "marked-by-the-test"
	s := show(t, 120, 40, "env", "TMPDIR="+logs, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("K")
	s.until("8 keys")
	s.text("n")
	s.until("name of the new key")
	s.keys("C-u")
	s.text("hidden.pem")
	s.keys("Enter", "Enter")
	s.until("anyone with the file")
	s.text(mark + " passphrase")
	s.keys("Enter")
	s.until("the same again")
	s.text(mark + " passphrase")
	s.keys("Enter")
	s.until("hidden.pem is made")
	s.text("/hidden")
	s.keys("Enter")
	s.until("❯ ● hidden.pem")
	s.text("l")
	s.until("passphrase of hidden.pem")
	s.text(mark + " wrong")
	s.keys("Enter")
	s.until("does not open the key")
	s.text("l")
	s.until("passphrase of hidden.pem")
	s.text(mark + " passphrase")
	s.keys("Enter")
	s.until("is held in memory")
	s.lead("G")
	s.until("1 key in memory")
	s.text("L")
	s.until("lock the ring")
	s.text(mark + " lock")
	s.keys("Enter")
	s.text(mark + " lock")
	s.keys("Enter")
	s.until("╳ hidden.pem")
	s.keys("Escape")
	s.until("22 routes")
	s.text("/sill")
	s.keys("Enter")
	s.until("password of keeper at sill")
	s.text(mark + " password")
	s.keys("Enter")
	s.until("that was not accepted")
	s.keys("Escape")
	s.gone("password of keeper")
	s.lead("T")
	s.until("a password")
	seen := s.see()
	s.keys("Escape")
	s.until("22 routes")
	s.text("q")
	bodies := map[string]string{} // the last full line inside each private key, and its file
	for _, path := range must(filepath.Glob(filepath.Join(dir, "keys", "*.pem"))) {
		lines := strings.Split(strings.TrimSpace(string(must(os.ReadFile(path)))), "\n")
		lines = slices.DeleteFunc(lines, func(l string) bool { return len(l) < 40 || strings.HasPrefix(l, "-") })
		bodies[lines[len(lines)-1]] = path
	}
	search := func(path string, text []byte) {
		if bytes.Contains(text, []byte(mark)) {
			t.Errorf("a secret stands in %s", path)
		}
		for body, own := range bodies {
			if path != own && len(body) > 12 && bytes.Contains(text, []byte(body)) {
				t.Errorf("the key %s stands in %s", filepath.Base(own), path)
			}
		}
	}
	search("the screen", []byte(seen))
	for _, root := range []string{dir, logs} {
		filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				text, err := os.ReadFile(path)
				if err != nil && !errors.Is(err, fs.ErrNotExist) { // a closed trail takes its companions away
					t.Error(err)
				}
				search(path, text)
			}
			return nil
		})
	}
	for _, args := range [][]string{{"trail", "--json"}, {"export", "--format", "json"}, {"check", "--json"}, {"key", "list", "--json"}, {"key", "show", "--json", filepath.Join(dir, "keys", "hidden.pem")}} {
		r := do(t, dir, "", args...)
		search(strings.Join(args, " "), []byte(r.out+r.err))
	}
}
