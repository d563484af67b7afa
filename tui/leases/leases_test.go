package leases_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/lab/labtest"
	"meatus/tui/leases"
	"meatus/tui/placetest"
	"meatus/tui/stack"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// noted tells whether something is said at the foot.
func noted(d *placetest.Driver, text string) bool {
	return strings.Contains(d.On().(stack.Layer).Note(), text)
}

// What one may, what waits for one's yes, and what is held are told, and a yes is given once it was asked for twice.
func TestWhatOneMayAndWhatWaits(t *testing.T) {
	d, l := placetest.Lab(t)
	d.Place(leases.New)
	d.UntilSees("leases of purser", "you are warden there", "keeper@weir", "now", "rule tide-watch", "with a yes")
	d.Fits()
	l.PilotAsks()
	d.UntilSees("waits for your yes", "pilot asks", "may log in")
	d.Press("home")
	d.UntilSees("the float switch hangs", "rule pilots-turn", "your name beside it")
	d.Fits()
	d.Press("enter")
	d.UntilSaid("again says yes: pilot will be root at weir")
	d.Press("enter")
	d.Until("that it is said", func() bool { return noted(d, "pilot may be root at weir, by your yes") })
	d.Until("it to be gone", func() bool { return !strings.Contains(d.See(), "pilot asks") })
	l.PilotAsks()
	d.UntilSees("pilot asks")
	d.Press("home", "D")
	d.Until("that it is said", func() bool { return noted(d, "pilot was told no") })
	// A session that has leases for what is chosen is opened from here.
	d.Until("keeper at weir to be chosen", func() bool {
		if strings.Contains(d.See(), "❯ ● keeper@weir") {
			return true
		}
		d.Press("home")
		return false
	})
	d.Press("enter")
	if len(d.Opened) != 1 || d.Opened[0].Session != "weir" {
		t.Errorf("%+v", d.Opened)
	}
}

// A session's card says what one may, before one asks.
func TestASessionIsJudgedByWhatItsIssuerTold(t *testing.T) {
	d, _ := placetest.Lab(t)
	d.Place(leases.New)
	d.UntilSees("keeper@weir")
	judged := func(session, want string) {
		t.Helper()
		d.Until(session+" to be judged", func() bool {
			_, report := d.Engine.Workspace().Check(session, d.Engine.Workspace().Knowledge())
			for _, hop := range report.Hops {
				for _, g := range hop.Gates {
					if g.Kind.String() == "lease" && strings.Contains(g.Verdict.String()+" "+g.Seen+" "+g.Reason, want) {
						return true
					}
				}
			}
			return false
		})
	}
	judged("weir", "open for keeper at weir, purser, by rule tide-watch")
	judged("weir-root", "a second person has to agree")
	r, _ := d.Engine.Workspace().Planner().Plan("weir")
	r.Hops[1].User = "somebody"
	if g, ok := d.Engine.Leases.LeaseGate(r.Target()); !ok || !strings.Contains(g.Reason, "lets you log in nowhere as somebody at weir") {
		t.Errorf("%+v", g)
	}
}

// A machine is enrolled from here: looked at, in several ways, written, and taken out again.
func TestAMachineIsEnrolled(t *testing.T) {
	d, l := placetest.Lab(t)
	d.Place(leases.New)
	d.UntilSees("keeper@weir")
	d.Press("I")
	d.Type("nowhere")
	d.Press("enter")
	d.Until("that it is said", func() bool { return noted(d, "there is no session nowhere") })
	d.Press("esc", "I")
	d.Type("fen")
	d.Press("enter")
	d.Until("the task", func() bool { return len(d.Tasks) == 1 })
	d.Task(d.Tasks[0])
	d.UntilSees("enrol fen at purser", "/etc/ssh/meatus-lease-signers.pub is new", "+ AuthorizedPrincipalsCommand /bin/echo %u@fen")
	d.Fits()
	// Put away, it keeps no connection; one that arrives later is freed.
	users := func() (n int) {
		for _, l := range d.Engine.Board.Links().All() {
			if l.State.Hop == "fen" {
				n += l.State.Users
			}
		}
		return n
	}
	d.Until("its connection", func() bool { return users() > 0 })
	d.On().(stack.Layer).Close()
	d.Until("its connection to end", func() bool { return users() == 0 })
	d.Task(d.Tasks[0])
	d.UntilSees("enrol fen at purser", "+ AuthorizedPrincipalsCommand /bin/echo %u@fen")
	d.Press("v")
	d.UntilSees("its own key signed, too", "+ HostCertificate")
	d.Press("enter")
	d.UntilSees("a fresh login by a lease works", "fen has leases of purser from now on", "done")
	d.Fits()
	text, err := os.ReadFile(filepath.Join(l.Dir, "sessions.toml"))
	if err != nil || strings.Count(string(text), "lease = \"purser\"") != 2 {
		t.Errorf("%v\n%s", err, text)
	}
}

func TestWithoutAnIssuer(t *testing.T) {
	d := placetest.Workspace(t, "[session.a]\nhost = \"a\"\n")
	d.Place(leases.New)
	d.UntilSees("names no issuer of leases")
	d.Fits()
	d = placetest.Workspace(t, "[issuer.bay]\nurl = \"wss://127.0.0.1:1\"\n")
	d.Place(leases.New)
	d.UntilSees("nothing listens on that port")
	d.Fits()
}
