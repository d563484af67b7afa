package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// mounted runs the program where dir is mounted as a script says, in a mount
// namespace of its own. $DIR in the script is the folder.
func mounted(t *testing.T, dir, script string, args ...string) result {
	t.Helper()
	need(t, "unshare")
	if os.Geteuid() != 0 {
		missing(t, "mount namespaces need the superuser")
	}
	return doIn(t, []string{"env", "DIR=" + dir, "unshare", "-m", "sh", "-ec", script + `; exec "$@"`, "sh"}, dir, "", args...)
}

// someSessions is a workspace with a few sessions, and a list that adds one.
func someSessions(t *testing.T) (dir, list string, before []byte) {
	t.Helper()
	dir = t.TempDir()
	before = []byte("# mine\n[session.quay]\nhost = \"203.0.113.10\"\n")
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), before, 0o600); err != nil {
		t.Fatal(err)
	}
	list = filepath.Join(t.TempDir(), "list.csv")
	if err := os.WriteFile(list, []byte("name,host\ntide-db,10.61.4.20\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir, list, before
}

func TestAReadOnlyFolderIsToldAndHarmsNothing(t *testing.T) {
	t.Parallel()
	dir, list, before := someSessions(t)
	ro := `mount --bind "$DIR" "$DIR" && mount -o remount,ro,bind "$DIR"`
	r := mounted(t, dir, ro, "import", "--yes", list)
	if r.status != 1 || !strings.Contains(r.err, "read-only file system") || !strings.Contains(r.err, dir) {
		t.Errorf("importing: %+v", r)
	}
	if r := mounted(t, dir, ro, "check"); r.status != 0 || !strings.Contains(r.out, "quay") {
		t.Errorf("checking needs no writing: %+v", r)
	}
	if now, _ := os.ReadFile(filepath.Join(dir, "sessions.toml")); !bytes.Equal(now, before) {
		t.Errorf("the file is now %q", now)
	}
}

func TestAFullDiskLeavesTheFileAsItWas(t *testing.T) {
	t.Parallel()
	dir, list, before := someSessions(t)
	full := `mount -t tmpfs -o size=64k none "$DIR"; printf '# mine\n[session.quay]\nhost = "203.0.113.10"\n' > "$DIR/sessions.toml"; head -c 1000000 /dev/zero > "$DIR/ballast" 2>/dev/null || true`
	r := mounted(t, dir, full, "import", "--yes", list)
	if r.status != 1 || !strings.Contains(r.err, "no space left on device") {
		t.Errorf("importing: %+v", r)
	}
	// What is left is seen from inside, where the disk is.
	script := full + `; ` + program + ` --workspace "$DIR" import --yes ` + list + ` >/dev/null 2>&1 || true; cp "$DIR/sessions.toml" ` + list + `.after`
	mounted(t, dir, script, "check")
	if now, err := os.ReadFile(list + ".after"); err != nil || !bytes.Equal(now, before) {
		t.Errorf("the file is now %q, %v", now, err)
	}
}

func TestManyProgramsEditWithoutLosingAnything(t *testing.T) {
	t.Parallel()
	dir, _, _ := someSessions(t)
	var group sync.WaitGroup
	for i := range 12 {
		list := filepath.Join(t.TempDir(), fmt.Sprintf("list-%d.csv", i))
		if err := os.WriteFile(list, fmt.Appendf(nil, "name,host\npier-%d,10.61.5.%d\n", i, i), 0o600); err != nil {
			t.Fatal(err)
		}
		group.Go(func() {
			if r := do(t, dir, "", "import", "--yes", list); r.status != 0 {
				t.Errorf("program %d: %+v", i, r)
			}
		})
	}
	group.Wait()
	text, _ := os.ReadFile(filepath.Join(dir, "sessions.toml"))
	for i := range 12 {
		if !strings.Contains(string(text), fmt.Sprintf("[session.pier-%d]", i)) {
			t.Errorf("pier-%d is lost:\n%s", i, text)
		}
	}
	if !strings.HasPrefix(string(text), "# mine\n") {
		t.Errorf("the file is\n%s", text)
	}
}

func TestAProgramKilledWhileSavingLosesNothing(t *testing.T) {
	t.Parallel()
	dir, _, before := someSessions(t)
	list := filepath.Join(t.TempDir(), "list.csv")
	var rows strings.Builder
	rows.WriteString("name,host\n")
	for i := range 20_000 {
		fmt.Fprintf(&rows, "pier-%d,10.61.%d.%d\n", i, i/250, i%250)
	}
	if err := os.WriteFile(list, []byte(rows.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "sessions.toml")
	for range 12 {
		cmd := exec.Command(program, "--workspace", dir, "import", "--yes", list)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(rand.N(700 * time.Millisecond))
		cmd.Process.Kill()
		cmd.Wait()
		now, err := os.ReadFile(file)
		switch {
		case err != nil:
			t.Fatal(err)
		case bytes.Equal(now, before):
		case strings.Count(string(now), "[session.") == 20_001 && bytes.HasSuffix(now, []byte("10.61.79.249\"\n")):
			if err := os.WriteFile(file, before, 0o600); err != nil {
				t.Fatal(err)
			}
		default:
			t.Fatalf("the file is neither as it was nor as it was to be: %d bytes", len(now))
		}
	}
	if r := do(t, dir, "", "check", "quay"); r.status != 0 {
		t.Errorf("afterwards: %+v", r)
	}
}

func TestALargeFileIsRead(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var text strings.Builder
	for i := 0; text.Len() < 20<<20; i++ {
		fmt.Fprintf(&text, "# the berth of ship %d, %s\n[session.ship-%d]\nhost = \"10.%d.%d.%d\"\n\n", i, strings.Repeat("x", 300), i, i>>16, i>>8&255, i&255)
	}
	file := filepath.Join(dir, "sessions.toml")
	if err := os.WriteFile(file, []byte(text.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := do(t, dir, "", "check", "ship-5000"); r.status != 0 || !strings.Contains(r.out, "ship-5000  not checked") {
		t.Errorf("%+v", r)
	}
	if err := os.Truncate(file, 64<<20); err != nil {
		t.Fatal(err)
	}
	if r := do(t, dir, "", "check"); r.status != 4 || !strings.Contains(r.err, "bytes long") {
		t.Errorf("a file without end: %+v", r)
	}
}

func TestAFullDiskLeavesAKeyAsItWas(t *testing.T) {
	t.Parallel()
	dir, kept := t.TempDir(), filepath.Join(t.TempDir(), "kept.pem")
	if r := do(t, filepath.Dir(kept), "", "key", "make", "--no-passphrase", kept); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	before := must(os.ReadFile(kept))
	full := `mount -t tmpfs -o size=64k none "$DIR"; install -m 600 ` + kept + ` "$DIR/a.pem"; head -c 1000000 /dev/zero > "$DIR/ballast" 2>/dev/null || true`
	r := mounted(t, dir, full, "key", "convert", filepath.Join(dir, "a.pem"), "--no-passphrase", "--format", "pkcs8")
	if r.status != 1 || !strings.Contains(r.err, "no space left on device") {
		t.Errorf("wrapping: %+v", r)
	}
	if r := mounted(t, dir, full, "key", "make", "--no-passphrase", filepath.Join(dir, "b.pem")); r.status != 1 || !strings.Contains(r.err, "no space left on device") {
		t.Errorf("making: %+v", r)
	}
	// What is left is seen from inside, where the disk is.
	script := full + `; ` + program + ` key convert "$DIR/a.pem" --no-passphrase --format pkcs8 >/dev/null 2>&1 || true; ` + program + ` key make --no-passphrase "$DIR/b.pem" >/dev/null 2>&1 || true; cp "$DIR/a.pem" ` + kept + `.after; ls -A "$DIR" > ` + kept + `.names`
	mounted(t, dir, script, "check")
	if now, err := os.ReadFile(kept + ".after"); err != nil || !bytes.Equal(now, before) {
		t.Errorf("the key is now %q, %v", now, err)
	}
	if names := string(must(os.ReadFile(kept + ".names"))); strings.Contains(names, "b.pem") {
		t.Errorf("left behind: %s", names)
	}
}
