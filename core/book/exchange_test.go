package book

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func exported(t *testing.T, b *Book, format string) string {
	t.Helper()
	var out bytes.Buffer
	if err := b.Export(&out, format, false); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestWhatIsExportedImportsAsItWas(t *testing.T) {
	b := Parse("f", []byte(layered+"tunnels = [{ bring = \"127.0.0.1:1\", reach = \"db:2\" }]\narrive = \"say \\\"a, b\\\"\"\nport = 2022\n\n[session.drifter]\ninstance = \"i-7\"\naddress = \"inside\"\n"))
	for _, format := range []string{"csv", "json"} {
		text := exported(t, b, format)
		rows, err := ReadRows(strings.NewReader(text), format)
		if err != nil {
			t.Fatalf("%s: %v\n%s", format, err, text)
		}
		if im := b.Compare(rows); len(im.Same) != len(rows) || len(rows) != 5 || len(im.Add)+len(im.Change)+len(im.Mistakes) != 0 {
			t.Errorf("%s: importing what was exported would do %+v", format, im)
		}
		path := filepath.Join(t.TempDir(), FileName)
		empty := Parse(FileName, nil)
		im, err := empty.Compare(rows).Try(path)
		if err != nil || len(im.Add) != len(rows) || len(im.Mistakes) != 0 {
			t.Fatalf("%s: into an empty workspace: %+v, %v", format, im, err)
		}
		again, err := im.Apply(path)
		if err != nil || exported(t, again, format) != text {
			t.Errorf("%s: %v\n%s\nwant\n%s", format, err, exported(t, again, format), text)
		}
	}
}

func TestAnImportShowsWhatItWouldDo(t *testing.T) {
	path := edited(t, layered+"\n[session.other]\nhost = \"o\" # stays\n")
	b, _ := Read(path)
	rows, err := ReadRows(strings.NewReader("host,name,port,user\nnew.host,tide-db,2022,\ng,gauge-1,,\no2,other,22,warden\n"), "csv")
	if err != nil {
		t.Fatal(err)
	}
	im := b.Compare(rows)
	if len(im.Add) != 1 || im.Add[0].Name != "tide-db" || len(im.Change) != 1 || !slices.Equal(im.Same, []string{"gauge-1"}) {
		t.Fatalf("%+v", im)
	}
	if got := strings.Join(im.Was["other"], "; "); got != "host: o → o2; user: none → warden" {
		t.Errorf("other would change %q", got)
	}
	after, err := im.Apply(path)
	if err != nil || after.Session("other").Host.V != "o2" || after.Session("tide-db").Port.V != 2022 {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(path)
	for _, kept := range []string{"# far", "# them all", "host = \"o2\" # stays"} {
		if !strings.Contains(string(text), kept) {
			t.Errorf("%q is gone:\n%s", kept, text)
		}
	}
	if what, _, err := Undo(path); err != nil || what != "importing 2 rows" {
		t.Errorf("undoing: %q, %v", what, err)
	}
}

func TestWhyAListCannotBeTakenIsSaidBefore(t *testing.T) {
	path := edited(t, layered)
	b, _ := Read(path)
	for what, c := range map[string]struct {
		row  Row
		want string
	}{
		"a way that is not there": {Row{1, "x", map[string]string{"host": "h", "via": "qauy"}}, "no such session"},
		"a port that is none":     {Row{1, "x", map[string]string{"host": "h", "port": "70000"}}, "70000 is no port"},
		"a site with a host":      {Row{1, "site reef", map[string]string{"host": "h"}}, "cannot give sessions a host"},
		"a change":                {Row{1, "gauge-1", map[string]string{"via": "gauge-1"}}, "circle"},
		"a site with no name":     {Row{1, "site a/b", map[string]string{"user": "h"}}, "cannot be a site's name"},
	} {
		im, err := b.Compare([]Row{c.row}).Try(path)
		if err != nil || len(im.Mistakes) == 0 || !strings.Contains(strings.Join(im.Mistakes, "; "), c.want) {
			t.Errorf("%s: %q, %v", what, im.Mistakes, err)
		}
	}
	im, err := b.Compare([]Row{{1, "defaults", map[string]string{"port": "2022"}}, {2, "like gauge-*", map[string]string{"user": "pilot"}}, {3, "site reef", map[string]string{"user": "warden"}}}).Try(path)
	if err != nil || len(im.Mistakes) != 0 || len(im.Change) != 3 {
		t.Fatalf("%+v, %v", im, err)
	}
	after, err := im.Apply(path)
	if err != nil || after.Session("gauge-1").Port.V != 2022 {
		t.Errorf("%+v, %v", after, err)
	}
}

func TestAListWithMistakesIsNotTaken(t *testing.T) {
	b := Parse("f", []byte(layered))
	for _, c := range []struct{ format, text, want string }{
		{"csv", "", "empty"},
		{"csv", "host\nh\n", "name is missing"},
		{"csv", "name,hots\na,b\n", `did you mean "host"`},
		{"csv", "name,host\na,b,c\n", "wrong number of fields"},
		{"json", "{}", "not a JSON array"},
		{"json", `[{"name":"a","host":{}}]`, "object 1: host"},
		{"json", `[{"name":"a","colour":"red"}]`, "no column"},
		{"xml", "", "unknown format"},
	} {
		if _, err := ReadRows(strings.NewReader(c.text), c.format); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %q: %v, want %q", c.format, c.text, err, c.want)
		}
	}
	im := b.Compare([]Row{{1, "a b", nil}, {2, "x", map[string]string{"host": "h"}}, {3, "x", map[string]string{"host": "h"}}, {4, "y", nil}})
	if len(im.Mistakes) != 3 {
		t.Errorf("mistakes %q", im.Mistakes)
	}
	path := edited(t, layered)
	if _, err := im.Apply(path); err == nil {
		t.Error("a list with mistakes was taken")
	}
	if _, err := (Import{Add: []Row{{1, "x", map[string]string{"host": "h", "port": "70000"}}}}).Apply(path); err == nil || !strings.Contains(err.Error(), "not written") {
		t.Errorf("a port that is none: %v", err)
	}
	if text, _ := os.ReadFile(path); string(text) != layered {
		t.Error("the file was changed")
	}
}

// BenchmarkEditToDisk is one edit of a file with 10,000 sessions, written and
// remembered for undoing.
func BenchmarkEditToDisk(b *testing.B) {
	var text bytes.Buffer
	for i := range 10_000 {
		fmt.Fprintf(&text, "[session.host-%d]\nhost = \"10.1.%d.%d\"\nuser = \"keeper\"\n\n", i, i/250, i%250)
	}
	path := filepath.Join(b.TempDir(), FileName)
	if err := os.WriteFile(path, text.Bytes(), 0o600); err != nil {
		b.Fatal(err)
	}
	for i := 0; b.Loop(); i++ {
		if _, err := Set(path, "host-5000", "port", fmt.Sprint(1+i%60000)); err != nil {
			b.Fatal(err)
		}
	}
}
