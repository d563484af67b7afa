package install_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/install"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

// Ways in which a server of the distribution's lets an account at its files.
var accounts = map[string]string{
	"file transfer":     "",
	"commands":          "#nosubsystem\nForceCommand case \"$SSH_ORIGINAL_COMMAND\" in *sftp*) exit 97;; *) exec sh -c \"$SSH_ORIGINAL_COMMAND\";; esac\n",
	"commands, fish":    "#nosubsystem\nForceCommand exec fish -c \"$SSH_ORIGINAL_COMMAND\"\n",
	"commands, tcsh":    "#nosubsystem\nForceCommand exec tcsh -c \"$SSH_ORIGINAL_COMMAND\"\n",
	"commands, csh":     "#nosubsystem\nForceCommand exec csh -c \"$SSH_ORIGINAL_COMMAND\"\n",
	"commands, busybox": "#nosubsystem\nForceCommand exec busybox sh -c \"$SSH_ORIGINAL_COMMAND\"\n",
	"nothing digests":   "#nosubsystem\nForceCommand PATH=BIN exec sh -c \"$SSH_ORIGINAL_COMMAND\"\n",
}

// account is one at a real server, with a list of keys of its own.
type account struct {
	servertest.Server
	t    *testing.T
	list string
}

func openAccount(t *testing.T, config string) *account {
	t.Helper()
	if strings.Contains(config, "BIN") { // the commands of a system without any that digests
		bin := t.TempDir()
		for _, name := range []string{"sh", "cat", "cp", "mv", "rm", "wc", "chmod", "cut", "readlink", "dirname", "sync", "find", "ls", "id", "mkdir"} {
			for _, in := range []string{"/usr/bin/", "/bin/"} {
				if _, err := os.Stat(in + name); err == nil {
					if err := os.Symlink(in+name, filepath.Join(bin, name)); err != nil {
						t.Fatal(err)
					}
					break
				}
			}
		}
		config = strings.ReplaceAll(config, "BIN", bin)
	}
	a := &account{Server: servertest.StartWith(t, config), t: t}
	a.list = filepath.Join(filepath.Dir(a.Config), "list of keys")
	a.write("# somebody's\n" + strings.Repeat("# a long list\n", 900))
	return a
}

func (a *account) write(text string) {
	a.t.Helper()
	if err := os.WriteFile(a.list, []byte(text), 0o640); err != nil {
		a.t.Fatal(err)
	}
}

func (a *account) text() string {
	a.t.Helper()
	text, err := os.ReadFile(a.list)
	if err != nil {
		a.t.Fatal(err)
	}
	return string(text)
}

// over does something with a passage over a line.
func (a *account) over(l *servertest.Line, do func(*walk.Passage) error) error {
	a.t.Helper()
	l.To = a.Address
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(a.t.TempDir(), "v")), Asker: labtest.Yes{}, Network: l, Linger: time.Millisecond})
	defer w.Close()
	r := a.Way(1)
	r.Session = "box"
	r = r.AtEnd(func(h *route.Hop) { h.KeyList = a.list })
	p, err := w.Walk(a.t.Context(), r)
	if err != nil {
		return err
	}
	defer p.Close()
	return do(p)
}

func TestAListIsWholeWheneverTheLineIsCut(t *testing.T) {
	for name, config := range accounts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := openAccount(t, config)
			b := openBay(t)
			key := b.newKey("new.pem").Public
			line, err := install.Line(key, "new", install.Options{})
			if err != nil {
				t.Fatal(err)
			}
			before := a.text()
			after := before + line + "\n"
			add := func(p *walk.Passage) error {
				_, err := install.Add(t.Context(), p, key, line)
				return err
			}
			remove := func(p *walk.Passage) error { _, err := install.Remove(t.Context(), p, key); return err }
			whole := &servertest.Line{}
			if err := a.over(whole, add); err != nil || a.text() != after {
				t.Fatalf("%v: the list has %d bytes, want %d", err, len(a.text()), len(after))
			}
			if info, _ := os.Stat(a.list); info.Mode().Perm() != 0o640 {
				t.Errorf("its permissions are %v", info.Mode())
			}
			if err := a.over(&servertest.Line{}, remove); err != nil || a.text() != before {
				t.Fatalf("%v: the list has %d bytes, want %d", err, len(a.text()), len(before))
			}
			for i, n := range servertest.Moments(whole.Passed(), 2) {
				a.write(before)
				when := fmt.Sprintf("cut after %d of %d", n, whole.Passed())
				err := a.over(&servertest.Line{After: n}, add)
				now := a.text()
				switch {
				case err == nil && now != after:
					t.Errorf("%s: it says that the key is in the list, which has %d bytes", when, len(now))
				case now != before && now != after:
					t.Errorf("%s: the list has %d bytes, and is neither of %d nor of %d", when, len(now), len(before), len(after))
				case err != nil && strings.Contains(err.Error(), "as it was before") && now != before:
					t.Errorf("%s: it says %v, and the list is another", when, err)
				case err != nil && strings.Contains(err.Error(), "the old list is as it was") && now != before:
					t.Errorf("%s: it says %v, and the list is another", when, err)
				}
				if i%2 == 0 { // and in the other direction
					a.write(after)
					if err := a.over(&servertest.Line{After: n}, remove); a.text() != before && a.text() != after || err == nil && a.text() != before {
						t.Errorf("%s: the list has %d bytes: %v", when, len(a.text()), err)
					}
				}
				// What is left of it is in nobody's way.
				a.write(before)
				if err := a.over(&servertest.Line{}, add); err != nil || a.text() != after {
					t.Errorf("%s, and then: %v", when, err)
				}
			}
		})
	}
}

func TestAListThatIsALinkStaysOne(t *testing.T) {
	for _, name := range []string{"file transfer", "commands"} {
		a := openAccount(t, accounts[name])
		b := openBay(t)
		key := b.newKey("new.pem").Public
		real := a.list + " itself"
		if err := os.Rename(a.list, real); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(filepath.Base(real), a.list); err != nil {
			t.Fatal(err)
		}
		err := a.over(&servertest.Line{}, func(p *walk.Passage) error {
			_, err := install.Add(t.Context(), p, key, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))))
			return err
		})
		if leads, _ := os.Readlink(a.list); err != nil || leads != filepath.Base(real) {
			t.Errorf("%s: %v, and the link leads to %q", name, err, leads)
		}
	}
}
