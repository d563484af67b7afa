package routeline

import (
	"reflect"
	"strings"
	"testing"

	"meatus/core/book"
)

var bay = Known{
	Sessions: []string{"quay", "inner", "tide-db"},
	Sites:    []string{"shore", "reef"},
	Keys:     []string{"tide.pem", "shore.pem"},
}

func TestLinesBecomeDrafts(t *testing.T) {
	cases := []struct {
		line string
		want book.Draft
	}{
		{"gauge-9 = keeper@10.61.4.39 via quay with tide.pem", book.Draft{Name: "gauge-9", User: "keeper", Host: "10.61.4.39", Via: []string{"quay"}, Keys: []string{"keys/tide.pem"}}},
		{"keeper@10.61.4.20:2022", book.Draft{Name: "10.61.4.20", User: "keeper", Host: "10.61.4.20", Port: 2022}},
		{"archive.reef.internal", book.Draft{Name: "archive", Host: "archive.reef.internal"}},
		{"quay.bay", book.Draft{Name: "quay-2", Host: "quay.bay"}},
		{"a=h via quay,inner with 'my keys/x.pem' site reef every 1m", book.Draft{Name: "a", Host: "h", Via: []string{"quay", "inner"}, Keys: []string{"my keys/x.pem"}, Site: "reef", Keepalive: "1m"}},
		{"six = keeper@[2001:db8::5]:2022", book.Draft{Name: "six", User: "keeper", Host: "2001:db8::5", Port: 2022}},
		{"six = 2001:db8::5", book.Draft{Name: "six", Host: "2001:db8::5"}},
	}
	for _, c := range cases {
		l := Parse(c.line, bay)
		if len(l.Mistakes) > 0 || !reflect.DeepEqual(l.Draft, c.want) {
			t.Errorf("%q:\n got %+v, mistakes %v\nwant %+v", c.line, l.Draft, l.Mistakes, c.want)
		}
	}
}

func TestMistakesStandAtTheirWord(t *testing.T) {
	cases := []struct {
		line, word, say string
		unfinished      bool
	}{
		{"", "", "who and where", true},
		{"x =", "", "host is missing", true},
		{"quay = h", "quay", "already", false},
		{"a b = h", "b", "one word", false},
		{"x = h:99999", "99999", "port", false},
		{"x = 10.61.4.300", "10.61.4.300", "four numbers", true},
		{"x = h via qauy", "qauy", "did you mean quay", false},
		{"x = h via qu", "qu", "no session", true},
		{"x = h via", "via", "via wants a session", true},
		{"x = h vai quay", "vai", "did you mean via", false},
		{"x = h via quay via inner", "via", "twice", false},
		{"x = h with none.pem", "none.pem", "no key", false},
		{"x = h every 3", "3", "from 1s", true},
		{"x = h bring 15432", "bring", "tunnels", false},
		{"x = via quay", "via", "host is missing", false},
		{"tide = h via tide", "tide", "itself", false},
		{"x = @h", "@", "login name", false},
		{"x = [2001:db8::5", "[2001:db8::5", "bracket", true},
	}
	for _, c := range cases {
		l := Parse(c.line, bay)
		if len(l.Mistakes) == 0 {
			t.Errorf("%q: no mistake", c.line)
			continue
		}
		found := false
		for _, m := range l.Mistakes {
			found = found || c.line[m.From:m.To] == c.word && strings.Contains(m.Say, c.say) && m.Unfinished == c.unfinished
		}
		if !found {
			t.Errorf("%q: %+v, want %q at %q", c.line, l.Mistakes, c.say, c.word)
		}
	}
}

func TestCompletion(t *testing.T) {
	cases := []struct {
		line, want string
		from       int
	}{
		{"x = h via q", "quay", 10},
		{"x = h via quay with ", "tide.pem shore.pem", 20},
		{"x = h with ti", "tide.pem", 11},
		{"x = h w", "with", 6},
		{"x = h ", "via with site every", 6},
		{"x = h site ", "shore reef", 11},
		{"x = ", "", 4},
		{"h v", "via", 2},
	}
	for _, c := range cases {
		from, got := Complete(c.line, len(c.line), bay)
		if from != c.from || strings.Join(got, " ") != c.want {
			t.Errorf("%q: from %d %q, want %d %q", c.line, from, got, c.from, c.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"x = keeper@10.61.4.20:22 via quay, inner with 'a b' every 30s", "=", "a=b=c", "[::1]:x", "\"", "via via"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		l := Parse(line, bay)
		for _, m := range l.Mistakes {
			if m.From < 0 || m.To < m.From || m.To > len(line) {
				t.Fatalf("%q: mistake out of the line: %+v", line, m)
			}
		}
		for at := range line[:min(len(line), 100)] {
			if from, _ := Complete(line, at, bay); from > at {
				t.Fatalf("%q: completion at %d from %d", line, at, from)
			}
		}
		if len(l.Mistakes) > 0 {
			return
		}
		b := book.Parse("f", []byte("[session.quay]\nhost=\"q\"\n[session.inner]\nhost=\"q\"\n[session.tide-db]\nhost=\"q\"\n[site.reef]\n[site.shore]\n"+l.Draft.Text()))
		if s := b.Session(l.Draft.Name); s == nil || s.Broken != nil {
			t.Errorf("%q passes, its session does not: %+v %v", line, l.Draft, b.Problems)
		}
	})
}
