package term

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"
)

func screen(cols, rows int, out string) *Screen {
	s := New(cols, rows, 100)
	s.Write([]byte(out))
	return s
}

func TestStylesReachTheCells(t *testing.T) {
	s := screen(40, 2, "\x1b[1;3;31;48;5;200ma\x1b[0;38;2;1;2;3;4:3mb\x1b[38:2::9:8:7;22;24mc\x1b[m\x1b[9;7;90;107md")
	want := []Style{
		{Palette(1), Palette(200), Bold | Italic},
		{RGB(1, 2, 3), 0, CurlyUnderline},
		{RGB(9, 8, 7), 0, 0},
		{Palette(8), Palette(15), Strike | Reverse},
	}
	for i, w := range want {
		if got := s.lines[0].cells[i].Style; got != w {
			t.Errorf("cell %d has %+v, want %+v", i, got, w)
		}
	}
	s.Write([]byte("\x1b[44m\x1b[K"))
	if got := s.lines[0].cells[39].Style.Bg; got != Palette(4) {
		t.Errorf("erasing left background %x, want blue", got)
	}
}

func TestOnlyHarmlessQueriesAreAnswered(t *testing.T) {
	for query, want := range map[string]string{
		"\x1b[5n":                              "\x1b[0n",
		"\x1b[2;3H\x1b[6n":                     "\x1b[2;3R",
		"\x1b[?6n":                             "\x1b[?1;1R",
		"\x1b[c":                               "\x1b[?62;22c",
		"\x1b[>c":                              "\x1b[>1;10;0c",
		"\x1b[?2004$p":                         "\x1b[?2004;2$y",
		"\x1b[?7$p":                            "\x1b[?7;1$y",
		"\x1b[?9999$p":                         "\x1b[?9999;0$y",
		"\x1b]0;rm -rf\x07\x1b[21t\x1b[20t":    "", // titles are not told
		"\x05":                                 "", // no answerback
		"\x1bP$qm\x1b\\\x1bP+q544e\x1b\\":      "", // no settings
		"\x1b]52;c;?\x07\x1b]10;?\x07\x1b[18t": "", // no clipboard, no colours
	} {
		s := screen(80, 24, query)
		if got := string(s.Replies()); got != want {
			t.Errorf("%q was answered %q, want %q", query, got, want)
		}
	}
	s := screen(80, 24, strings.Repeat("\x1b[6n", 100000))
	if n := len(s.Replies()); n > maxReplies {
		t.Errorf("%d bytes of answers are held", n)
	}
}

func TestTitlesAreCleaned(t *testing.T) {
	s := screen(80, 2, "\x1b]2;tide\u202e \x01table\x07")
	if s.Title() != "tide table" {
		t.Errorf("title %q", s.Title())
	}
	s.Write([]byte("\x1b]0;" + strings.Repeat("x", 1<<20) + "\x07"))
	if len(s.Title()) > 400 {
		t.Errorf("a title of %d bytes is kept", len(s.Title()))
	}
}

func TestNothingThatScrolledOffIsLost(t *testing.T) {
	s := New(40, 5, 10000)
	for i := range 300 {
		fmt.Fprintf(s, "line %d of the tide table\r\n", i)
	}
	for _, size := range [][2]int{{17, 5}, {9, 9}, {100, 3}, {40, 5}} {
		s.Resize(size[0], size[1])
	}
	var all strings.Builder
	for i := range s.Scrolled() {
		p := s.history.at(i)
		all.Write(p.text)
		if !p.wrapped {
			all.WriteByte('\n')
		}
	}
	for _, l := range strings.Split(s.Text(), "\n") {
		all.WriteString(l + "\n")
	}
	for i := range 300 {
		if !strings.Contains(all.String(), fmt.Sprintf("line %d of the tide table\n", i)) {
			t.Fatalf("line %d is gone", i)
		}
	}
}

func TestHistoryIsBounded(t *testing.T) {
	s := New(80, 24, 1000)
	for i := range 5000 {
		fmt.Fprintf(s, "%d\r\n", i)
	}
	if s.Scrolled() != 1000 || s.ScrolledLine(999) != "4976" {
		t.Errorf("%d lines kept, the newest %q", s.Scrolled(), s.ScrolledLine(s.Scrolled()-1))
	}
	f := s.Frame(1000, nil)
	if f.Line(0) != s.ScrolledLine(0) || f.CursorOn {
		t.Errorf("scrolled back, the first line is %q", f.Line(0))
	}
}

func TestFramesDoNotChange(t *testing.T) {
	s := screen(20, 3, "one\r\ntwo\r\nthree")
	f := s.Frame(0, nil)
	s.Write([]byte("\x1b[2;1HTWO\x1b[3;1H\r\nfour"))
	g := s.Frame(0, f)
	if f.Line(1) != "two" || g.Line(0) != "TWO" || g.Line(2) != "four" {
		t.Errorf("frames %q and %q", f.Line(1), g.Line(2))
	}
	s.Write([]byte("\x1b[1;1Hx"))
	if h := s.Frame(0, g); h.Lines[1] != g.Lines[1] || h.Line(0) != "xWO" {
		t.Error("an unchanged row is not shared, or a changed one is")
	}
}

func TestSplitSequencesReadTheSame(t *testing.T) {
	out := "a\x1b[31mb海\x1b]0;t\x07e\u0301\x1b[2;2H\xe6\xb5x\xff潮"
	whole := screen(20, 3, out)
	byByte := New(20, 3, 100)
	for i := range len(out) {
		byByte.Write([]byte{out[i]})
	}
	if whole.Text() != byByte.Text() || whole.Title() != byByte.Title() {
		t.Errorf("whole %q, by byte %q", whole.Text(), byByte.Text())
	}
}

func TestForwardTabAndFullRepeat(t *testing.T) { // which the other terminal of the comparison lacks
	if got := screen(20, 3, "a\x1b[Ib\x1b[2Ic").Text(); got != "a       b          c\n\n" {
		t.Errorf("got %q", got)
	}
	if got := screen(10, 3, "y\x1b[14b").Text(); got != "yyyyyyyyyy\nyyyyy\n" {
		t.Errorf("got %q", got)
	}
}

func TestKeys(t *testing.T) {
	app := Modes{CursorKeys: true, NewLine: true}
	for _, c := range []struct {
		key   Key
		modes Modes
		want  string
	}{
		{Key{Special: Backspace}, Modes{}, "\x7f"},
		{Key{Special: Backspace, Alt: true}, Modes{}, "\x1b\x7f"},
		{Key{Special: Delete}, Modes{}, "\x1b[3~"},
		{Key{Special: Up}, Modes{}, "\x1b[A"},
		{Key{Special: Up}, app, "\x1bOA"},
		{Key{Special: Left, Ctrl: true}, app, "\x1b[1;5D"},
		{Key{Special: Home}, Modes{}, "\x1b[H"},
		{Key{Special: F1}, Modes{}, "\x1bOP"},
		{Key{Special: F5, Shift: true}, Modes{}, "\x1b[15;2~"},
		{Key{Special: Tab, Shift: true}, Modes{}, "\x1b[Z"},
		{Key{Special: Enter}, Modes{}, "\r"},
		{Key{Special: Enter}, app, "\r\n"},
		{Key{Rune: 'c', Ctrl: true}, Modes{}, "\x03"},
		{Key{Rune: ' ', Ctrl: true}, Modes{}, "\x00"},
		{Key{Rune: '\\', Ctrl: true}, Modes{}, "\x1c"},
		{Key{Rune: 'x', Text: "x", Alt: true}, Modes{}, "\x1bx"},
		{Key{Rune: 'é', Text: "é"}, Modes{}, "é"},
		{Key{Rune: '5', Text: "5", Keypad: true}, Modes{}, "5"},
		{Key{Rune: '5', Text: "5", Keypad: true}, Modes{Keypad: true}, "\x1bOu"},
		{Key{Special: Enter, Rune: '\r', Keypad: true}, Modes{Keypad: true}, "\x1bOM"},
		{Key{Special: Enter, Rune: '\r', Keypad: true}, Modes{}, "\r"},
	} {
		if got := string(c.key.Encode(c.modes)); got != c.want {
			t.Errorf("%+v sends %q, want %q", c.key, got, c.want)
		}
	}
}

func TestPastedTextCannotPressKeys(t *testing.T) {
	nasty := "one\r\ntwo\x1b[201~rm\x03\x7f\u009b\n"
	if got := string(EncodePaste(nasty, Modes{Paste: true})); got != "\x1b[200~one\rtwo[201~rm\r\x1b[201~" {
		t.Errorf("bracketed: %q", got)
	}
	if got := string(EncodePaste(nasty, Modes{})); got != "one\rtwo[201~rm\r" {
		t.Errorf("plain: %q", got)
	}
}

// steering is output that tries to get controls into cells: by themselves, behind an
// escape, cut by a write, repeated, in a cluster.
var steering = []string{
	"\x1b\xc2\x9b8;1;1t", "\x1b\xc2\x9d0;title\xc2\x9c", "a\u009b31mb", "\x1b\u0085x", "\x1b[\u0090q\x1b\\", "\x1b(\u009b",
	"e\u0301\u009b", "\u009b\x1b[3b", "\x7f\x1b\x7f", "\u202egnp.exe\u202c", "a\u2028b\u2029c", "\ufeff\u2066x\u2069", "\x1b\u202ex",
	"\x1b(0\u009b\x1b(B", "\x1bN\u0080", "\x1b#\u0081",
}

// steered is the first character of a text that would steer a terminal, -1 where none.
func steered(text string) int {
	return strings.IndexFunc(text, func(r rune) bool {
		return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
	})
}

func TestNoControlIsEverInACell(t *testing.T) {
	for _, out := range steering {
		for cut := range len(out) {
			s := New(12, 2, 10)
			s.Write([]byte(out[:cut]))
			s.Write([]byte(out[cut:] + "\r\nz\r\n"))
			f := s.Frame(10, nil)
			for i := range f.Lines {
				if steered(f.Line(i)) >= 0 {
					t.Errorf("%q, cut at %d, became %q", out, cut, f.Line(i))
				}
			}
			for i := range s.Scrolled() {
				if steered(s.ScrolledLine(i)) >= 0 {
					t.Errorf("%q, cut at %d, scrolled off as %q", out, cut, s.ScrolledLine(i))
				}
			}
		}
	}
}

func FuzzWrite(f *testing.F) {
	for _, out := range steering {
		f.Add([]byte(out), uint8(20), uint8(6))
	}
	for _, steps := range stress {
		var all string
		for _, s := range steps {
			all += s.out
		}
		f.Add([]byte(all), uint8(20), uint8(6))
	}
	f.Add([]byte("\x1b[99999999999999999999A\x1b[;;;;;;r\x1b[2147483648b\x1b[4h\x1b[99@"), uint8(1), uint8(1))
	f.Fuzz(func(t *testing.T, out []byte, cols, rows uint8) {
		s := New(int(cols), int(rows), 50)
		half := len(out) / 2
		s.Write(out[:half])
		s.Resize(int(rows), int(cols))
		s.Write(out[half:])
		s.Resize(int(cols)+3, int(rows)/2)
		w, h := s.Size()
		for back := range []int{0, 1, 50} {
			fr := s.Frame(back, nil)
			if len(fr.Lines) != h || fr.X < 0 || fr.X >= w || fr.Y < 0 {
				t.Fatalf("frame %dx%d with cursor %d,%d", w, h, fr.X, fr.Y)
			}
			for i, row := range fr.Lines {
				if len(row.Cells) != w || !utf8.ValidString(fr.Line(i)) || steered(fr.Line(i)) >= 0 {
					t.Fatalf("row %d: %d cells, %q", i, len(row.Cells), fr.Line(i))
				}
			}
		}
		for i := range s.Scrolled() {
			if steered(s.ScrolledLine(i)) >= 0 {
				t.Fatalf("%q scrolled off", s.ScrolledLine(i))
			}
		}
		if steered(s.Title()) >= 0 {
			t.Fatalf("the title is %q", s.Title())
		}
		if s.Scrolled() > 50 || len(s.Replies()) > maxReplies {
			t.Fatalf("%d lines, %d bytes of answers", s.Scrolled(), len(s.Replies()))
		}
	})
}

func benchmarkWrite(b *testing.B, line string) {
	text := []byte(strings.Repeat(line, 1<<20/len(line)))
	s := New(160, 47, DefaultHistory)
	s.Write(text)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		s.Write(text)
	}
}

func BenchmarkPlainText(b *testing.B) {
	benchmarkWrite(b, "the tide comes in and the tide goes out and nobody at the bay has ever minded it\r\n")
}

func BenchmarkColourHeavy(b *testing.B) {
	benchmarkWrite(b, "\x1b[1;32mquay\x1b[0m \x1b[38;5;214m10.61.4.20\x1b[0m \x1b[48;2;10;20;30mlevel\x1b[0m 1.90 \x1b[4mm\x1b[24m\r\n")
}

func BenchmarkWideText(b *testing.B) {
	benchmarkWrite(b, "海湾潮汐观测站 e\u0301 of Lantern Bay\r\n")
}

func BenchmarkResizeFullHistory(b *testing.B) {
	s := New(160, 47, DefaultHistory)
	s.Write([]byte(strings.Repeat("the tide comes in and the tide goes out and nobody at the bay has ever minded it\r\n", DefaultHistory)))
	for i := 0; b.Loop(); i++ {
		s.Resize(60+100*(i%2), 47)
	}
}

// BenchmarkIdleMemory is what a screen with a full history of lines like those of
// a log costs while nothing happens.
func BenchmarkIdleMemory(b *testing.B) {
	line := "2026-10-15T03:00Z \x1b[32mlevel\x1b[m 3.31 m at the gauge in the reef, wind from the west, nobody about\r\n"
	const many = 20
	for b.Loop() {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		screens := make([]*Screen, many)
		for i := range screens {
			screens[i] = New(160, 47, DefaultHistory)
			screens[i].Write([]byte(strings.Repeat(line, 11_000)))
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/many/1e6, "MB/screen")
		runtime.KeepAlive(screens)
	}
}

func TestAShellTellsItsFolder(t *testing.T) {
	for text, want := range map[string]string{
		"\x1b]7;file://quay/srv/tide%20tables\x1b\\": "/srv/tide tables", "\x1b]7;file:///home/keeper\a": "/home/keeper",
		"\x1b]7;http://quay/x\a": "", "\x1b]7;file://quay\a": "", "\x1b]7;file://quay/a%0ab\a": "", "\x1b]7;file://quay/%zz\a": "",
	} {
		if got := screen(40, 2, text).Folder(); got != want {
			t.Errorf("%q: %q", text, got)
		}
	}
}

// Noncharacters of Unicode are the interface's own: a program that prints one gets the character that stands for what cannot
// be shown.
func TestANoncharacterIsShownAsWhatCannotBeShown(t *testing.T) {
	s := New(10, 2, 0)
	s.Write([]byte("a\ufdd0b\ufffe\U0001ffffc"))
	if got := strings.TrimSpace(s.Text()); got != "a\ufffdb\ufffd\ufffdc" {
		t.Errorf("%q", got)
	}
}
