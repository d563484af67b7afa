package mend

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/workspace"
)

const sessions = `
[site.reef]
user = "warden"

[session.tide-db] # the tide
site = "reef"
host = "10.61.4.20"
key  = "keys/tide.pem"
tunnels = [{ bring = "127.0.0.1:DOOR", reach = "db:5432" }]

[session.gauge-1]
site = "reef"
host = "10.61.4.31"
user = "keeper"
key  = "keys/gauge.pem"
`

// past is what got in before.
type past map[string]route.Login

func (p past) Last(host string, _ int, user string) (route.Login, bool) {
	l, ok := p[user+"@"+host]
	return l, ok
}

// place is a workspace with the keys tide.pem (too open), gauge.pem and other.pem.
func place(t *testing.T, listener int) *workspace.Workspace {
	t.Helper()
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "keys"), 0o700); err != nil {
		t.Fatal(err)
	}
	for name, mode := range map[string]os.FileMode{"tide.pem": 0o644, "gauge.pem": 0o600, "other.pem": 0o640} {
		newKey(t, filepath.Join(dir, "keys", name), mode)
	}
	text := strings.Replace(sessions, "DOOR", strconv.Itoa(listener), 1)
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return reopened(t, dir)
}

func reopened(t *testing.T, dir string) *workspace.Workspace {
	t.Helper()
	w, err := workspace.Open(dir)
	if err != nil || len(w.Book.Problems) > 0 {
		t.Fatal(err, w.Book.Problems)
	}
	return w
}

func newKey(t *testing.T, path string, mode os.FileMode) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
}

// worst is the case of a session's worst gate.
func worst(t *testing.T, w *workspace.Workspace, session string) Case {
	t.Helper()
	r, report := w.Check(session, w.Knowledge())
	g, at := report.Worst()
	if at < 0 || g.Verdict < gate.Ajar {
		t.Fatalf("nothing is wrong with %s: %+v", session, report)
	}
	return Case{Workspace: w, Route: r, Hop: at, Gate: g}
}

// way finds the way that says so, and goes it.
func goWay(t *testing.T, ways []Way, say string) Done {
	t.Helper()
	for _, w := range ways {
		if strings.Contains(w.Say, say) {
			done, err := w.Do()
			if err != nil {
				t.Fatalf("%s: %v", w.Say, err)
			}
			return done
		}
	}
	t.Fatalf("no way says %q: %q", say, said(ways))
	return Done{}
}

func said(ways []Way) []string {
	var all []string
	for _, w := range ways {
		all = append(all, w.Say+" ["+w.Why+"]")
	}
	return all
}

func mode(t *testing.T, path string) os.FileMode {
	t.Helper()
	info, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	return info.Mode().Perm()
}

func TestAnOpenKeyIsMendedAloneOrWithItsFolder(t *testing.T) {
	w := place(t, 1)
	ways := Ways(worst(t, w, "tide-db"))
	if !slices.ContainsFunc(ways, func(w Way) bool { return strings.Contains(w.Say, "all 2 keys") && len(w.Preview) == 2 }) {
		t.Errorf("the folder is not offered: %q", said(ways))
	}
	goWay(t, ways, "set mode 0600 on tide.pem")
	if got := mode(t, filepath.Join(w.Dir, "keys", "tide.pem")); got != 0o600 {
		t.Errorf("mode %o", got)
	}
	w = place(t, 1)
	goWay(t, Ways(worst(t, w, "tide-db")), "all 2 keys")
	if a, b := mode(t, filepath.Join(w.Dir, "keys", "tide.pem")), mode(t, filepath.Join(w.Dir, "keys", "other.pem")); a != 0o600 || b != 0o600 {
		t.Errorf("modes %o and %o", a, b)
	}
}

func TestADownloadedKeyIsAdopted(t *testing.T) {
	w := place(t, 1)
	if err := os.Remove(filepath.Join(w.Dir, "keys", "tide.pem")); err != nil {
		t.Fatal(err)
	}
	got := t.TempDir()
	for _, name := range []string{"aaa.pem", "tide.pem"} {
		newKey(t, filepath.Join(got, name), 0o644)
	}
	c := worst(t, w, "tide-db")
	c.Arrived = keyfile.Found(got)
	ways := Ways(c)
	if !strings.HasPrefix(ways[0].Say, "use tide.pem from") {
		t.Errorf("ways %q", said(ways))
	}
	done := goWay(t, ways, "use tide.pem")
	if done.Book == nil || done.Book.Session("tide-db").Keys.V[0] != "keys/tide.pem" || mode(t, filepath.Join(w.Dir, "keys", "tide.pem")) != 0o400 {
		t.Errorf("%+v", done)
	}
	if _, err := os.Stat(filepath.Join(got, "tide.pem")); err == nil {
		t.Error("the download is still there")
	}
}

func TestLikelyLoginsAreOffered(t *testing.T) {
	w := place(t, 1)
	w.Logins = past{"keeper@10.61.4.31": {Session: "gauge-1", When: time.Now()}}
	r, _ := w.Check("tide-db", w.Knowledge())
	c := Case{Workspace: w, Route: r, Gate: gate.Gate{Kind: gate.Login, Verdict: gate.Shut},
		Failure: &gate.Failure{Err: &login.LoginRefused{Version: "OpenSSH_9.2p1 Debian-2", Banner: "Welcome"}}}
	ways := Ways(c)
	if got := said(ways); !strings.HasPrefix(got[0], "log in as keeper [worked for gauge-1]") || !strings.HasPrefix(got[1], "log in as admin [usual for Debian") {
		t.Errorf("ways %q", got)
	}
	done := goWay(t, ways, "log in as keeper")
	if done.Book.Session("tide-db").User.V != "keeper" {
		t.Errorf("%+v", done)
	}
	text, _ := os.ReadFile(w.SessionsPath())
	if !strings.Contains(string(text), "# the tide") {
		t.Errorf("the comment is gone:\n%s", text)
	}
	if done := goWay(t, ways, "use the key gauge.pem"); done.Book.Session("tide-db").Keys.V[0] != "keys/gauge.pem" {
		t.Errorf("%+v", done)
	}
}

func TestTheKeyThatGotInBeforeComesFirst(t *testing.T) {
	w := place(t, 1)
	keyfile.Mend(filepath.Join(w.Dir, "keys", "tide.pem"))
	other, err := keyfile.Read(filepath.Join(w.Dir, "keys", "gauge.pem"))
	if err != nil {
		t.Fatal(err)
	}
	w.Logins = past{"warden@10.61.4.20": {Key: other.SHA256, When: time.Now()}}
	c := worst(t, w, "tide-db")
	if c.Gate.Kind != gate.Key || c.Gate.Verdict != gate.Ajar || !strings.Contains(c.Gate.Reason, "another key") {
		t.Fatalf("gate %+v", c.Gate)
	}
	if ways := Ways(c); ways[0].Say != "use the key gauge.pem" || ways[0].Why != "last accepted here" {
		t.Errorf("ways %q", said(ways))
	}
}

func TestATakenDoorIsMoved(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	w := place(t, port)
	keyfile.Mend(filepath.Join(w.Dir, "keys", "tide.pem"))
	c := worst(t, w, "tide-db")
	if c.Gate.Kind != gate.Channel || !strings.Contains(c.Gate.Reason, "is taken by") {
		t.Fatalf("gate %+v", c.Gate)
	}
	done := goWay(t, Ways(c), "listen at port")
	moved := done.Book.Session("tide-db").Tunnels.V[0]
	if moved.Bring == l.Addr().String() || moved.Reach != "db:5432" {
		t.Errorf("moved to %s", moved)
	}
	if _, report := reopened(t, w.Dir).Check("tide-db", w.Knowledge()); report.Verdict() == gate.Ajar {
		t.Errorf("still ajar: %+v", report)
	}
}

func TestWaitingAndSettlingAreTheInterfaces(t *testing.T) {
	w := place(t, 1)
	r, _ := w.Check("gauge-1", w.Knowledge())
	ways := Ways(Case{Workspace: w, Route: r, Gate: gate.Gate{Kind: gate.Port}, Failure: &gate.Failure{Cause: gate.Refused}})
	if len(ways) != 1 || ways[0].Act != gate.Wait {
		t.Errorf("ways %q", said(ways))
	}
	if _, err := ways[0].Do(); err == nil {
		t.Error("waiting was done here")
	}
	ways = Ways(Case{Workspace: w, Route: r, Gate: gate.Gate{Kind: gate.Identity, Remedy: gate.Remedy{Act: gate.Settle}}})
	if len(ways) != 1 || ways[0].Act != gate.Settle {
		t.Errorf("ways %q", said(ways))
	}
}

func TestAPersonsOwnTableComesFirst(t *testing.T) {
	dir := t.TempDir()
	own := filepath.Join(dir, LoginsFile)
	os.WriteFile(own, []byte("[[family]]\nname = \"ours\"\nsays = [\"debian\"]\nlogins = [\"pilot\"]\n"), 0o600)
	families, err := Families(dir)
	if err != nil {
		t.Fatal(err)
	}
	logins, why := Likely(families, "SSH_9 Debian", "")
	if logins[0] != "pilot" || why[0] != "ours" || logins[1] != "admin" || !slices.Contains(logins, "root") {
		t.Errorf("logins %q", logins)
	}
	for _, broken := range []string{"[[family]", "[[family]]\nsay = 1\n", "[[family]]\nlogins = [\"a b\"]\n"} {
		os.WriteFile(own, []byte(broken), 0o600)
		if families, err := Families(dir); err == nil || len(families) == 0 {
			t.Errorf("%q: %v, %d families", broken, err, len(families))
		}
	}
}
