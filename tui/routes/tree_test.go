package routes

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/tui/placetest"
)

const branches = `[site.reef]
via = ["quay"]
[session.tide-db]
site = "reef"
host = "10.61.4.20"
[session.quay]
host = "203.0.113.10"
[session.spit]
host = "203.0.113.11"
[session.deep]
host = "10.61.9.1"
via = ["tide-db"]
[session.listed]
host = "10.61.9.2"
via = ["spit", "tide-db"]
[session.either]
host = "10.61.9.3"
via = ["spit | quay"]
`

// shape is a tree in words: each branch with what hangs from it.
func shape(b *book.Book, n *branch) string {
	var all []string
	for _, k := range n.kids {
		name := ""
		if k.branch != nil {
			name = k.branch.name
			if k.branch.session < 0 {
				name = "(" + name + ")"
			}
			name += "[" + shape(b, k.branch) + "]"
		} else {
			name = b.Sessions[k.session].Name
		}
		all = append(all, name)
	}
	return strings.Join(all, " ")
}

func TestSessionsHangFromTheWaysTheyShare(t *testing.T) {
	b := book.Parse(book.FileName, []byte(branches))
	root := grow(b, nil)
	// Of several hops the first brings its own way along; tide-db is reached from spit there, which
	// is another way than its own.
	if got := shape(b, root); got != "quay[tide-db[deep]] spit[(tide-db)[listed] either]" {
		t.Errorf("grown: %s", got)
	}
	if len(root.all) != len(b.Sessions) {
		t.Errorf("%d of %d sessions are in it", len(root.all), len(b.Sessions))
	}
	circle := book.Parse(book.FileName, []byte("[session.a]\nhost = \"a\"\nvia = [\"b\"]\n[session.b]\nhost = \"b\"\nvia = [\"a\"]\n[session.c]\nhost = \"c\"\nvia = [\"nobody\"]\n"))
	if got := shape(circle, grow(circle, nil)); got != "a b c" {
		t.Errorf("a circle: %s", got)
	}
}

func tree(t *testing.T) (*placetest.Driver, *Model) {
	d := placetest.Workspace(t, branches)
	d.Place(New)
	m := d.On().(*Model)
	d.UntilSees("here", "deep")
	return d, m
}

func TestTheWaysAreDrawnOnce(t *testing.T) {
	d, m := tree(t)
	m.Select("quay")
	see := d.See()
	for _, want := range []string{
		"\n  here", "\n  ├┈┈❯ quay ", "\n  │    └┈┈  tide-db ", "\n  │         └┈┈  deep ", "\n  └┈┈  spit ", "\n       ├──  tide-db", "\n       │    └┈┈  listed ", "\n       └┈┈  either ",
	} {
		if !strings.Contains("\n"+see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	d.Fits()
	d.Press("o") // another order tears the branches apart
	d.UntilSees("via quay ▸ tide-db", "via spit ▸ tide-db")
	if strings.Contains(d.See(), "├") {
		t.Errorf("rails are drawn in another order:\n%s", d.See())
	}
	d.Press("o", "o", "o", "/")
	d.Type("deep")
	d.UntilSees("❯ deep", "via quay ▸ tide-db")
}

func TestABranchIsFoldedAwayAndUnfolds(t *testing.T) {
	d, m := tree(t)
	m.Select("deep")
	d.Press("left") // the branch it is a stop on
	d.UntilSees("tide-db", "▸ 1 machine")
	if m.Selected() != "tide-db" || strings.Contains(d.See(), "deep") {
		t.Errorf("%s is selected:\n%s", m.Selected(), d.See())
	}
	d.Press("left")
	d.UntilSees("▸ 2 machines")
	if m.Selected() != "quay" {
		t.Errorf("%s is selected", m.Selected())
	}
	d.Press("down")
	if m.Selected() != "spit" {
		t.Errorf("below a folded branch comes %s", m.Selected())
	}
	m.Select("deep") // what is gone to is unfolded
	d.UntilSees("❯ deep")
	d.Press("left", "left", "right", "right")
	d.UntilSees("tide-db")
	d.Fits()
}

func TestWhatIsLiveStandsOut(t *testing.T) {
	d, m := open(t)
	at(d, m, "gauge-1")
	r, ok := d.Services.Plan("gauge-1")
	if !ok {
		t.Fatal("gauge-1 has no route")
	}
	p, err := d.Engine.Walker.Walk(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	d.Until("the links to be seen", func() bool { return len(d.Engine.Board.Live()) == 3 }) // spit is quay, too
	d.UntilSees("┣━◐  quay", "┃    ┠┈╳  tide-db", "┃    ┡━━❯ gauge-1", "┃    ├──  gauge-2", "┡━◐  spit")
	m.Select("quay")
	d.Press("left")
	d.UntilSees("▸ 17 machines, 1 live, 3 blocked")
}

// large is a workspace of n sessions behind twenty bastions.
func large(n int) string {
	var b strings.Builder
	for i := range 20 {
		fmt.Fprintf(&b, "[site.reef-%d]\nvia = [\"quay-%d\"]\nuser = \"keeper\"\n[session.quay-%d]\nhost = \"203.0.113.%d\"\n", i, i, i, i)
	}
	for i := range n {
		fmt.Fprintf(&b, "[session.gauge-%d]\nsite = \"reef-%d\"\nhost = \"10.61.%d.%d\"\n", i, i%20, i/250%250, i%250)
	}
	return b.String()
}

// What grows with the sessions: the tree, which is made when the sessions change, and a fold.
func BenchmarkGrow(b *testing.B) {
	for _, n := range []int{10_000, 50_000} {
		read := book.Parse(book.FileName, []byte(large(n)))
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				grow(read, nil)
			}
		})
	}
}

func TestALargeTreeIsWhole(t *testing.T) {
	read := book.Parse(book.FileName, []byte(large(2000)))
	root := grow(read, map[string]bool{"quay-3\x00": true})
	if len(root.kids) != 20 || len(root.all) != 2020 || slices.ContainsFunc(root.kids, func(k kid) bool { return k.branch == nil || len(k.branch.kids) != 100 }) {
		t.Errorf("%d branches, %d sessions", len(root.kids), len(root.all))
	}
}

func TestHowASessionStandsIsWholeWhereThereIsRoom(t *testing.T) {
	d, m := tree(t)
	m.SetSize(130, 40)
	const why = "it answers, and what it says is no greeting of the protocol that a person would know: it may be another service"
	d.Engine.Board.Failed("tide-db", &gate.Failure{Hop: "tide-db", Gate: gate.Port, Cause: gate.Cause(why)})
	d.UntilSees("no greeting of the", "person would know", "service at tide-db")
	see := d.See()
	lines := strings.Split(see, "\n")
	row := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "tide-db") && strings.Contains(l, "blocked") })
	if row < 0 || !strings.HasPrefix(lines[row+1], "  │         │ ") {
		t.Errorf("the rails end at it:\n%s", see)
	}
	m.mouse(tea.MouseClickMsg{X: 12, Y: row + 1, Button: tea.MouseLeft})
	if got := m.Selected(); got != "tide-db" {
		t.Errorf("a click at its second line chooses %s", got)
	}
	d.Fits()
}
