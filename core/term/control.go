package term

import (
	"net/url"
	"strings"

	"fmt"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/sanitize"
)

// execute does what a control character says (ECMA-48 section 5.2).
func (s *Screen) execute(b byte) {
	switch b {
	case 0x07:
		s.bells++
	case '\b':
		s.cx = max(min(s.cx, s.cols-1)-1, 0)
	case '\t':
		s.tab(1)
	case '\n', 0x0b, 0x0c:
		s.lineFeed(false)
		if s.modes.NewLine {
			s.cx = 0
		}
	case '\r':
		s.cx = 0
	case 0x0e:
		s.shift = 1
	case 0x0f:
		s.shift = 0
	}
}

// tab goes n tab stops on.
func (s *Screen) tab(n int) {
	for ; n > 0 && s.cx < s.cols-1; n-- {
		for s.cx++; s.cx < s.cols-1 && !s.tabs[s.cx]; s.cx++ {
		}
	}
}

// backTab goes n tab stops back.
func (s *Screen) backTab(n int) {
	s.cx = min(s.cx, s.cols-1)
	for ; n > 0 && s.cx > 0; n-- {
		for s.cx--; s.cx > 0 && !s.tabs[s.cx]; s.cx-- {
		}
	}
}

// esc does what an escape sequence without parameters says.
func (s *Screen) esc(cmd ansi.Cmd) {
	switch cmd.Intermediate() {
	case '(', ')':
		set := byte('B')
		if cmd.Final() == '0' {
			set = '0'
		}
		s.charsets[cmd.Intermediate()-'('] = set
		return
	case '#':
		if cmd.Final() == '8' {
			s.fillWithE()
		}
		return
	case 0:
	default:
		return
	}
	switch cmd.Final() {
	case '7':
		s.save()
	case '8':
		s.restore()
	case 'D':
		s.lineFeed(false)
	case 'E':
		s.lineFeed(false)
		s.cx = 0
	case 'H':
		s.tabs[min(s.cx, s.cols-1)] = true
	case 'M':
		if s.cy == s.top {
			s.scrollDown(1)
		} else {
			s.cy = max(s.cy-1, 0)
		}
	case '=':
		s.modes.Keypad = true
	case '>':
		s.modes.Keypad = false
	case 'c':
		s.reset()
		s.spoil(0, s.rows-1)
	}
}

// fillWithE is DECALN, the picture to align a tube by.
func (s *Screen) fillWithE() {
	for _, l := range s.lines {
		l.reset(Style{})
		for i := range l.cells {
			l.cells[i].Rune = 'E'
		}
		l.used = s.cols
	}
	s.top, s.bottom = 0, s.rows-1
	s.cx, s.cy = 0, 0
}

func (s *Screen) save() {
	s.saved = cursorState{s.cx, s.cy, s.style, s.origin, s.charsets, s.shift}
}

func (s *Screen) restore() {
	c := s.saved
	s.cx, s.cy = min(c.cx, s.cols-1), min(c.cy, s.rows-1)
	s.style, s.origin, s.charsets, s.shift = c.style, c.origin, c.charsets, c.shift
}

// number returns parameter i, def where it is missing, at most 32767.
func number(params ansi.Params, i, def int) int {
	n, _, _ := params.Param(i, def)
	return bound(n, 0, 1<<15-1)
}

// count is a parameter that says how often: 0 means once.
func count(params ansi.Params) int { return max(number(params, 0, 1), 1) }

// csi does what a control sequence says (ECMA-48 section 8.3).
func (s *Screen) csi(cmd ansi.Cmd, params ansi.Params) {
	switch cmd.Prefix() {
	case '?':
		s.private(cmd, params)
		return
	case '>':
		if cmd.Final() == 'c' && cmd.Intermediate() == 0 && number(params, 0, 0) == 0 {
			s.reply("\x1b[>1;10;0c")
		}
		return
	case 0:
	default:
		return
	}
	switch cmd.Intermediate() {
	case ' ':
		if cmd.Final() == 'q' {
			s.shape = CursorShape(bound(number(params, 0, 0), 0, 6))
		}
		return
	case '!':
		if cmd.Final() == 'p' {
			s.softReset()
		}
		return
	case 0:
	default:
		return
	}
	if s.move(cmd.Final(), params) || s.edit(cmd.Final(), params) {
		return
	}
	switch cmd.Final() {
	case 'b':
		if s.last != 0 {
			for range min(count(params), 4*s.cols) { // more would be a way to keep us busy
				s.print(s.last)
			}
		}
	case 'c':
		if number(params, 0, 0) == 0 {
			s.reply("\x1b[?62;22c")
		}
	case 'g':
		switch number(params, 0, 0) {
		case 0:
			s.tabs[min(s.cx, s.cols-1)] = false
		case 3:
			clear(s.tabs)
		}
	case 'h', 'l':
		s.ansiMode(params, cmd.Final() == 'h')
	case 'm':
		s.sgr(params)
	case 'n':
		s.status(number(params, 0, 0), "")
	case 'r':
		s.region(number(params, 0, 1), number(params, 1, s.rows))
	case 's':
		s.save()
	case 'u':
		s.restore()
	}
}

// move does the sequences that move the cursor.
func (s *Screen) move(final byte, params ansi.Params) bool {
	n := count(params)
	switch final {
	case 'A', 'F':
		limit := 0
		if s.cy >= s.top {
			limit = s.top
		}
		s.cy = max(s.cy-n, limit)
	case 'B', 'E', 'e':
		limit := s.rows - 1
		if s.cy <= s.bottom {
			limit = s.bottom
		}
		s.cy = min(s.cy+n, limit)
	case 'C', 'a':
		s.cx = min(min(s.cx, s.cols-1)+n, s.cols-1)
	case 'D':
		s.cx = max(min(s.cx, s.cols-1)-n, 0)
	case 'G', '`':
		s.cx = min(n-1, s.cols-1)
	case 'H', 'f':
		s.moveTo(max(number(params, 1, 1), 1)-1, n-1)
		return true
	case 'd':
		s.moveTo(s.cx, n-1)
		return true
	case 'I':
		s.tab(min(n, s.cols))
	case 'Z':
		s.backTab(min(n, s.cols))
	default:
		return false
	}
	switch final {
	case 'E', 'F':
		s.cx = 0
	case 'A', 'B', 'e':
		s.cx = min(s.cx, s.cols-1)
	}
	return true
}

// moveTo puts the cursor at a column and row, from the region's top in origin
// mode.
func (s *Screen) moveTo(x, y int) {
	low, high := 0, s.rows-1
	if s.origin {
		low, high = s.top, s.bottom
	}
	s.cx, s.cy = bound(x, 0, s.cols-1), bound(low+y, low, high)
}

// edit does the sequences that erase, insert, delete and scroll.
func (s *Screen) edit(final byte, params ansi.Params) bool {
	n := count(params)
	switch final {
	case '@':
		s.insertCells(n)
	case 'J':
		s.eraseScreen(number(params, 0, 0))
	case 'K':
		s.eraseLine(number(params, 0, 0))
	case 'L', 'M':
		if s.cy < s.top || s.cy > s.bottom {
			return true
		}
		top, alternate := s.top, s.alternate
		s.top, s.alternate = s.cy, true // nothing of this goes to the history
		if final == 'L' {
			s.scrollDown(n)
		} else {
			s.scrollUp(n)
		}
		s.top, s.alternate = top, alternate
	case 'P':
		s.deleteCells(n)
	case 'S':
		s.scrollUp(n)
	case 'T':
		if len(params) <= 1 {
			s.scrollDown(n)
		}
	case 'X':
		x := min(s.cx, s.cols-1)
		s.lines[s.cy].clear(x, min(x+n, s.cols), s.style)
	default:
		return false
	}
	return true
}

func (s *Screen) insertCells(n int) {
	l, x := s.lines[s.cy], min(s.cx, s.cols-1)
	n = min(n, s.cols-x)
	l.split(x)
	l.split(s.cols - n)
	copy(l.cells[x+n:], l.cells[x:s.cols-n])
	l.used = min(max(l.used, x)+n, s.cols)
	b := blank(s.style)
	for i := x; i < x+n; i++ {
		l.cells[i] = b
	}
	l.dirty = true
}

func (s *Screen) deleteCells(n int) {
	l, x := s.lines[s.cy], min(s.cx, s.cols-1)
	n = min(n, s.cols-x)
	l.split(x)
	l.split(x + n)
	copy(l.cells[x:], l.cells[x+n:])
	b := blank(s.style)
	for i := s.cols - n; i < s.cols; i++ {
		l.cells[i] = b
	}
	l.dirty = true
}

func (s *Screen) eraseLine(what int) {
	l := s.lines[s.cy]
	switch what {
	case 0:
		if s.cx < s.cols {
			l.clear(s.cx, s.cols, s.style)
		}
	case 1:
		l.clear(0, min(s.cx, s.cols-1)+1, s.style)
	case 2:
		l.clear(0, s.cols, s.style)
	}
}

func (s *Screen) eraseScreen(what int) {
	switch what {
	case 0:
		if s.cx == 0 && s.cy == 0 {
			s.eraseAll()
			return
		}
		s.eraseLine(0)
		for _, l := range s.lines[s.cy+1:] {
			l.reset(s.style)
		}
	case 1:
		for _, l := range s.lines[:s.cy] {
			l.reset(s.style)
		}
		s.eraseLine(1)
	case 2:
		s.eraseAll()
	case 3:
		s.history.clear()
	}
}

// eraseAll empties the screen. What stood on the normal one is kept as if it had
// scrolled off.
func (s *Screen) eraseAll() {
	last := len(s.lines)
	for last > 0 && s.lines[last-1].used == 0 {
		last--
	}
	for _, l := range s.lines[:last] {
		if !s.alternate {
			s.keep(l)
		}
	}
	for _, l := range s.lines {
		l.reset(s.style)
	}
	if !s.alternate {
		s.history.fresh = 0
	}
}

// region sets the scroll region, rows from 1.
func (s *Screen) region(top, bottom int) {
	top, bottom = max(top, 1)-1, min(bottom, s.rows)-1
	if bottom < 0 {
		bottom = s.rows - 1
	}
	if top >= bottom {
		return
	}
	s.top, s.bottom = top, bottom
	s.moveTo(0, 0)
}

// status answers a device status report; mark stands before private answers.
func (s *Screen) status(what int, mark string) {
	switch {
	case what == 5 && mark == "":
		s.reply("\x1b[0n")
	case what == 6:
		y := s.cy
		if s.origin {
			y -= s.top
		}
		s.reply(fmt.Sprintf("\x1b[%s%d;%dR", mark, y+1, min(s.cx, s.cols-1)+1))
	}
}

func (s *Screen) ansiMode(params ansi.Params, on bool) {
	for i := range params {
		switch number(params, i, 0) {
		case 4:
			s.insert = on
		case 20:
			s.modes.NewLine = on
		}
	}
}

// softReset is DECSTR.
func (s *Screen) softReset() {
	s.style, s.origin, s.wrap, s.insert, s.cursorOff = Style{}, false, true, false, false
	s.modes.CursorKeys, s.modes.Keypad = false, false
	s.top, s.bottom = 0, s.rows-1
	s.charsets, s.shift = [2]byte{'B', 'B'}, 0
	s.saved = cursorState{charsets: s.charsets}
}

// private does the sequences of DEC and of those who came after.
func (s *Screen) private(cmd ansi.Cmd, params ansi.Params) {
	switch {
	case cmd.Intermediate() == '$' && cmd.Final() == 'p':
		s.reply(fmt.Sprintf("\x1b[?%d;%d$y", number(params, 0, 0), s.modeState(number(params, 0, 0))))
	case cmd.Intermediate() != 0:
	case cmd.Final() == 'h' || cmd.Final() == 'l':
		for i := range params {
			s.mode(number(params, i, 0), cmd.Final() == 'h')
		}
	case cmd.Final() == 'n':
		s.status(number(params, 0, 0), "?")
	case cmd.Final() == 'J':
		s.eraseScreen(number(params, 0, 0))
	case cmd.Final() == 'K':
		s.eraseLine(number(params, 0, 0))
	}
}

// flag is the switch a private mode turns, nil for those that do more or that
// are not known.
func (s *Screen) flag(mode int) *bool {
	switch mode {
	case 1:
		return &s.modes.CursorKeys
	case 7:
		return &s.wrap
	case 1004:
		return &s.modes.Focus
	case 1006:
		return &s.modes.MouseSGR
	case 2004:
		return &s.modes.Paste
	}
	return nil
}

func (s *Screen) mode(mode int, on bool) {
	if f := s.flag(mode); f != nil {
		*f = on
		if mode == 7 && !on {
			s.cx = min(s.cx, s.cols-1)
		}
		return
	}
	switch mode {
	case 1000, 1002, 1003:
		if on {
			s.modes.Mouse = MouseWish(mode)
		} else {
			s.modes.Mouse = 0
		}
	case 6:
		s.origin = on
		s.moveTo(0, 0)
	case 25:
		s.cursorOff = !on
	case 47, 1047:
		if on {
			s.showAlternate()
		} else {
			s.showNormal(false)
		}
	case 1048:
		if on {
			s.save()
		} else {
			s.restore()
		}
	case 1049:
		if on {
			if !s.alternate {
				s.savedNormal = cursorState{s.cx, s.cy, s.style, s.origin, s.charsets, s.shift}
			}
			s.showAlternate()
			return
		}
		if s.alternate {
			s.style = s.savedNormal.style
		}
		s.showNormal(true)
	}
}

// modeState answers DECRQM: 1 set, 2 reset, 0 not known.
func (s *Screen) modeState(mode int) int {
	f := s.flag(mode)
	var on bool
	switch {
	case f != nil:
		on = *f
	case mode == 1000 || mode == 1002 || mode == 1003:
		on = s.modes.Mouse == MouseWish(mode)
	case mode == 6:
		on = s.origin
	case mode == 25:
		on = !s.cursorOff
	case mode == 47 || mode == 1047 || mode == 1049:
		on = s.alternate
	default:
		return 0
	}
	if on {
		return 1
	}
	return 2
}

// folderOf is the folder that a shell says it is in, "7;file://HOST/PATH" with what is no letter as %XX;
// "" where that is no path.
func folderOf(data []byte) string {
	const most = 4096
	rest, ok := strings.CutPrefix(string(data), "7;file://")
	at := strings.IndexByte(rest, '/')
	if !ok || at < 0 || len(rest) > most {
		return ""
	}
	path, err := url.PathUnescape(rest[at:])
	if err != nil || strings.ContainsFunc(path, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return ""
	}
	return path
}

// osc takes the titles, where a shell says that a prompt begins (OSC 133 ; A), and the folder it says it is in (OSC 7); every other operating system command is ignored, those
// that would write to the clipboard or ask for text among them.
func (s *Screen) osc(cmd int, data []byte) {
	if cmd == 133 {
		if string(data) == "133;A" || strings.HasPrefix(string(data), "133;A;") {
			s.lines[s.cy].prompt = true
		}
		return
	}
	if cmd == 7 {
		s.folder = folderOf(data)
		return
	}
	if cmd != 0 && cmd != 2 {
		return
	}
	for i, b := range data {
		if b == ';' {
			s.title = sanitize.Line(string(data[i+1:]), 200)
			return
		}
	}
}
