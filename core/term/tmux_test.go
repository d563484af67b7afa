package term

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	xterm "golang.org/x/term"
)

// feedSocket names the socket of the feeder in the environment.
const feedSocket = "MEATUS_TERM_FEED"

// TestMain makes the test binary serve as the program inside the other terminal:
// it writes what it is sent there, and says when the terminal has taken it in.
func TestMain(m *testing.M) {
	if path := os.Getenv(feedSocket); path != "" {
		if err := feed(path); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

func feed(path string) error {
	if _, err := xterm.MakeRaw(0); err != nil {
		return err
	}
	conn, err := net.Dial("unix", path)
	if err != nil {
		return err
	}
	in, typed := bufio.NewReader(conn), bufio.NewReader(os.Stdin)
	for {
		var size uint32
		if err := binary.Read(in, binary.BigEndian, &size); err != nil {
			return nil
		}
		chunk := make([]byte, size)
		if _, err := io.ReadFull(in, chunk); err != nil {
			return err
		}
		// The answer to a status report comes after all before it was taken in.
		if _, err := os.Stdout.Write(append(chunk, "\x1b[5n"...)); err != nil {
			return err
		}
		for got := ""; !strings.HasSuffix(got, "\x1b[0n"); {
			b, err := typed.ReadByte()
			if err != nil {
				return err
			}
			got += string(b)
		}
		if _, err := conn.Write([]byte{1}); err != nil {
			return err
		}
	}
}

// peer is another terminal, tmux, that takes the same bytes.
type peer struct {
	t    *testing.T
	name string
	conn net.Conn
}

func newPeer(t *testing.T, cols, rows int) *peer {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("tmux is needed; scripts/test installs it")
		}
		t.Skip("tmux is not installed")
	}
	dir := t.TempDir()
	socket := filepath.Join(dir, "feed")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	p := &peer{t: t, name: filepath.Join(dir, "tmux")}
	p.do("-f", os.DevNull, "new-session", "-d", "-x", strconv.Itoa(cols), "-y", strconv.Itoa(rows),
		fmt.Sprintf("exec env %s=%s %s", feedSocket, socket, self))
	t.Cleanup(func() { exec.Command("tmux", "-S", p.name, "kill-server").Run() })
	p.do("set", "-g", "status", "off")
	p.do("set", "-g", "window-size", "manual")
	p.resize(cols, rows)
	if p.conn, err = listener.Accept(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.conn.Close() })
	return p
}

func (p *peer) do(args ...string) string {
	p.t.Helper()
	cmd := exec.Command("tmux", append([]string{"-S", p.name, "-u"}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := cmd.CombinedOutput()
	if err != nil {
		p.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (p *peer) resize(cols, rows int) {
	p.do("resize-window", "-x", strconv.Itoa(cols), "-y", strconv.Itoa(rows))
}

func (p *peer) write(chunk []byte) {
	p.t.Helper()
	var size [4]byte
	binary.BigEndian.PutUint32(size[:], uint32(len(chunk)))
	p.conn.Write(size[:])
	p.conn.Write(chunk)
	if _, err := io.ReadFull(p.conn, size[:1]); err != nil {
		p.t.Fatalf("the other terminal went away: %v", err)
	}
}

var styling = regexp.MustCompile(`\x1b(\[[0-9;:]*m|\]8;[^\x1b]*\x1b\\)`)

// text is the screen as the other terminal shows it, line drawing as it looks.
func (p *peer) text(rows int) string {
	raw := styling.ReplaceAllString(p.do("capture-pane", "-p", "-e"), "")
	lines := strings.Split(raw, "\n")[:rows]
	drawing := false
	for i, l := range lines {
		lines[i] = strings.TrimRight(strings.Map(func(r rune) rune {
			switch {
			case r == 0x0e:
				drawing = true
				return -1
			case r == 0x0f:
				drawing = false
				return -1
			case drawing && r >= '`' && r <= '~':
				return lineDrawing[r-'`']
			}
			return r
		}, l), " ")
	}
	return strings.Join(lines, "\n")
}

// cursor is column and row; behind the last column it counts as on it.
func (p *peer) cursor(cols int) string {
	var x, y int
	fmt.Sscanf(p.do("display-message", "-p", "#{cursor_x} #{cursor_y}"), "%d %d", &x, &y)
	return fmt.Sprintf("%d,%d", min(x, cols-1), y)
}

// compare feeds both terminals and reports where their screens differ.
func compare(t *testing.T, p *peer, s *Screen, what string) bool {
	t.Helper()
	_, rows := s.Size()
	want, got := p.text(rows), s.Text()
	if got == want {
		return true
	}
	var diff strings.Builder
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range w {
		if w[i] != g[i] {
			fmt.Fprintf(&diff, "row %d\n  tmux %q\n  ours %q\n", i, w[i], g[i])
		}
	}
	t.Errorf("%s: the screens differ:\n%s", what, diff.String())
	return false
}

// step is some output, or a change of size.
type step struct {
	out        string
	cols, rows int
}

func play(t *testing.T, name string, cols, rows int, steps []step) {
	t.Run(fmt.Sprintf("%s %dx%d", name, cols, rows), func(t *testing.T) {
		t.Parallel()
		p, s := newPeer(t, cols, rows), New(cols, rows, 2000)
		for i, st := range steps {
			if st.cols > 0 {
				p.resize(st.cols, st.rows)
				s.Resize(st.cols, st.rows)
			}
			if st.out != "" {
				p.write([]byte(st.out))
				s.Write([]byte(st.out))
			}
			if !compare(t, p, s, fmt.Sprintf("after step %d (%.60q, size %d %d)", i, st.out, st.cols, st.rows)) {
				return
			}
			f := s.Frame(0, nil)
			if ours := fmt.Sprintf("%d,%d", f.X, f.Y); ours != p.cursor(f.Cols) {
				t.Errorf("after step %d (%.60q): cursor %s, tmux has %s", i, st.out, ours, p.cursor(f.Cols))
				return
			}
		}
	})
}

// TestRecordedProgramsLookTheSame plays what an editor, a pager, a monitor and
// tput wrote (scripts/record-terminal) to both terminals, whole and with the
// window changing in the middle.
func TestRecordedProgramsLookTheSame(t *testing.T) {
	files, err := filepath.Glob("testdata/*.rec")
	if err != nil || len(files) < 12 {
		t.Fatalf("%d recordings, %v", len(files), err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var name string
		var cols, rows int
		base := strings.ReplaceAll(strings.TrimSuffix(filepath.Base(file), ".rec"), ".", " ")
		if _, err := fmt.Sscanf(base, "%s %dx%d", &name, &cols, &rows); err != nil {
			t.Fatal(err)
		}
		var steps, resized []step
		parts := chunks(text, 6)
		for i, part := range parts {
			steps = append(steps, step{out: string(part)})
			resized = append(resized, step{out: string(part)})
			switch i {
			case 1:
				resized = append(resized, step{cols: cols - 13, rows: rows - 3})
			case 3:
				second := secondSize[name]
				resized = append(resized, step{cols: cols + second[0], rows: rows + second[1]})
			}
		}
		play(t, name, cols, rows, steps)
		play(t, name+" resized", cols, rows, resized)
	}
}

// secondSize is what is added to a recording's size the second time. It keeps
// out of the way of three things in which this tmux and we differ on purpose: it
// keeps a line marked as going on after a line feed on it, it takes lines that
// left a region in the middle of the screen for scrolled off, and it mixes both
// screens up where the window grew while the alternate one showed.
var secondSize = map[string][2]int{"editor": {0, 0}, "pager": {0, 0}, "monitor": {-13, -3}, "pattern": {-13, -3}}

// chunks cuts a recording into n parts, each ending before an escape sequence.
func chunks(text []byte, n int) [][]byte {
	var parts [][]byte
	for ; n > 1; n-- {
		at := len(text) / n
		next := bytes.IndexByte(text[at:], 0x1b)
		if next < 0 {
			break
		}
		parts, text = append(parts, text[:at+next]), text[at+next:]
	}
	return append(parts, text)
}

// stress are cases of our own, each a sequence of steps at 20 by 6.
var stress = map[string][]step{
	"wrapping":        {{out: "0123456789012345678901234567890123456789x\r\nshort"}, {out: "\x1b[?7l\x1b[3;1Hthis is cut at the right margin\x1b[?7h"}},
	"pending wrap":    {{out: "\x1b[2J\x1b[H01234567890123456789"}, {out: "\x1b[K"}, {out: "x"}, {out: "\r\ny"}},
	"erase":           {{out: "aaaaaaaaaaaaaaa\r\nbbbbbbbbbbbbbbb\r\nccccccccccccccc\x1b[2;8H\x1b[1K"}, {out: "\x1b[3;5H\x1b[K\x1b[1;3H\x1b[4X"}, {out: "\x1b[2;3H\x1b[1J"}, {out: "\x1b[2;3H\x1b[J"}},
	"characters":      {{out: "abcdefghijklmnop\x1b[5G\x1b[3@XYZ"}, {out: "\x1b[2G\x1b[4P"}, {out: "\x1b[4hins\x1b[4l"}, {out: "\x1b[1G\x1b[40P\x1b[40@"}},
	"lines":           {{out: "1\r\n2\r\n3\r\n4\r\n5\r\n6"}, {out: "\x1b[2;1H\x1b[2L"}, {out: "\x1b[3;1H\x1b[M"}, {out: "\x1b[99L"}, {out: "\x1b[99M"}},
	"regions":         {{out: "1\r\n2\r\n3\r\n4\r\n5\r\n6\x1b[2;4r\x1b[4;1H\r\nin\r\nregion"}, {out: "\x1b[2;1H\x1bM\x1bMup"}, {out: "\x1b[2S\x1b[T"}, {out: "\x1b[r\x1b[6;1H\r\nall"}, {out: "\x1b[5;2r\x1b[1;1Hx"}},
	"origin":          {{out: "\x1b[2;5r\x1b[?6h\x1b[1;1Htop\x1b[99;1Hbottom"}, {out: "\x1b[2;3Hx\x1b[?6l\x1b[1;1Hhome"}},
	"tabs":            {{out: "\ta\tb\r\n\x1b[3g\x1b[5G\x1bH\x1b[12G\x1bH\r\tx\ty"}, {out: "\x1b[Z\x1b[Zz"}, {out: "\x1b[g\r\tq"}},
	"charsets":        {{out: "\x1b(0lqqk\r\nx  x\r\nmqqj\x1b(B ok"}, {out: "\x1b)0\x0eaffgh\x0f plain"}},
	"wide":            {{out: "海湾潮海湾潮海湾潮海x潮"}, {out: "\x1b[1;4Hx\x1b[1;8Hy"}, {out: "\x1b[1;3H\x1b[P"}, {out: "\x1b[1;4H\x1b[@"}, {out: "\x1b[2;1H\x1b[1X"}},
	"marks":           {{out: "e\u0301o\u0308 n\u0303\r\n\u0301x"}},
	"alternate":       {{out: "before\r\nthe\r\nprogram"}, {out: "\x1b[?1049h\x1b[H\x1b[2Jinside"}, {out: "\x1b[?1049l after"}, {out: "\x1b[?1049h\x1b[Hx"}, {cols: 30, rows: 8}, {out: "\x1b[?1049l"}},
	"save":            {{out: "ab\x1b7\x1b[4;10Hcd\x1b8ef"}, {out: "\x1b[s\x1b[1;1HX\x1b[uY"}},
	"repeat":          {{out: "x\x1b[5b\r\ny\x1b[9b"}},
	"align":           {{out: "\x1b#8"}, {out: "\x1b[3;3H \x1b[2K"}},
	"back and tab":    {{out: "abc\b\bX\r\n\b\b\bq\r\n\x0b\x0cz"}},
	"relative":        {{out: "\x1b[3;3Ha\x1b[2Ab\x1b[3Bc\x1b[5Dd\x1b[4Ce\x1b[Ef\x1b[2Fg\x1b[9Gh\x1b[5di"}, {out: "\x1b[99A\x1b[99Dtl\x1b[99B\x1b[99Cr"}},
	"full reset":      {{out: "text\x1b[2;3r\x1b[7m\x1bc\x1b[6;1Hnew\r\nline"}},
	"odd":             {{out: "a\x1b[b\x1b[;5Hb\x1b[0;0Hc\x1b[1;2;3;4;5;6mX\x1b[38;5;300mY\x1b[38;2mZ"}, {out: "\x1b]0;title\x07\x1b]52;c;QQ==\x07\x1bPq#0\x1b\\\x1b_x\x1b\\ok"}},
	"rewrap narrower": {{out: "one long line that wraps over rows\r\nshort\r\nanother line\r\n$ "}, {cols: 12, rows: 6}, {out: "typed"}, {cols: 33, rows: 6}, {out: "!"}},
	"rewrap history":  {{out: strings.Repeat("a line of the tide table, number n\r\n", 9) + "$ "}, {cols: 33, rows: 6}, {cols: 9, rows: 6}, {cols: 20, rows: 10}, {out: "x"}},
	"rewrap wide":     {{out: "x海湾潮海湾潮海湾潮海湾潮海湾潮\r\n$"}, {cols: 11, rows: 6}, {cols: 8, rows: 6}, {cols: 20, rows: 6}},
	"height":          {{out: "1\r\n2\r\n3\r\n4\r\n5\r\n6\r\n7\r\n8"}, {cols: 20, rows: 3}, {cols: 20, rows: 8}, {out: "\x1b[2;1H"}, {cols: 20, rows: 4}, {cols: 20, rows: 6}},
	"cleared":         {{out: "1\r\n2\r\n3\x1b[H\x1b[2J"}, {cols: 20, rows: 9}, {out: "new"}},
}

func TestStressCasesLookTheSame(t *testing.T) {
	for name, steps := range stress {
		play(t, name, 20, 6, steps)
	}
}
