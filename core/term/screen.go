package term

import (
	"meatus/core/sanitize"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/ansi/parser"
	"github.com/mattn/go-runewidth"
)

// The bounds of a screen's size, in cells.
const (
	MinCols, MaxCols = 2, 1000
	MinRows, MaxRows = 1, 500
)

// DefaultHistory is how many lines that scrolled off are kept.
const DefaultHistory = 10000

// maxReplies bounds what is held of answers nobody has taken, in bytes.
const maxReplies = 4096

// Modes are what the far side has set that changes what keys send.
type Modes struct {
	CursorKeys bool // application cursor keys, DECCKM
	Keypad     bool // application keypad, DECKPAM
	Paste      bool // bracketed paste, mode 2004
	Focus      bool // focus reports, mode 1004
	Mouse      MouseWish
	MouseSGR   bool // in the form of mode 1006
	NewLine    bool // return sends a line feed too, LNM
}

// MouseWish is which mouse events a program asked for, as the number of its mode:
// 1000 presses and releases, 1002 also drags, 1003 every motion; 0 for none.
type MouseWish uint16

// CursorShape is how the cursor looks, as DECSCUSR numbers it: 0 and 1 blinking
// block, 2 block, 3 and 4 underline, 5 and 6 bar.
type CursorShape uint8

// page is one of the two screens: the normal one with its history, or the
// alternate one of full-screen programs.
type page struct {
	lines  []*line
	cx, cy int // cx is cols where the next character wraps first
}

// cursorState is what DECSC saves.
type cursorState struct {
	cx, cy   int
	style    Style
	origin   bool
	charsets [2]byte
	shift    int
}

// Screen is the terminal's screen.
type Screen struct {
	cols, rows  int
	page        // the one that shows
	normal      page
	normalSize  [2]int // of the normal page while the alternate one shows
	alternate   bool
	spare       []*line // of the alternate page, for the next time
	history     history
	clusters    clusters
	style       Style
	saved       cursorState
	savedNormal cursorState
	top, bottom int // the scroll region, rows from 0, both inclusive
	tabs        []bool
	charsets    [2]byte // 'B' or '0'
	shift       int     // which of them is in use
	origin      bool
	wrap        bool
	insert      bool
	modes       Modes
	cursorOff   bool
	shape       CursorShape
	title       string
	folder      string
	bells       uint64
	last        rune // the last printed, for REP
	replies     []byte
	parser      *ansi.Parser
	partial     []byte // an unfinished UTF-8 sequence
}

// New returns an empty screen that keeps up to history lines that scroll off.
func New(cols, rows, history int) *Screen {
	s := &Screen{}
	s.history.limit = max(history, 0)
	s.parser = ansi.NewParser()
	s.parser.SetDataSize(4096)
	s.parser.SetHandler(ansi.Handler{
		Print:     s.print,
		Execute:   s.execute,
		HandleCsi: s.csi,
		HandleEsc: s.esc,
		HandleOsc: s.osc,
	})
	s.cols, s.rows = bound(cols, MinCols, MaxCols), bound(rows, MinRows, MaxRows)
	s.reset()
	return s
}

func bound(n, low, high int) int { return min(max(n, low), high) }

// reset is RIS: everything as at the start, but what scrolled off stays.
func (s *Screen) reset() {
	s.alternate = false
	s.page = page{}
	for range s.rows {
		s.lines = append(s.lines, newLine(s.cols))
	}
	s.style, s.saved, s.savedNormal = Style{}, cursorState{charsets: [2]byte{'B', 'B'}}, cursorState{charsets: [2]byte{'B', 'B'}}
	s.top, s.bottom = 0, s.rows-1
	s.charsets, s.shift = [2]byte{'B', 'B'}, 0
	s.origin, s.wrap, s.insert, s.cursorOff = false, true, false, false
	s.modes, s.shape, s.last = Modes{}, 0, 0
	s.resetTabs()
}

func (s *Screen) resetTabs() {
	s.tabs = make([]bool, s.cols)
	for i := 8; i < s.cols; i += 8 {
		s.tabs[i] = true
	}
}

// Size is the screen's size in cells.
func (s *Screen) Size() (cols, rows int) { return s.cols, s.rows }

// Modes tells what keys and pastes have to be encoded for.
func (s *Screen) Modes() Modes { return s.modes }

// Title is what the far side calls itself, cleaned, or "".
func (s *Screen) Title() string { return s.title }

// Folder is the folder that the shell says it is in, "" where it does not. It is a claim of the far
// side.
func (s *Screen) Folder() string { return s.folder }

// Bells counts the bells rung.
func (s *Screen) Bells() uint64 { return s.bells }

// Scrolled is how many lines are kept that scrolled off.
func (s *Screen) Scrolled() int { return s.history.count }

// Replies takes the answers to queries, which go to the far side.
func (s *Screen) Replies() []byte {
	r := s.replies
	s.replies = nil
	return r
}

func (s *Screen) reply(text string) {
	if len(s.replies)+len(text) <= maxReplies {
		s.replies = append(s.replies, text...)
	}
}

// Write takes bytes of the far side. It never fails.
func (s *Screen) Write(p []byte) (int, error) {
	taken := len(p)
	if len(s.partial) > 0 {
		p = s.complete(p)
	}
	for len(p) > 0 {
		if s.parser.State() != parser.GroundState {
			s.parser.Advance(p[0])
			p = p[1:]
			continue
		}
		switch b := p[0]; {
		case b >= 0x20 && b < 0x7f:
			p = p[s.printRun(p):]
		case b >= utf8.RuneSelf:
			if !utf8.FullRune(p) {
				s.partial = append(s.partial, p...)
				return taken, nil
			}
			r, size := utf8.DecodeRune(p)
			s.print(r) // which leaves out the 8-bit controls: they are not used in UTF-8
			p = p[size:]
		case b == 0x1b:
			s.parser.Advance(b)
			p = p[1:]
		default:
			s.execute(b)
			p = p[1:]
		}
	}
	return taken, nil
}

// complete finishes a UTF-8 sequence that began in an earlier write, and
// returns what is left of p.
func (s *Screen) complete(p []byte) []byte {
	for len(p) > 0 && !utf8.FullRune(s.partial) {
		s.partial = append(s.partial, p[0])
		p = p[1:]
	}
	if !utf8.FullRune(s.partial) {
		return nil
	}
	rest := s.partial
	s.partial = nil
	for len(rest) > 0 {
		r, size := utf8.DecodeRune(rest)
		if r == utf8.RuneError && size == 1 {
			s.print(r)
			// What broke the sequence is not part of it.
			return append(append([]byte(nil), rest[1:]...), p...)
		}
		s.print(r)
		rest = rest[size:]
	}
	return p
}

// printRun prints the plain letters at the start of p and returns how many it
// took.
func (s *Screen) printRun(p []byte) int {
	if s.insert || s.charsets[s.shift] == '0' || endsInJoiner(s.before(), &s.clusters) {
		s.print(rune(p[0]))
		return 1
	}
	if s.cx >= s.cols {
		if !s.wrap {
			s.cx = s.cols - 1
		} else {
			s.lineFeed(true)
			s.cx = 0
		}
	}
	l := s.lines[s.cy]
	room := min(s.cols-s.cx, len(p))
	l.split(s.cx)
	cells := l.cells[s.cx:]
	cell := Cell{Style: s.style}
	n := 0
	for n < room {
		b := p[n]
		if b < 0x20 || b >= 0x7f {
			break
		}
		if cells[n].Width == Lead && n+1 < len(cells) {
			cells[n+1] = blank(cells[n+1].Style)
		}
		cell.Rune = rune(b)
		cells[n] = cell
		n++
	}
	s.last = cell.Rune
	s.cx += n
	l.used = max(l.used, s.cx)
	l.dirty = true
	if !s.wrap {
		s.cx = min(s.cx, s.cols-1)
	}
	return n
}

// before is the cell left of the cursor.
func (s *Screen) before() Cell {
	if s.cx == 0 {
		return Cell{}
	}
	return s.lines[s.cy].cells[min(s.cx, s.cols)-1]
}

const joiner = '\u200d'

// endsInJoiner tells whether a character waits to be joined with the next.
func endsInJoiner(cell Cell, c *clusters) bool {
	return cell.Rune < 0 && strings.HasSuffix(c.text(cell.Rune), string(joiner))
}

var widths = runewidth.Condition{StrictEmojiNeutral: true}

// runeWidth is how many cells a character takes: 0 for one that joins the one
// before it.
func runeWidth(r rune) int {
	if r < 0x300 {
		return 1
	}
	return widths.RuneWidth(r)
}

// lineDrawing is the DEC special graphics set, from '`' on.
var lineDrawing = []rune("◆▒␉␌␍␊°±␤␋┘┐┌└┼⎺⎻─⎼⎽├┤┴┬│≤≥π≠£·")

// steers tells whether a character would do something to a terminal it is printed to, or
// to the text around it, instead of showing there: the controls of ISO 6429, C0 and C1,
// the breaks of lines and paragraphs, and the marks that turn the direction of writing.
func steers(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r == '\u061c', r == '\u200e', r == '\u200f', r == '\ufeff':
		return true
	case r >= '\u2028' && r <= '\u202e', r >= '\u2066' && r <= '\u2069', r >= '\ufff9' && r <= '\ufffb':
		return true
	}
	return false
}

// print puts one character where the cursor is. What would steer the terminal of who
// looks at it never gets into a cell, however it came.
func (s *Screen) print(r rune) {
	if steers(r) {
		return
	}
	if sanitize.Noncharacter(r) { // the interface has its own use for them
		r = utf8.RuneError
	}
	if s.charsets[s.shift] == '0' && r >= '`' && r <= '~' {
		r = lineDrawing[r-'`']
	}
	width := runeWidth(r)
	if width == 0 || endsInJoiner(s.leadBefore(), &s.clusters) {
		s.combine(r)
		return
	}
	s.last = r
	if s.cx+width > s.cols {
		if !s.wrap {
			s.cx = max(s.cols-width, 0)
		} else {
			s.lineFeed(true)
			s.cx = 0
		}
	}
	l := s.lines[s.cy]
	if s.insert {
		s.insertCells(width)
	}
	l.split(s.cx)
	l.split(s.cx + width)
	l.cells[s.cx] = Cell{Rune: r, Style: s.style}
	if width == 2 {
		l.cells[s.cx].Width = Lead
		l.cells[s.cx+1] = Cell{Style: s.style, Width: Rest}
	}
	s.cx += width
	l.used = max(l.used, s.cx)
	l.dirty = true
	if !s.wrap {
		s.cx = min(s.cx, s.cols-1)
	}
}

// leadBefore is the character left of the cursor, also where it is wide.
func (s *Screen) leadBefore() Cell {
	cell := s.before()
	if cell.Width == Rest && s.cx > 1 {
		return s.lines[s.cy].cells[min(s.cx, s.cols)-2]
	}
	return cell
}

// combine adds a mark to the character left of the cursor.
func (s *Screen) combine(mark rune) {
	at := min(s.cx, s.cols) - 1
	if at < 0 {
		return
	}
	l := s.lines[s.cy]
	if l.cells[at].Width == Rest && at > 0 {
		at--
	}
	if l.cells[at].Rune == 0 {
		return
	}
	l.cells[at].Rune = s.clusters.join(l.cells[at].Rune, mark)
	l.dirty = true
}

// lineFeed goes one line down, scrolling at the end of the region.
func (s *Screen) lineFeed(wrapped bool) {
	s.lines[s.cy].wrapped = wrapped
	switch {
	case s.cy == s.bottom:
		s.scrollUp(1)
	case s.cy < s.rows-1:
		s.cy++
	}
}

// scrollUp moves the lines of the region up by n. What leaves the top of the
// normal screen goes to the history.
func (s *Screen) scrollUp(n int) {
	n = min(n, s.bottom-s.top+1)
	for range n {
		gone := s.lines[s.top]
		if s.top == 0 && !s.alternate {
			s.keep(gone)
		}
		copy(s.lines[s.top:], s.lines[s.top+1:s.bottom+1])
		gone.reset(s.style)
		s.lines[s.bottom] = gone
	}
	s.spoil(s.top, s.bottom)
}

func (s *Screen) keep(l *line) { s.history.push(l, &s.clusters) }

// scrollDown moves the lines of the region down by n.
func (s *Screen) scrollDown(n int) {
	n = min(n, s.bottom-s.top+1)
	for range n {
		gone := s.lines[s.bottom]
		copy(s.lines[s.top+1:s.bottom+1], s.lines[s.top:s.bottom])
		gone.reset(s.style)
		s.lines[s.top] = gone
	}
	s.spoil(s.top, s.bottom)
}

// spoil marks lines as changed.
func (s *Screen) spoil(from, to int) {
	for _, l := range s.lines[from : to+1] {
		l.dirty = true
	}
}

// Resize gives the screen another size, within its bounds. Long lines wrap anew;
// what no longer fits at the top goes to the history, and comes back when there
// is room again.
func (s *Screen) Resize(cols, rows int) {
	cols, rows = bound(cols, MinCols, MaxCols), bound(rows, MinRows, MaxRows)
	if cols == s.cols && rows == s.rows {
		return
	}
	s.page = s.resized(s.page, s.cols, s.rows, cols, rows, !s.alternate)
	if cols != s.cols {
		s.cols = cols
		s.resetTabs()
	}
	if rows != s.rows {
		s.rows = rows
		s.top, s.bottom = 0, rows-1
	}
	s.spoil(0, s.rows-1)
}

// resized gives a page another size: first its height, then its width.
func (s *Screen) resized(p page, oldCols, oldRows, cols, rows int, withHistory bool) page {
	p.lines = append([]*line(nil), p.lines...)
	if rows < oldRows {
		needed := oldRows - rows
		below := min(needed, oldRows-1-p.cy) // lines below the cursor go first
		p.lines = p.lines[:len(p.lines)-below]
		for range needed - below {
			if withHistory {
				s.keep(p.lines[0])
			}
			p.lines = p.lines[1:]
			p.cy--
		}
	}
	for len(p.lines) < rows && withHistory && min(s.history.fresh, s.history.count) > 0 {
		p.lines = append([]*line{s.history.pop(oldCols, &s.clusters)}, p.lines...)
		p.cy++
	}
	for len(p.lines) < rows {
		p.lines = append(p.lines, newLine(oldCols))
	}
	p.cy = bound(p.cy, 0, rows-1)
	if cols == oldCols {
		return p
	}
	if withHistory {
		p.lines, p.cx, p.cy = s.history.rewrap(p.lines, cols, rows, p.cx, p.cy, &s.clusters)
		if p.cy < 0 {
			p.cx, p.cy = 0, 0
		}
		p.cx = min(p.cx, cols)
		return p
	}
	for i, l := range p.lines {
		cut := newLine(cols)
		copy(cut.cells, l.cells)
		cut.used = min(l.used, cols)
		if cols < len(l.cells) && l.cells[cols].Width == Rest {
			cut.cells[cols-1] = Cell{}
		}
		p.lines[i] = cut
	}
	p.cx = min(p.cx, cols-1)
	return p
}

// showAlternate shows the screen of full-screen programs, empty.
func (s *Screen) showAlternate() {
	if s.alternate {
		return
	}
	s.normal, s.normalSize = s.page, [2]int{s.cols, s.rows}
	s.alternate = true
	lines := s.spare
	if len(lines) != s.rows || len(lines[0].cells) != s.cols {
		lines = make([]*line, s.rows)
		for i := range lines {
			lines[i] = newLine(s.cols)
		}
	}
	for _, l := range lines {
		l.reset(s.style)
	}
	s.page = page{lines, s.cx, s.cy}
}

// showNormal shows the normal screen again, at the size of now. With restore the
// cursor goes back to where it was, else it stays.
func (s *Screen) showNormal(restore bool) {
	if !s.alternate {
		return
	}
	cx, cy := s.cx, s.cy
	s.alternate = false
	size := s.normalSize
	s.spare = s.lines
	s.page = s.normal
	s.normal = page{}
	if restore {
		s.cx, s.cy = min(s.savedNormal.cx, size[0]-1), min(s.savedNormal.cy, size[1]-1)
	}
	if size != [2]int{s.cols, s.rows} {
		s.page = s.resized(s.page, size[0], size[1], s.cols, s.rows, true)
	}
	if !restore {
		s.cx, s.cy = min(cx, s.cols-1), min(cy, s.rows-1)
	}
	s.top, s.bottom = 0, s.rows-1
	s.spoil(0, s.rows-1)
}
