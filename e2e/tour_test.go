package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// findLine is the line that sessions are looked for in.
var findLine = regexp.MustCompile(`(?m)^ */.* of \d+`)

// choose moves to a session of the board by finding it.
func (s *screen) choose(session string) {
	s.t.Helper()
	s.text("/")
	s.wait("the line to be typed in", findLine.MatchString) // the foot may say something else just then
	s.text(session)
	s.until("/ "+session, "❯ "+session)
	s.keys("Tab")
	s.gone("show all")
	s.keys("Escape")
	s.gone("/ " + session)
	s.until("❯ " + session)
}

// vouch says yes to a first visit.
func (s *screen) vouch(session string) {
	s.t.Helper()
	s.until("first visit ─ " + session)
	s.text("yes")
	s.keys("Enter")
}

// home goes to the board.
func (s *screen) home() {
	s.t.Helper()
	s.lead("0")
	s.until("22 routes")
}

// The tour of docs/tour.md, step by step, at the smallest size and at a usual one.
func TestTheTourIsGoneThrough(t *testing.T) {
	t.Parallel()
	tour(t, 160, 47)
}

func TestTheTourIsGoneThroughOnASmallScreen(t *testing.T) {
	t.Parallel()
	tour(t, 80, 24)
}

func tour(t *testing.T, width, height int) {
	t.Helper()
	dir, home := t.TempDir(), t.TempDir()
	s := show(t, width, height, "env", "HOME="+home, program, "demo", "--dir", dir)
	s.until("22 routes")
	tourOfChecks(s)
	tourOfMending(s, dir)
	tourOfTunnels(s)
	tourOfKeys(s, dir)
	tourOfLending(s)
	tourOfMany(s)
	tourOfEstate(s)
	tourOfRules(s)
	tourOfLeases(s)
}

// tourOfChecks are the steps 1 to 4: checks, a mode, a changed identity, a closed port.
func tourOfChecks(s *screen) {
	s.text("C")
	s.until("checking")
	s.gone("checking")
	s.choose("tide-db")
	s.text("m")
	s.until("tide.pem now has mode 0600")
	s.keys("Enter")
	s.vouch("tide-db")
	s.until("keeper on tide-db")
	s.home()

	s.choose("gauge-2")
	s.until("identity changed", "m settle identity")
	s.text("m")
	screen := s.until("changed identity ─ gauge-2", "type its last 6 characters")
	now := ""
	for line := range strings.Lines(screen) {
		if i := strings.LastIndex(line, "│"); i >= 0 { // beside the board
			line = line[i+len("│"):]
		}
		if fields := strings.Fields(line); len(fields) > 2 && fields[0] == "now" {
			now = fields[2]
		}
	}
	s.text(now[len(now)-6:])
	s.keys("Enter")
	s.until("the new host key of gauge-2 is trusted")
	s.text("H")
	s.until("hosts ─", "10.61.4.32:22")
	s.keys("Escape")
	s.until("22 routes")

	s.choose("gauge-3")
	s.until("refused")
	s.text("w")
	s.until("waiting")
	s.choose("quay")
	s.keys("Enter")
	s.until("warden@quay:~$")
	s.text("fault gauge-3 heal")
	s.keys("Enter")
	s.until("gauge-3 is open")
	s.home()
}

// tourOfMending are the steps 5 and 6: a wrong login, and a key that lies elsewhere.
func tourOfMending(s *screen, dir string) {
	s.choose("gauge-4")
	s.keys("Enter")
	s.until("no key accepted")
	s.text("m")
	s.until("log in as keeper")
	s.keys("Enter")
	s.until("keeper@10.61.4.34")
	s.gone("log in as keeper")
	s.keys("Enter")
	s.until("keeper on gauge-4")
	s.home()
	s.text("u")
	s.until("u again takes back")
	s.text("u")
	s.until("undone")
	s.text("U")
	s.until("U again does again")
	s.text("U")
	s.until("done again")
	s.choose("gauge-4")
	s.text("e")
	s.until("session sheet ─ gauge-4")
	s.keys("Tab")
	s.until("gives values to")
	s.keys("Escape")
	s.gone("gives values to")

	s.choose("buoy")
	s.text("m")
	s.until("use buoy.pem")
	s.keys("Enter")
	s.wait("the key to be adopted", func(string) bool {
		_, err := os.Stat(filepath.Join(dir, "keys", "buoy.pem"))
		return err == nil
	})
	s.gone("remedies ─")
}

// tourOfTunnels is step 7: a door that is taken, a tunnel in one's own terms, and Watch.
func tourOfTunnels(s *screen) {
	s.choose("tables")
	s.text("m")
	s.until("listen at port")
	s.keys("Enter")
	s.gone("is taken by")
	s.choose("tables")
	s.text("t")
	s.vouch("tables")
	s.until("⇐ survey-web.internal:80")
	s.text("P")
	s.until("a tunnel ─ tables")
	s.text("archive.internal")
	s.until("which service of archive.internal?")
	s.text(" 5433")
	s.until("⇐ archive.internal:5433")
	s.keys("Escape")
	s.gone("a tunnel ─")
	s.text("W")
	s.until("demo traffic", "what runs by tunnel")
	s.until("what runs by tunnel")
	s.keys("Tab")
	s.text("g")
	s.until("what runs by host")
	s.text("x")
	s.until("draw what")
	s.keys("Escape")
	s.gone("draw what")
	s.home()
}

// tourOfKeys are the steps 8 and 9: a passphrase, a code, a certificate, and the place of keys.
func tourOfKeys(s *screen, dir string) {
	s.choose("survey-web")
	s.keys("Enter")
	s.vouch("survey-web")
	s.until("survey.pem, which has a passphrase")
	s.text("low tide")
	s.keys("Enter")
	s.until("keeper on survey-web")
	s.home()
	s.choose("lamp")
	s.keys("Enter")
	s.until("lamp asks", "Code:", "Today's code is: flood tide")
	s.text("flood tide")
	s.keys("Enter")
	s.until("keeper on lamp")
	s.home()
	s.choose("mast")
	s.keys("Enter")
	s.until("keeper on mast", "level", "keeper@mast:/var/log$")
	s.home()

	s.text("K")
	s.until("keys ─", "shore.pem")
	s.pasteText(strings.TrimSpace(string(must(os.ReadFile(filepath.Join(dir, "lab", "tide.pem.pub"))))))
	s.until("❯ ● tide.pem")
	s.text("n")
	s.until("name of the new key")
	s.text("shore-2.pem")
	s.keys("Enter")
	s.until("kind (Ed25519")
	s.keys("Enter")
	s.until("passphrase (none")
	s.keys("Enter")
	s.until("the same again")
	s.keys("Enter")
	s.until("❯ ● shore-2.pem")
	s.keys("Down")
	s.until("❯ ● shore.pem")
	s.text("E")
	s.until("which key comes in the place of shore.pem")
	s.keys("Enter")
	s.until("at which sessions' machines")
	s.keys("Enter")
	s.until("use shore-2.pem from now on", "done")
	s.until("edited since: ") // the live ones stay live
	s.keys("Escape")
	s.gone("rotate ─")
	s.choose("gauge-1")
	s.text("a")
	s.until("accepted", "done")
	s.keys("Escape")
	s.gone("which key opens this?")
}

// tourOfLending are the steps 10 and 11: a frozen and a lost line, a key that is lent, the
// ring, a sweep.
func tourOfLending(s *screen) {
	s.choose("gauge-1")
	s.keys("Enter")
	s.until("keeper@gauge-1:~$")
	s.text("fault gauge-1 cut")
	s.keys("Enter")
	s.until("this is a new shell")
	s.home()
	s.choose("spit")
	s.keys("Enter")
	s.until("warden@quay:~$")
	s.text("reach gauge-1")
	s.keys("Enter")
	s.until("needs you")
	s.lead("a")
	s.until("ctrl+y")
	s.keys("C-y")
	s.gone("ctrl+y")
	s.home()
	s.text("G")
	s.until("ring ─", "lent now")
	s.text("p")
	s.until("p again opens a socket")
	s.home()
	s.choose("quay")
	s.text("S")
	s.until("nothing was changed", "done")
	s.keys("Escape")
	s.gone("nothing was changed")
	s.text("J")
	s.until("jobs ─", "sweep")
	s.home()
}

// tourOfMany are the steps 12 and 13: what is marked, and every key.
func tourOfMany(s *screen) {
	for _, session := range []string{"gauge-1", "gauge-2"} {
		s.choose(session)
		s.keys("Space")
		s.until("❯▪" + session)
	}
	s.text("E")
	s.until("change the marked ─ 2 sessions")
	s.text("keepalive=1m")
	s.until("30s, defaults → 1m")
	s.keys("Enter")
	s.until("keepalive of 2 sessions is written")
	s.text("A")
	s.until("run at the marked ─ 2 sessions")
	s.text("hostname")
	s.keys("Enter")
	s.until("done", "status 0")
	s.keys("Escape")
	s.gone("run at the marked")
	s.choose("quay")
	s.text("V")
	s.until("/ via quay")
	s.keys("Escape")
	s.gone("/ via quay")
	s.choose("tables")
	s.text("p")
	s.until("doors ─ tables", "1 of 1 open")
	s.keys("Escape")
	s.gone("doors ─")
	s.text("?")
	s.until("Routes: check and fix")
	s.keys("Escape")
	s.gone("Routes: check and fix")
	s.lead("T")
	s.until("trail ─", "gauge-1")
	s.home()
}

// tourOfEstate is step 13: an instance that is launched and walked to, and one whose address moves.
func tourOfEstate(s *screen) {
	s.text("Y")
	s.until("shore 10.61.0.0/24, from here", "reef 10.61.4.0/24, through quay")
	s.text("/name=gauge-1")
	s.keys("Enter")
	s.until("name=gauge-1", "i-gauge-1")
	s.text("N")
	s.until("another like gauge-1", "here ── quay ── reef", "which is key pair gauge")
	s.keys("Enter")
	s.until("enter again to launch 1 instance")
	s.keys("Enter")
	s.until("● launch gauge-5", "has 1 fingerprint")
	s.text("/")
	s.keys("C-u")
	s.text("gauge-5")
	s.keys("Enter")
	s.until("❯○ gauge-5")
	s.keys("Enter")
	s.until("gauge-5 asks: first visit")
	s.lead("a")
	s.until("expected", "Enter trusts it")
	s.keys("Enter")
	s.until("keeper on gauge-5")
	s.lead("0")
	s.until("23 routes")
	s.text("Y")
	s.until("❯━ gauge-5") // what was looked for is looked for still
	s.text("D")
	s.until("D again to stop gauge-5", "what is live there ends")
	s.text("D")
	s.until("gauge-5 stopped")
	s.text("m")
	s.until("m again to start gauge-5")
	s.text("m")
	s.until("10.61.4.71")
	s.keys("Enter")
	s.until("keeper on gauge-5") // the address is another, the instance the same: nothing is asked
	s.lead("0")
	s.until("23 routes")
}

// tourOfRules is step 14: a session that rules keep shut, the ways to it, rules that are tried, and who is let in.
func tourOfRules(s *screen) {
	s.lead("0")
	s.until("routes")
	s.choose("sluice")
	s.text("@")
	s.until("ways to sluice", "here ── quay ── archive ── sluice", "here ── quay ── mast ── sluice", "1 of 2, tab the next")
	s.keys("Tab") // which is the first depends on what was used last
	s.until("2 of 2, tab the next", "sluice: session sluice")
	s.text("e")
	s.until("rules of sluice", "❯   sluice: lets in tcp 22 from 10.61.4.61/32")
	s.text("D")
	s.until("what that does", "sluice at tcp 22: no longer from")
	s.keys("Escape")
	s.until("esc again to drop 1 change")
	s.keys("Escape")
	s.gone("rules of sluice")
	s.text("*")
	s.until("everybody, from outside", "10.61.4.9, which no instance has")
	s.lead("0")
	s.choose("sluice")
	s.text("m")
	s.until("connect through archive", "allow it for an hour, then connect")
	s.keys("Down", "Down", "Enter")
	s.until("keeper on sluice")
	s.lead("0")
	s.until("routes")
}

// tourOfLeases is step 17: logins that last for a minute, a second person's yes, a rule that says no, and a machine that
// is enrolled.
func tourOfLeases(s *screen) {
	s.choose("weir")
	s.keys("Enter")
	s.until("keeper on weir")
	s.lead("0")
	s.choose("weir-root")
	s.keys("Enter")
	s.until("the reason")
	s.text("the ebb gate sticks")
	s.keys("Enter")
	s.until("root on weir") // the pilot has said yes
	s.lead("0")
	s.choose("weir-clerk")
	s.keys("Enter")
	s.until("books-apart denies it")
	s.keys("Escape")
	s.lead("9")
	s.until("leases of purser", "keeper@weir", "root@weir", "may not")
	s.text("I")
	s.text("fen")
	s.keys("Enter")
	s.until("enrol fen at purser", "meatus-lease-signers.pub is new")
	s.keys("Enter")
	s.until("a fresh login by a lease works")
	s.keys("Escape")
	s.lead("T")
	s.text("aa")
	s.until("trail of", "purser", "fen trusts")
	s.lead("0")
	s.until("routes")
}
