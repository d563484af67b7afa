package term

import (
	"strings"
)

// Frame is what a screen shows at a moment. It does not change, and can be read
// by any goroutine.
type Frame struct {
	Cols, Rows int
	Lines      []*Row // Rows of them
	X, Y       int    // the cursor
	CursorOn   bool
	Shape      CursorShape
	Title      string
	Folder     string // that the shell says it is in, "" where it does not
	Bells      uint64
	Modes      Modes
	Alternate  bool // a full-screen program shows
	Back       int  // how many lines above the screen the view begins
	Scrolled   int  // how many lines there are above
	First      int  // the number of the frame's first row, as [Point] counts rows
	clusters   []string
}

// Row is one line of a frame. Two frames share a row that did not change.
type Row struct {
	Cells []Cell
}

// Text is what a cell of the frame shows, " " for a blank one and "" for the
// right half of a wide character.
func (f *Frame) Text(c Cell) string {
	if c.Width == Rest {
		return ""
	}
	k := clusters{list: f.clusters}
	return k.text(c.Rune)
}

// Line is the text of row i without the blanks at its end.
func (f *Frame) Line(i int) string {
	var b strings.Builder
	for _, c := range f.Lines[i].Cells {
		b.WriteString(f.Text(c))
	}
	return strings.TrimRight(b.String(), " ")
}

// Frame takes a frame of the screen. back is how many lines above the screen the
// view begins, 0 for the screen itself. Rows that did not change since the frame
// before, which may be nil, are shared with it.
func (s *Screen) Frame(back int, before *Frame) *Frame {
	back = bound(back, 0, s.history.count)
	if s.alternate {
		back = 0
	}
	f := &Frame{
		Cols: s.cols, Rows: s.rows, X: min(s.cx, s.cols-1), Y: s.cy + back, CursorOn: !s.cursorOff && s.cy+back < s.rows,
		Shape: s.shape, Title: s.title, Folder: s.folder, Bells: s.bells, Modes: s.modes, Alternate: s.alternate, Back: back, Scrolled: s.history.count,
		First:    s.history.dropped + s.history.count - back,
		clusters: s.clusters.list, Lines: make([]*Row, s.rows),
	}
	share := before != nil && before.Cols == s.cols && before.Rows == s.rows && before.Back == 0 && back == 0 && before.Alternate == s.alternate
	for i := range f.Lines {
		if at := i - back; at < 0 {
			l := s.history.at(s.history.count+at).unpack(s.cols, &s.clusters)
			f.Lines[i] = &Row{l.cells[:s.cols]}
			f.clusters = s.clusters.list
			continue
		}
		l := s.lines[i-back]
		if share && !l.dirty {
			f.Lines[i] = before.Lines[i]
			continue
		}
		f.Lines[i] = &Row{append([]Cell(nil), l.cells...)}
		l.dirty = back > 0
	}
	return f
}

// Text is the screen's text, a line for each row, without blanks at their ends.
func (s *Screen) Text() string {
	f := s.Frame(0, nil)
	lines := make([]string, f.Rows)
	for i := range lines {
		lines[i] = f.Line(i)
	}
	return strings.Join(lines, "\n")
}

// ScrolledLine is the text of a line that scrolled off, 0 being the oldest.
func (s *Screen) ScrolledLine(i int) string {
	return strings.TrimRight(string(s.history.at(i).text), " ")
}
