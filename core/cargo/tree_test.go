package cargo_test

import (
	"context"
	"strings"
	"testing"
	"unicode/utf8"

	"meatus/core/cargo"
)

// looked is the tree of two folders.
func looked(t testing.TB, a, b string) *cargo.Tree {
	t.Helper()
	from, to := here(t, a), here(t, b)
	tree := cargo.NewTree(cargo.Place{Path: a}, cargo.Place{Path: b}, cargo.Rules{})
	err := cargo.Compare(context.Background(), from, to, cargo.Rules{}, tree.Add)
	if err != nil {
		t.Fatal(err)
	}
	found, err := cargo.Unlike(context.Background(), from, to, tree.Touched())
	if err != nil {
		t.Fatal(err)
	}
	tree.Settle(found)
	return tree
}

func TestWhatIsChosenGoesBothWays(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"both": "here", "here/only": "1", "here/too": "2", "same": "same", "mixed/mine": "m"})
	plant(t, b, map[string]string{"both": "there and longer", "there/x/deep": "3", "same": "same", "mixed/yours": "y", "gone/a": "1", "gone/b": "22"})
	tree := looked(t, a, b)
	choose := func(path string, turn cargo.Turn, want int) {
		t.Helper()
		if n, why := tree.Choose(tree.At(path), turn); n != want {
			t.Errorf("%s: %d names go (%s), not %d", path, n, why, want)
		}
	}
	if got := tree.Root.Differ; got != 12 {
		t.Errorf("%d names differ", got)
	}
	choose("here/only", cargo.GoThere, 1)
	choose("there", cargo.ComeHere, 3)
	choose("mixed", cargo.GoThere, 1)
	choose("gone", cargo.PutAside, 3)
	choose("both", cargo.ComeHere, 1)
	choose("same", cargo.GoThere, 0)
	choose("both", cargo.PutAside, 0)
	want := `make here
make here/only
make mixed/mine
make there
make there/x
make there/x/deep
remove gone
replace both`
	plan := tree.Plan()
	if got := sorted(acts(plan)); got != want {
		t.Fatalf("the plan:\n%s", got)
	}
	if got := tree.Totals; got.There.Names != 2 || got.Here.Names != 4 || got.Aside.Names != 3 || got.Aside.Bytes != 3 {
		t.Errorf("totals: %+v", got)
	}
	carried(t, plan, here(t, a), here(t, b), cargo.Options{})
	gotA, gotB := tree2(t, a), tree2(t, b)
	for _, c := range []struct {
		in   string
		want string
		is   bool
	}{{gotA, `"both" "there and longer"`, true}, {gotA, `"there/x/deep" "3"`, true}, {gotA, "yours", false}, {gotB, `"here/only" "1"`, true}, {gotB, "here/too", false}, {gotB, "gone", false}, {gotB, `"mixed/mine" "m"`, true}} {
		if strings.Contains(c.in, c.want) != c.is {
			t.Errorf("%s is wanted %v in\n%s", c.want, c.is, c.in)
		}
	}
	choose("gone", cargo.Stay, 0)
	choose("", cargo.Stay, 0)
	if tree.Totals.Any() {
		t.Errorf("nothing is chosen any more: %+v", tree.Totals)
	}
}

func tree2(t testing.TB, dir string) string { return listed(tree(t, dir)) }

func TestAFolderAndAFileKeepTheirPlaces(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	plant(t, a, map[string]string{"x/y": "1", "z": "file"})
	plant(t, b, map[string]string{"x": "file", "z/w": "1"})
	p := planned(t, here(t, a), here(t, b), cargo.Rules{Over: cargo.OverAll, Delete: true})
	if p.Acts() || len(strings.Split(acts(p), "\n")) != 2 {
		t.Errorf("the plan:\n%s", acts(p))
	}
	tree := looked(t, a, b)
	if n, why := tree.Choose(tree.At("x"), cargo.GoThere); n != 0 || !strings.Contains(why, "folder") {
		t.Errorf("%d, %s", n, why)
	}
}

// No two names are shown alike, and none can do anything to a screen.
func TestNamesAreShownAsTheyAre(t *testing.T) {
	shown := map[string]string{}
	for _, name := range []string{"bad", "bad\xff", "bad\xfe", "bad\ufffd", "bad ", " bad", "b ad", "b  ad", "b\nad", "b\tad", "b\u202ead", `"bad\xff"`, "\x1b[31mbad", "", "caf\u00e9", "tab\\le"} {
		say := cargo.Say(name)
		if other, twice := shown[say]; twice || strings.ContainsAny(say, "\n\t\x1b\u202e") || !utf8.ValidString(say) {
			t.Errorf("%q is shown as %q, as is %q", name, say, other)
		}
		shown[say] = name
	}
	if cargo.Say("caf\u00e9/tab\\le") != "caf\u00e9/tab\\le" {
		t.Errorf("a plain name is shown as %s", cargo.Say("caf\u00e9/tab\\le"))
	}
}
