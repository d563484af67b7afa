// Package fit makes text fit a width: it cuts, pads, spreads and wraps, counting
// columns as a terminal does and leaving styles whole.
package fit

import (
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Cut shortens s to width columns, with "…" where something is missing.
func Cut(s string, width int) string {
	if width <= 0 {
		return ""
	}
	return ansi.Truncate(s, width, "…")
}

// Pad makes s exactly width columns wide.
func Pad(s string, width int) string {
	s = Cut(s, width)
	return s + strings.Repeat(" ", max(width-ansi.StringWidth(s), 0))
}

// Spread puts left and right at the ends of a line of width columns, with fill
// between them. The left gives way first.
func Spread(left, right string, width int, fill string) string {
	room := width - ansi.StringWidth(right)
	if room < 4 {
		return Pad(left, width)
	}
	left = Cut(left, room)
	return left + strings.Repeat(fill, max(room-ansi.StringWidth(left), 0)) + right
}

// Width is how many columns s takes.
func Width(s string) int { return ansi.StringWidth(s) }

// Wrap breaks s into lines of at most width columns, at blanks where it can.
func Wrap(s string, width int) []string {
	s = strings.ReplaceAll(s, "-", hyphen) // names are not broken at theirs
	lines := strings.Split(strings.ReplaceAll(ansi.Wrap(s, max(width, 1), ""), hyphen, "-"), "\n")
	open := ""
	for i, l := range lines {
		lines[i] = closed(open + l)
		open = openAfter(open + l)
	}
	return lines
}

// styles are the sequences that set a style, or end all.
var styles = regexp.MustCompile("\x1b\\[[0-9;:]*m")

// openAfter is what sets the styles that are still on at the end of a line.
func openAfter(line string) string {
	open := ""
	for _, s := range styles.FindAllString(line, -1) {
		if s == "\x1b[m" || s == "\x1b[0m" {
			open = ""
		} else {
			open += s
		}
	}
	return open
}

// closed ends the styles that a line leaves on.
func closed(line string) string {
	if openAfter(line) == "" {
		return line
	}
	return line + "\x1b[m"
}

// hyphen is one that no line is broken at.
const hyphen = "\u2011"

// Row is a row of a list: one line, cut where it is too long, and the lines that it takes when
// nothing of it is cut.
type Row struct {
	Line  string
	Whole []string
}

// Hang makes a row of a line: what does not fit goes on in further lines from a column on.
func Hang(line string, column, width int) Row {
	r := Row{Line: Cut(line, width), Whole: []string{line}}
	if Width(line) <= width || column >= width {
		r.Whole = []string{r.Line}
		return r
	}
	for i, part := range Wrap(ansi.Cut(line, column, Width(line)), width-column) {
		if i == 0 {
			r.Whole[0] = closed(ansi.Cut(line, 0, column)) + part
		} else {
			r.Whole = append(r.Whole, strings.Repeat(" ", column)+part)
		}
	}
	return r
}

// Columns makes a row of a head and two columns, the left one of so many columns with one blank
// after it: what does not fit goes on in its own column.
func Columns(head, left string, room int, right string, width int) Row {
	r := Row{Line: Cut(head+Pad(left, room)+" "+right, width)}
	lefts, rights := Wrap(left, room), Wrap(right, max(width-Width(head)-room-1, 10))
	for n := range max(len(lefts), len(rights)) {
		a, b := "", ""
		if n < len(lefts) {
			a = lefts[n]
		}
		if n < len(rights) {
			b = rights[n]
		}
		r.Whole = append(r.Whole, head+Pad(a, room)+" "+b)
		head = strings.Repeat(" ", Width(head))
	}
	return r
}

// Rows lays rows one below the other. Where there are lines to spare, the row at is whole first,
// then the others from the top; what has no room is cut. Of each line it tells whose it is.
func Rows(rows []Row, at, height int) (lines []string, of []int) {
	spare, whole := height-len(rows), make([]bool, len(rows))
	unfold := func(i int) {
		if more := len(rows[i].Whole) - 1; more > 0 && more <= spare && !whole[i] {
			whole[i], spare = true, spare-more
		}
	}
	if at >= 0 && at < len(rows) {
		unfold(at)
	}
	for i := range rows {
		unfold(i)
	}
	for i, r := range rows {
		part := []string{r.Line}
		if whole[i] {
			part = r.Whole
		}
		for _, l := range part {
			lines, of = append(lines, l), append(of, i)
		}
	}
	return lines, of
}

// Tame returns a line with what shows and what colours it (SGR, ECMA-48 section 8.3.117), and U+FFFD in place of any
// other control character. What comes from elsewhere is made safe where it comes in; this holds for
// what was forgotten there, too.
func Tame(line string) string {
	at := wild(line, 0)
	if at < 0 {
		return line
	}
	var b strings.Builder
	from := 0
	for at >= 0 {
		b.WriteString(line[from:at])
		b.WriteRune(utf8.RuneError)
		_, size := utf8.DecodeRuneInString(line[at:])
		from = at + size
		at = wild(line, from)
	}
	b.WriteString(line[from:])
	return b.String()
}

// wild is where in a line, from a place on, the first control character stands that begins no SGR sequence; -1 for
// none.
func wild(line string, from int) int {
	for i := from; i < len(line); i++ {
		switch c := line[i]; {
		case c == ansi.ESC:
			end := colours(line, i)
			if end == 0 {
				return i
			}
			i = end
		case c < ' ' || c == 0x7f:
			return i
		case c == 0xc2 && i+1 < len(line) && 0x80 <= line[i+1] && line[i+1] < 0xa0: // U+0080 to U+009F, which some terminals obey
			return i
		}
	}
	return -1
}

// colours is where the SGR sequence at a place ends, 0 where there is none.
func colours(line string, at int) int {
	if at+1 >= len(line) || line[at+1] != '[' {
		return 0
	}
	for i := at + 2; i < len(line); i++ {
		switch c := line[i]; {
		case c == 'm':
			return i
		case (c < '0' || c > '9') && c != ';' && c != ':':
			return 0
		}
	}
	return 0
}

// Block makes lines exactly height of width columns.
func Block(lines []string, width, height int) string {
	out := make([]string, height)
	for i := range out {
		if i < len(lines) {
			out[i] = Pad(Tame(lines[i]), width)
		} else {
			out[i] = strings.Repeat(" ", max(width, 0))
		}
	}
	return strings.Join(out, "\n")
}

// Beside puts two blocks of lines side by side, the right one from a column on.
func Beside(left, right []string, column int) []string {
	var lines []string
	for i := range max(len(left), len(right)) {
		a, b := "", ""
		if i < len(left) {
			a = left[i]
		}
		if i < len(right) {
			b = right[i]
		}
		lines = append(lines, Pad(a, column)+" "+b)
	}
	return lines
}

// Ago says a time span as a person would: "41 s", "3 min", "2 h", "5 d".
func Ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours())/24)
}

// RoundTrip says a round trip: "0.4 ms", "18 ms", "1.2 s", or "" for 0.
func RoundTrip(d time.Duration) string {
	ms := float64(d) / float64(time.Millisecond)
	switch {
	case d == 0:
		return ""
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

var bars = []rune("▁▂▃▄▅▆▇█")

// Spark draws values as bars, the largest of them full height.
func Spark(values []float64) string {
	top := 0.0
	for _, v := range values {
		top = max(top, v)
	}
	var b strings.Builder
	for _, v := range values {
		i := 0
		if top > 0 {
			i = int(v / top * float64(len(bars)-1))
		}
		b.WriteRune(bars[i])
	}
	return b.String()
}
