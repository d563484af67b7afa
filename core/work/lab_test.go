package work_test

import (
	"crypto/ed25519"
	"encoding/pem"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/walk"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// bay is the lab with what jobs work with.
type bay struct {
	*lab.Lab
	t     *testing.T
	ws    *workspace.Workspace
	tools work.Tools
	steps []work.Step
}

func openBay(t *testing.T) *bay {
	t.Helper()
	b := &bay{t: t}
	b.Lab, b.ws = labtest.Workspace(t)
	w := walk.New(walk.Config{Vouched: b.ws.Vouched, Asker: labtest.Yes{}, Network: b.Dialer()})
	t.Cleanup(w.Close)
	b.tools = work.Tools{Workspace: func() *workspace.Workspace { return b.ws }, Walker: w, Adopt: func(read *book.Book) { b.ws = b.ws.With(read) }}
	return b
}

func (b *bay) run(job work.Job) error {
	b.steps = nil
	return job.Run(b.t.Context(), func(s work.Step) { b.steps = append(b.steps, s) })
}

func (b *bay) said() string {
	var all []string
	for _, s := range b.steps {
		all = append(all, s.Where+": "+s.Say)
	}
	return strings.Join(all, "\n")
}

func (b *bay) key(name string) string { return filepath.Join(b.Dir, "keys", name) }

// sessions is the text of the sessions file.
func (b *bay) sessions() string {
	b.t.Helper()
	text, err := os.ReadFile(b.ws.SessionsPath())
	if err != nil {
		b.t.Fatal(err)
	}
	return string(text)
}

// uses are the key files of a session as it is now, by their names.
func (b *bay) uses(session string) (names []string) {
	b.t.Helper()
	r, err := b.ws.Planner().Plan(session)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, k := range r.Target().Keys {
		names = append(names, filepath.Base(k))
	}
	return names
}

func TestARotationIsPlannedBeforeAnythingIsDone(t *testing.T) {
	b := openBay(t)
	before := b.sessions()
	for name, c := range map[string]struct {
		old      string
		sessions []string
		want     string
	}{
		"a key of no session":                  {"none.pem", nil, "no session uses"},
		"a session that does not use the key":  {"gauge.pem", []string{"quay"}, "quay does not use"},
		"a session that is not there":          {"gauge.pem", []string{"nowhere"}, "nowhere"},
		"one that uses it, and one that isn't": {"shore.pem", []string{"quay", "tide-db"}, "tide-db does not use"},
	} {
		j := &work.Rotate{Tools: b.tools, Old: b.key(c.old), New: b.key("new.pem"), Sessions: c.sessions}
		if err := j.Plan(); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	all := &work.Rotate{Tools: b.tools, Old: b.key("gauge.pem"), New: b.key("new.pem")}
	if err := all.Plan(); err != nil {
		t.Fatal(err)
	}
	if names := all.Names(); !slices.Contains(names, "archive") || !slices.Contains(names, "gauge-1") || slices.Contains(names, "quay") || slices.Contains(names, "tide-db") {
		t.Errorf("a rotation of gauge.pem touches %v", names)
	}
	if title := all.Title(); title.What != "rotate" || title.Of == "" || title.Record != "carried" || title.Session != all.Names()[0] {
		t.Errorf("%+v", title)
	}
	// The new key is not there: no machine and no session is touched.
	list := b.Host("archive").List("keeper")
	if err := b.run(all); err == nil || !strings.Contains(err.Error(), "make the new key first") {
		t.Error(err)
	}
	if b.sessions() != before || b.Host("archive").List("keeper") != list || len(b.steps) != 0 {
		t.Errorf("something was done: %s", b.said())
	}
}

func TestARotationAtSomeSessionsLeavesTheOthers(t *testing.T) {
	b := openBay(t)
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "fresh")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(b.key("fresh.pem"), pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	j := &work.Rotate{Tools: b.tools, Old: b.key("gauge.pem"), New: b.key("fresh.pem"), Sessions: []string{"archive"}}
	if err := j.Plan(); err != nil {
		t.Fatal(err)
	}
	if err := b.run(j); err != nil {
		t.Fatalf("%v\n%s", err, b.said())
	}
	if got := b.uses("archive"); !slices.Equal(got, []string{"fresh.pem"}) {
		t.Errorf("archive uses %v", got)
	}
	for _, other := range []string{"gauge-1", "lamp"} {
		if got := b.uses(other); !slices.Equal(got, []string{"gauge.pem"}) && !slices.Contains(j.Names(), other) {
			t.Errorf("%s uses %v", other, got)
		}
	}
	old, err := keyfile.Read(b.key("gauge.pem"))
	if err != nil {
		t.Fatal(err)
	}
	defer old.Forget()
	if line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(old.Public))); strings.Contains(b.Host("archive").List("keeper"), line) {
		t.Error("the old key is in the list still")
	}
	for _, s := range b.steps {
		if s.Verdict == gate.Shut || s.Err != nil {
			t.Errorf("%+v", s)
		}
	}
	// Once more: nothing uses the old key there any more.
	again := &work.Rotate{Tools: b.tools, Old: b.key("gauge.pem"), New: b.key("fresh.pem"), Sessions: []string{"archive"}}
	if err := again.Plan(); err == nil {
		t.Error("a second time it is planned again")
	}
}

func TestASweepTellsAndChangesNothing(t *testing.T) {
	b := openBay(t)
	list := b.Host("archive").List("keeper")
	j := &work.Sweep{Tools: b.tools, Session: "archive"}
	for range 2 {
		if err := b.run(j); err != nil {
			t.Fatal(err)
		}
		if len(b.steps) == 0 || !strings.Contains(b.said(), "nothing was changed") || len(b.steps) != 1+len(j.Report.Findings()) {
			t.Errorf("%d steps of %d findings:\n%s", len(b.steps), len(j.Report.Findings()), b.said())
		}
	}
	if b.Host("archive").List("keeper") != list {
		t.Error("the list of keys was changed")
	}
	if title := j.Title(); title.Record != "swept" || !strings.Contains(title.Of, "keeper") {
		t.Errorf("%+v", title)
	}
	if err := b.run(&work.Sweep{Tools: b.tools, Session: "nowhere"}); err == nil {
		t.Error("a session that is not there is swept")
	}
	// A machine that cannot be walked to fails with where.
	if err := b.run(&work.Sweep{Tools: b.tools, Session: "buoy"}); err == nil || len(b.steps) != 0 {
		t.Errorf("%v, %s", err, b.said())
	}
}
