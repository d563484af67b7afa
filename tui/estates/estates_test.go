package estates

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/route"
	"meatus/lab/estatedoc"
	"meatus/tui/placetest"
)

const sessions = `[session.quay]
host = "203.0.113.10"
[[fleet]]
query = "tag:role=gauge"
via = ["quay"]
`

const document = `{"estate": 1,
"networks": [{"id": "n-1", "name": "shore", "cidrs": ["10.61.0.0/24"]}, {"id": "n-2", "name": "reef", "cidrs": ["10.61.4.0/24"]}, {"id": "n-3", "name": "deep"}],
"images": [{"id": "deb", "name": "debian-12", "family": "debian"}],
"groups": [{"id": "g", "name": "reef", "rules": [{"direction": "in", "protocol": "tcp", "ports": "22", "cidr": "0.0.0.0/0"}]}],
"instances": [
	{"id": "i-q", "name": "quay", "state": "running", "checks": "passed", "addresses": [{"ip": "203.0.113.10", "outside": true}, {"ip": "10.61.0.10", "network": "n-1"}]},
	{"id": "i-1", "name": "gauge-1", "state": "running", "checks": "initializing", "image": "deb", "key_pair": "gauge", "groups": ["g"], "tags": {"role": "gauge"}, "addresses": [{"ip": "10.61.4.31", "network": "n-2"}]},
	{"id": "i-2", "name": "gauge-2", "state": "stopped", "tags": {"role": "gauge"}, "addresses": [{"ip": "10.61.4.32", "network": "n-2"}], "wrong": "out of disk\u001b[31m"},
	{"id": "i-3", "name": "hermit", "state": "running", "addresses": [{"ip": "10.62.0.2", "network": "n-3"}]}
]}`

// open shows the estate of a workspace with a document.
func open(t *testing.T, text string) (d *placetest.Driver, m *Model, write func(string)) {
	t.Helper()
	d = placetest.Workspace(t, estatedoc.Table("off")+sessions)
	dir := d.Engine.Workspace().Dir
	write = func(text string) {
		t.Helper()
		estatedoc.Write(t, dir, text)
		d.Services.ReadEstates()
	}
	write(text)
	d.Place(New)
	return d, d.On().(*Model), write
}

func TestNetworksHangFromTheirWays(t *testing.T) {
	d, m, _ := open(t, document)
	d.UntilSees("shore 10.61.0.0/24, from here", "└─ reef 10.61.4.0/24, through quay", "deep, no session leads here", "gauge-2 stopped", "gauge-1 checks go on")
	d.UntilSees("4 instances, 1 not running", "bay read")
	d.Fits()
	d.Press("down")
	d.UntilSees("gauge-1 runs, but its start-up checks have not passed yet", "debian-12, its usual login is debian", "gauge, no file of it is here", "reef: lets in tcp 22 from everybody (0.0.0.0/0)", "role=gauge")
	d.Fits()
	d.Press("right")
	d.UntilSees("gauge-2 is stopped", "out of disk")
	if strings.Contains(strings.Join(d.Lines(), ""), "\x1b[31m") {
		t.Error("an instance's text colours the screen")
	}
	d.Press("s")
	if len(d.Went) != 1 || d.Went[0] != "0" {
		t.Errorf("went to %v", d.Went)
	}
	m.Select("gauge-1")
	d.Press("y")
	if len(d.Copied) != 1 || d.Copied[0] != "10.61.4.31" {
		t.Errorf("copied %v", d.Copied)
	}
	d.Press("enter")
	if len(d.Opened) != 1 || d.Opened[0].Target().Instance.ID != "i-1" {
		t.Errorf("opened %+v", d.Opened)
	}
}

func TestASessionIsMadeOfAnInstance(t *testing.T) {
	d, m, _ := open(t, document)
	d.UntilSees("hermit")
	d.Press("end")
	d.UntilSees("none leads to it; n makes one")
	d.Press("n")
	d.UntilSaid("n again to write a session hermit, bound to instance i-3")
	d.Press("n")
	d.Until("the session", func() bool {
		s := d.Engine.Workspace().Book.Session("hermit")
		return s != nil && s.Bound != nil && s.Bound.ID == "i-3" && s.Host.V == "10.62.0.2"
	})
	d.UntilSees("deep, from here")
	if got := m.chosen(); got == nil || got.Instance.ID != "i-3" {
		t.Errorf("then chosen is %+v", got)
	}
}

// An instance that is gone when the estate is read again is not taken for another one: nothing is done until the person moves.
func TestAnInstanceThatIsGoneIsNotTakenForAnother(t *testing.T) {
	d, m, write := open(t, document)
	d.UntilSees("4 instances")
	d.Press("end")
	if m.Subject() != "hermit" {
		t.Fatalf("%q is chosen", m.Subject())
	}
	without := document[:strings.LastIndex(document, ",\n\t{\"id\": \"i-3\"")] + "\n]}"
	write(without)
	d.UntilSees("3 instances")
	if m.chosen() != nil || m.Subject() != "" {
		t.Fatalf("%q is chosen in its place:\n%s", m.Subject(), d.See())
	}
	d.Fits()
	for _, key := range []string{"enter", "n", "s", "f", "K", "T", "y", "m", "D", "M", "Z", "V", "e", "O", "c", "5"} {
		d.Press(key, key)
	}
	if len(d.Opened)+len(d.Begun)+len(d.Went)+len(d.Copied) > 0 || m.ending != "" || m.scratch != nil {
		t.Errorf("done in its place: opened %v, begun %v, went %v, copied %v", d.Opened, d.Begun, d.Went, d.Copied)
	}
	// When it is there again it is chosen again.
	write(document)
	d.UntilSees("4 instances")
	if m.Subject() != "hermit" {
		t.Errorf("%q is chosen when it is there again", m.Subject())
	}
	write(without)
	d.UntilSees("3 instances")
	if d.Press("up"); m.chosen() == nil {
		t.Error("nothing is chosen after a move")
	}
	// Who looks for others has chosen among those.
	d.Press("/")
	d.Type("gauge-2")
	d.Until("what is looked for", func() bool { return m.Subject() == "gauge-2" })
}

func TestWhatEndsSomethingIsSaidFirst(t *testing.T) {
	d, l := placetest.Lab(t)
	l.Cloud().Pace = 20 * time.Millisecond
	d.Place(New)
	d.UntilSees("gauge-1")
	m := d.On().(*Model)
	m.Select("quay")
	d.Press("m")
	d.Press("D")
	d.UntilSaid("D again to stop quay")
	d.UntilSees("To stop quay:", "can not be reached through it meanwhile")
	d.Fits()
	d.Press("down", "up", "Z")
	d.UntilSees("type quay to end it for good", "what is on it is lost")
	d.Type("quai")
	d.Press("enter")
	d.UntilSaid("nothing was done")
	if len(d.Begun) > 0 {
		t.Fatalf("begun is %+v", d.Begun)
	}
	d.Press("D", "D")
	d.Until("it to stop", func() bool { return l.Cloud().Status("quay") == "SHUTOFF" })
	d.UntilSees("quay stopped")
	m.Select("quay")
	d.Press("Z")
	d.Type("quay")
	d.Press("enter")
	d.Until("its end", func() bool { return l.Cloud().Status("quay") == "" })
}

func TestTheWaysToAnInstanceAreShownWithTheirProof(t *testing.T) {
	d, _ := placetest.Lab(t)
	d.Place(New)
	d.UntilSees("gauge-1")
	m := d.On().(*Model)
	m.Select("tide-db")
	d.Press("V")
	d.UntilSees("ways to tide-db", "here ── quay ── tide-db", "quay: session quay, warden with keys/shore.pem", "shore: lets in tcp 22 from everybody", "reef: lets in tcp 22 from 10.61.4.1/32")
	d.Fits()
	d.Press("V")
	d.UntilSees("from tide-db")
	d.Fits()
	d.Press("V")
	d.UntilSees("tide, here keys/tide.pem")
	d.Press("K", "T")
	if len(d.Went) != 2 || d.Went[0] != "K" || d.Went[1] != "T" {
		t.Errorf("went to %v", d.Went)
	}
	d.Press("end") // float, which failed
	d.Press("V")
	d.UntilSees("there is none, by what estate bay knows", "float is failed")
	d.Fits()
	d.Press("home")
	if see := d.See(); strings.Contains(see, "ways to") {
		t.Errorf("the ways of one show at another:\n%s", see)
	}
}

func TestInstancesAreFoundByTheQuery(t *testing.T) {
	d, m, _ := open(t, document)
	d.UntilSees("hermit")
	d.Press("/")
	d.Type("tag:role=gauge !state=stopped")
	d.Until("the one that fits", func() bool { return len(m.areas) == 1 && len(m.areas[0].Spots) == 1 })
	d.Type(" colour=")
	d.UntilSees(`"colour" is nothing that instances are chosen by`)
	d.Fits()
	d.Press("esc")
	d.Until("all of them", func() bool { return len(m.areas) == 3 })
	d.Press("/")
	d.Type("nobody")
	d.UntilSees("No instance is chosen by that.")
}

func TestChangesAreShownAsTheyHappen(t *testing.T) {
	d, m, write := open(t, document)
	d.UntilSees("hermit")
	m.Select("gauge-2")
	write(strings.NewReplacer(`"state": "stopped"`, `"state": "running"`, "10.61.4.32", "10.61.4.47").Replace(document))
	d.UntilSees("was stopped and started: 10.61.4.32 became 10.61.4.47", "10.61.4.47")
	write("{")
	d.UntilSees("bay cannot be read", "what is known is")
	d.Fits()
	if s := d.Engine.Workspace().Book.Session("gauge-2"); s == nil || s.Host.V != "10.61.4.47" {
		t.Error("what was known is gone")
	}
}

func TestAnEmptyEstateSaysWhatToDo(t *testing.T) {
	d := placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
	d.Place(New)
	d.UntilSees("No estate is named")
	d.Fits()
	e, _, write := open(t, `{"estate": 1}`)
	e.UntilSees("There are no instances.")
	write(`{"estate": 1, "instances": [{"id": "x"}]}`)
	e.UntilSees("no network", "1 instance, 1 not running")
	e.Fits()
}

func BenchmarkKeyToFrame(b *testing.B) {
	for _, n := range []int{2000, 20000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := placetest.Workspace(b, "[session.quay]\nhost = \"203.0.113.10\"\n")
			m := New(d.Services).(*Model)
			m.SetSize(160, 47)
			var areas []estate.Area
			for a := range n / 100 {
				area := estate.Area{Network: &estate.Network{ID: fmt.Sprint("net-", a)}, Parent: -1, Source: &estate.Kept{Source: "bay"}}
				for i := range 100 {
					area.Spots = append(area.Spots, estate.Spot{Source: area.Source, Instance: &estate.Instance{ID: fmt.Sprintf("i-%d-%d", a, i), State: estate.Running}})
				}
				areas = append(areas, area)
			}
			m.take(areas)
			for b.Loop() {
				m.Update(tea.KeyPressMsg{Code: tea.KeyDown})
				m.View()
			}
		})
	}
}

// What an instance has joined a gateway as stands on its card, and a session of it goes through that.
func TestWhatHasJoinedIsAsked(t *testing.T) {
	d, l, _ := bay(t)
	d.Press("/")
	d.Type("sounder")
	d.Press("enter", "a", "d")
	d.UntilSees("sounder joined lightship", "no rule lets anybody in: there is no other way")
	d.Fits()
	d.Press("n")
	d.UntilSaid("via lightship")
	d.Press("n")
	d.Until("a session that is bound to it", func() bool {
		text, _ := os.ReadFile(filepath.Join(l.Dir, "sessions.toml"))
		_, made, _ := strings.Cut(string(text), "[session.sounder-2]\n")
		return strings.Contains(made, "\"i-sounder\"") && strings.Contains(made, "\"lightship\"")
	})
	var r route.Route
	d.Until("everybody to use it", func() (made bool) {
		var err error
		r, err = d.Engine.Workspace().Planner().Plan("sounder-2")
		return err == nil
	})
	if len(r.Hops) != 2 || r.Hops[0].Gateway == nil || r.Hops[1].Instance == nil {
		t.Errorf("%+v", r)
	}
}
