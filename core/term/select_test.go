package term

import (
	"testing"
)

func TestTextIsTakenAsItWasWritten(t *testing.T) {
	s := New(10, 4, 100)
	s.Write([]byte("one\r\ntwo words that wrap\r\n  in  \r\n海 last"))
	first, end := s.Rows()
	if first != 0 || end != 5 {
		t.Fatalf("rows %d to %d", first, end)
	}
	for _, c := range []struct {
		a, b Point
		want string
	}{
		{Point{0, 0}, Point{4, 9}, "one\ntwo words that wrap\n  in\n海 last"},
		{Point{1, 4}, Point{2, 5}, "words that w"},
		{Point{2, 5}, Point{1, 4}, "words that w"},
		{Point{4, 0}, Point{4, 3}, "海 l"},
		{Point{0, 1}, Point{0, 1}, "n"},
		{Point{0, 8}, Point{1, 0}, "\nt"},
		{Point{-5, 0}, Point{0, 9}, "one"},
	} {
		if got := s.TextBetween(c.a, c.b); got != c.want {
			t.Errorf("%v to %v: %q, want %q", c.a, c.b, got, c.want)
		}
	}
}

func TestFindingGoesBothWaysAndOverWraps(t *testing.T) {
	s := New(10, 3, 5)
	for range 20 {
		s.Write([]byte("filler\r\n"))
	}
	s.Write([]byte("the Needle\r\nand 1234567 needle\r\nend"))
	first, end := s.Rows()
	at := Point{end, 0}
	var found []Point
	for {
		from, to, ok := s.Find("NEEDLE", at, false)
		if !ok {
			break
		}
		if got := s.TextBetween(from, to); got != "Needle" && got != "needle" {
			t.Errorf("found %q", got)
		}
		found = append(found, from)
		at = from
	}
	if len(found) != 2 || found[0].Col != 2 || found[1] != (Point{end - 4, 4}) {
		t.Errorf("found %v, rows end at %d", found, end)
	}
	if from, _, ok := s.Find("needle", found[1], true); !ok || from != found[0] {
		t.Errorf("forwards: %v, %v", from, ok)
	}
	if _, _, ok := s.Find("needle", found[0], true); ok {
		t.Error("one more forwards")
	}
	if _, _, ok := s.Find("nothing like it", Point{end, 0}, false); ok {
		t.Error("found what is not there")
	}
	if first == 0 {
		t.Error("nothing was dropped: the numbers of rows are not tried")
	}
}

func TestWordsArePathsAndAddresses(t *testing.T) {
	s := New(40, 2, 0)
	s.Write([]byte("see (/srv/tide/levels.csv) 10.61.4.20:22"))
	for col, want := range map[int]string{0: "see", 9: "/srv/tide/levels.csv", 4: "(", 30: "10.61.4.20:22", 3: ""} {
		from, to := s.Word(Point{0, col})
		if got := s.TextBetween(from, to); got != want {
			t.Errorf("at %d: %q, want %q", col, got, want)
		}
	}
}

func TestMouseEventsAreToldAsAskedFor(t *testing.T) {
	left := Mouse{X: 4, Y: 2}
	drag := Mouse{X: 4, Y: 2, Motion: true}
	move := Mouse{X: 4, Y: 2, Button: -1, Motion: true}
	for _, c := range []struct {
		e     Mouse
		modes string
		want  string
	}{
		{left, "", ""},
		{left, "\x1b[?1000h", "\x1b[M \x25\x23"},
		{left, "\x1b[?1000;1006h", "\x1b[<0;5;3M"},
		{Mouse{X: 4, Y: 2, Release: true}, "\x1b[?1000;1006h", "\x1b[<0;5;3m"},
		{Mouse{X: 4, Y: 2, Release: true}, "\x1b[?1000h", "\x1b[M#\x25\x23"},
		{Mouse{X: 0, Y: 0, Button: 5, Ctrl: true}, "\x1b[?1002;1006h", "\x1b[<81;1;1M"},
		{drag, "\x1b[?1000;1006h", ""},
		{drag, "\x1b[?1002;1006h", "\x1b[<32;5;3M"},
		{move, "\x1b[?1002;1006h", ""},
		{move, "\x1b[?1003;1006h", "\x1b[<35;5;3M"},
		{Mouse{X: 300}, "\x1b[?1000h", ""},
		{left, "\x1b[?1000h\x1b[?1000l", ""},
	} {
		s := New(400, 24, 0)
		s.Write([]byte(c.modes))
		if got := string(c.e.Encode(s.Frame(0, nil).Modes)); got != c.want {
			t.Errorf("%+v with %q: %q, want %q", c.e, c.modes, got, c.want)
		}
	}
}
