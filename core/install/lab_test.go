package install_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/sweep"
	"meatus/core/walk"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// keeper knows the passwords of the bay.
type keeper struct{ step.Asker }

func (keeper) Identity(context.Context, step.IdentityQuestion) error { return nil }
func (keeper) Answers(context.Context, step.ServerQuestions) ([]string, error) {
	return []string{lab.SillPassword}, nil
}

type bay struct {
	*lab.Lab
	*testing.T
	ws     *workspace.Workspace
	walker *walk.Walker
	steps  []string
}

func openBay(t *testing.T) *bay {
	b := &bay{Lab: labtest.Open(t), T: t}
	t.Cleanup(b.Close)
	var err error
	if b.ws, err = workspace.Open(b.Dir); err != nil {
		t.Fatal(err)
	}
	b.walker = walk.New(walk.Config{Vouched: b.ws.Vouched, Asker: keeper{}, Network: b.Dialer()})
	t.Cleanup(b.walker.Close)
	return b
}

func (b *bay) key(name string) *keyfile.File {
	b.Helper()
	file, err := keyfile.Read(filepath.Join(b.Dir, "keys", name))
	if err != nil {
		b.Fatal(err)
	}
	return file
}

// newKey makes a key file of the test's own.
func (b *bay) newKey(name string) *keyfile.File {
	b.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, name)
	if err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(b.Dir, "keys", name), pem.EncodeToMemory(block), 0o600); err != nil {
		b.Fatal(err)
	}
	return b.key(name)
}

func (b *bay) walk(session string) *walk.Passage {
	b.Helper()
	p, err := b.walker.Walk(b.Context(), b.route(session))
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(p.Close)
	return p
}

func (b *bay) route(session string) route.Route {
	b.Helper()
	r, err := b.ws.Planner().Plan(session)
	if err != nil {
		b.Fatal(err)
	}
	return r
}

// rotate puts new in the place of old.
func (b *bay) rotate(old, new *keyfile.File, sessions ...string) error {
	b.Helper()
	job := &work.Rotate{Tools: work.Tools{
		Workspace: func() *workspace.Workspace { return b.ws }, Walker: b.walker, Adopt: func(book *book.Book) { b.ws = b.ws.With(book) },
	}, Old: old.Path, New: new.Path, Sessions: sessions}
	if err := job.Plan(); err != nil {
		b.Fatal(err)
	}
	return job.Run(b.Context(), func(s work.Step) {
		if s.Session != "" {
			b.steps = append(b.steps, s.Session+": "+s.Say)
		}
	})
}

func text(f *keyfile.File) string {
	return strings.Fields(string(ssh.MarshalAuthorizedKey(f.Public)))[1]
}

func TestAKeyGoesIntoAListOverTheFileTransferChannel(t *testing.T) {
	b := openBay(t)
	quay := b.Host("quay")
	before := strings.TrimSuffix(quay.List("warden"), "\n") // no line break at its end
	quay.SetList("warden", before)
	file := b.newKey("new.pem")
	line, err := install.Line(file.Public, "of the test", install.Options{From: "127.0.0.1"})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 2 {
		r, err := install.Add(t.Context(), b.walk("quay"), file.Public, line)
		if err != nil || r.Added != (i == 0) || r.Already != (i == 1) || len(r.Doubts) != 0 {
			t.Fatalf("%+v, %v", r, err)
		}
	}
	if got, want := quay.List("warden"), before+"\n"+line+"\n"; got != want {
		t.Errorf("the list is\n%s\nwant\n%s", got, want)
	}
	p, err := install.Prove(t.Context(), b.walker, b.route("quay"), file)
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
	if removed, err := install.Remove(t.Context(), b.walk("quay"), file.Public); !removed || err != nil || quay.List("warden") != before+"\n" {
		t.Errorf("removed %v, %v:\n%s", removed, err, quay.List("warden"))
	}
}

func TestAListIsReplacedWhereTheServerHasNoRenameThatReplaces(t *testing.T) {
	if err := sftp.SetSFTPExtensions("hardlink@openssh.com"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		sftp.SetSFTPExtensions("hardlink@openssh.com", "posix-rename@openssh.com", "statvfs@openssh.com")
	})
	b := openBay(t)
	quay := b.Host("quay")
	before := quay.List("warden")
	file := b.newKey("new.pem")
	line, err := install.Line(file.Public, "of the test", install.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if r, err := install.Add(t.Context(), b.walk("quay"), file.Public, line); err != nil || !r.Added {
		t.Fatalf("%+v, %v", r, err)
	}
	if got, want := quay.List("warden"), strings.TrimSuffix(before, "\n")+"\n"+line+"\n"; got != want {
		t.Errorf("the list is\n%s\nwant\n%s", got, want)
	}
	files, done, err := remote.Files(t.Context(), b.walk("quay"), 0)
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	if left, err := files.ReadDir(".ssh"); err != nil || len(left) != 1 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

func TestAListThatIsPassedOverIsDoubtedAndNotProven(t *testing.T) {
	b := openBay(t)
	file := b.newKey("new.pem")
	line, _ := install.Line(file.Public, "", install.Options{})
	r, err := install.Add(t.Context(), b.walk("sill"), file.Public, line) // by its password
	if err != nil || !r.Added || len(r.Doubts) != 1 || !strings.Contains(r.Doubts[0], "the home folder is writable by others") {
		t.Errorf("%+v, %v", r, err)
	}
	if p, err := install.Prove(t.Context(), b.walker, b.route("sill"), file); err == nil {
		p.Close()
		t.Error("a password proved a key")
	}
}

func TestARotationLeavesOnlyTheNewKey(t *testing.T) {
	b := openBay(t)
	old, new := b.key("shore.pem"), b.newKey("new.pem")
	quay := b.Host("quay")
	quay.SetList("warden", "# ours\nfrom=\"127.0.0.1\" "+quay.List("warden"))
	b.walk("quay")
	if err := b.rotate(old, new, "quay"); err != nil {
		t.Fatal(err)
	}
	list := quay.List("warden")
	if strings.Contains(list, text(old)) || !strings.Contains(list, `from="127.0.0.1" ssh-ed25519 `+text(new)) || !strings.HasPrefix(list, "# ours\n") || !strings.Contains(list, "visitor") {
		t.Errorf("the list is\n%s", list)
	}
	for _, session := range []string{"quay", "spit"} { // spit ends at the same account
		if using := b.ws.Using(new.Path); !slices.Contains(using, session) {
			t.Errorf("%s does not use the new key: %q", session, using)
		}
		if _, err := b.walker.Walk(t.Context(), b.route(session)); err != nil {
			t.Error(err)
		}
	}
	if got := b.route("spit").Target().Lends[0]; filepath.Base(got) != "gauge.pem" {
		t.Errorf("it lends %s", got)
	}
}

func TestARotationStopsWhereTheNewKeyIsNotProven(t *testing.T) {
	b := openBay(t)
	old, new := b.key("gauge.pem"), b.newKey("new.pem")
	before, err := os.ReadFile(b.ws.SessionsPath())
	if err != nil {
		t.Fatal(err)
	}
	err = b.rotate(old, new, "gauge-1", "sill", "archive")
	if err == nil || !strings.Contains(err.Error(), "stopped at sill") || !strings.Contains(err.Error(), "the old key is still authorized everywhere") {
		t.Fatalf("%v", err)
	}
	if list := b.Host("gauge-1").List("keeper"); !strings.Contains(list, text(old)) || !strings.Contains(list, text(new)) {
		t.Errorf("gauge-1 has\n%s", list)
	}
	if list := b.Host("archive").List("keeper"); strings.Contains(list, text(new)) {
		t.Error("it went on to archive")
	}
	if after, _ := os.ReadFile(b.ws.SessionsPath()); string(after) != string(before) {
		t.Error("the sessions were changed")
	}
	if last := b.steps[len(b.steps)-1]; last != "sill: stopped" || !strings.Contains(strings.Join(b.steps, "\n"), "gauge-1: tested") {
		t.Errorf("steps %q", b.steps)
	}
}

func TestASweepOverTheFileTransferChannel(t *testing.T) {
	b := openBay(t)
	r, err := sweep.Look(t.Context(), b.walk("quay"), []ssh.PublicKey{b.key("shore.pem").Public})
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Keys) != 1 || r.Keys[0] != (sweep.File{Path: "rounds.old/gauges.pem", Mode: "-rw-r--r--"}) {
		t.Errorf("keys %+v", r.Keys)
	}
	if len(r.Sockets) != 1 || r.Sockets[0] != "/tmp/ssh-night/agent.2201" {
		t.Errorf("sockets %q", r.Sockets)
	}
	if r.Explained != 1 || len(r.Unexplained) != 1 || r.Unexplained[0].Comment != "visitor, spring survey" || r.Unexplained[0].Option != "restrict" || r.Cut {
		t.Errorf("%+v", r)
	}
}
