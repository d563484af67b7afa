package term

import "unicode/utf8"

// packed is a line that scrolled off: its text, and where its style changes.
type packed struct {
	text    []byte
	runs    []run
	wrapped bool
	prompt  bool
}

// run is how many cells share a style.
type run struct {
	cells int
	style Style
}

// history keeps the last lines that scrolled off, oldest first, in a ring whose
// memory is used again.
type history struct {
	lines []packed
	first int // of the ring
	count int
	limit int
	// fresh is how many of the newest lines come back when the screen grows:
	// those that scrolled off since the screen was last cleared.
	fresh int
	// dropped is how many lines are gone for good: line n of everything there
	// ever was is line n-dropped of what is kept.
	dropped int
}

func (h *history) at(i int) *packed { return &h.lines[(h.first+i)%len(h.lines)] }

// push packs a line behind the newest and drops the oldest where there is no
// more room.
func (h *history) push(l *line, c *clusters) {
	if h.limit == 0 {
		return
	}
	var slot *packed
	switch {
	case h.count < len(h.lines):
		slot = h.at(h.count)
		h.count++
	case len(h.lines) < h.limit:
		h.grow()
		slot = h.at(h.count)
		h.count++
	default:
		slot = h.at(0)
		h.first = (h.first + 1) % len(h.lines)
		h.dropped++
	}
	slot.pack(l, c)
	h.fresh++
}

// grow makes room for more lines, with the oldest at the front.
func (h *history) grow() {
	lines := make([]packed, min(h.limit, max(64, 2*len(h.lines))))
	for i := range h.count {
		lines[i] = *h.at(i)
	}
	h.lines, h.first = lines, 0
}

// pop takes the newest line back.
func (h *history) pop(cols int, c *clusters) *line {
	h.count--
	h.fresh--
	return h.at(h.count).unpack(cols, c)
}

func (h *history) clear() {
	h.dropped += h.count
	h.lines, h.first, h.count, h.fresh = nil, 0, 0, 0
}

func (p *packed) pack(l *line, c *clusters) {
	p.text, p.runs, p.wrapped, p.prompt = p.text[:0], p.runs[:0], l.wrapped, l.prompt
	var style Style
	cells := 0
	for i := range l.cells[:l.used] {
		cell := &l.cells[i]
		if cell.Style != style {
			if cells > 0 {
				p.runs = append(p.runs, run{cells, style})
			}
			style, cells = cell.Style, 0
		}
		cells++
		switch {
		case cell.Width == Rest:
		case cell.Rune > 0 && cell.Rune < utf8.RuneSelf:
			p.text = append(p.text, byte(cell.Rune))
		case cell.Rune > 0:
			p.text = utf8.AppendRune(p.text, cell.Rune)
		default:
			p.text = append(p.text, c.text(cell.Rune)...)
		}
	}
	if cells > 0 {
		p.runs = append(p.runs, run{cells, style})
	}
}

// unpack makes a line of at least cols cells of what was packed.
func (p *packed) unpack(cols int, c *clusters) *line {
	cells := 0
	for _, r := range p.runs {
		cells += r.cells
	}
	l := newLine(max(cols, cells))
	l.used, l.wrapped, l.prompt = cells, p.wrapped, p.prompt
	at := 0
	for rest := p.text; len(rest) > 0; {
		r, size := utf8.DecodeRune(rest)
		rest = rest[size:]
		width := runeWidth(r)
		joins := at > 0 && (width == 0 || endsInJoiner(l.cells[at-1], c))
		switch {
		case joins:
			lead := at - 1
			if l.cells[lead].Width == Rest {
				lead--
			}
			l.cells[lead].Rune = c.join(l.cells[lead].Rune, r)
		case at+max(width, 1) <= cells:
			l.cells[at].Rune = r
			at++
			if width == 2 {
				l.cells[at-1].Width, l.cells[at].Width = Lead, Rest
				at++
			}
		}
	}
	at = 0
	for _, r := range p.runs {
		for range r.cells {
			l.cells[at].Style = r.style
			at++
		}
	}
	return l
}

// rewrap lays the text of all lines, those scrolled off and those on the
// screen, out for another width. It returns the lines in place of screen, and
// where the cursor is then, counted from the first of them; lines that no longer
// fit there are in the history.
func (h *history) rewrap(screen []*line, cols, rows, cx, cy int, c *clusters) (lines []*line, x, y int) {
	old := *h
	*h = history{limit: h.limit, dropped: h.dropped}
	total := old.count + len(screen)
	cursor := old.count + cy
	made, cursorX, cursorY := 0, 0, 0
	var keep []*line // the newest lines, at most rows
	emit := func(l *line) {
		if len(keep) == rows {
			h.push(keep[0], c)
			keep = append(keep[:0:0], keep[1:]...)
		}
		keep = append(keep, l)
		made++
	}
	source := func(i int) *line {
		if i < old.count {
			return old.at(i).unpack(0, c)
		}
		return screen[i-old.count]
	}
	for i := 0; i < total; {
		var text []Cell
		offset, prompt := -1, source(i).prompt
		for {
			l := source(i)
			if i == cursor {
				offset = len(text) + cx
				if cx >= l.used {
					offset = -2 // behind the text: at its end
				}
			}
			text = append(text, l.cells[:l.used]...)
			i++
			if !l.wrapped || i == total {
				break
			}
		}
		start := made
		at, onRow := layOut(text, cols, offset, prompt, emit)
		if offset != -1 {
			cursorX, cursorY = at, start+onRow
		}
	}
	for len(keep) < rows {
		keep = append(keep, newLine(cols))
		made++
	}
	h.fresh = min(old.fresh, h.count)
	return keep, cursorX, cursorY - (made - rows)
}

// layOut wraps one text into lines of cols cells. It returns column and row of
// the cell at offset, or of the end where offset is -2.
func layOut(text []Cell, cols, offset int, prompt bool, emit func(*line)) (x, y int) {
	row := 0
	for from := 0; ; row++ {
		to := min(from+cols, len(text))
		if to < len(text) && text[to].Width == Rest && to-1 > from {
			to-- // a wide character goes to the next line whole
		}
		l := newLine(cols)
		l.used = copy(l.cells, text[from:to])
		l.wrapped, l.prompt = to < len(text), prompt && row == 0
		emit(l)
		if offset >= from && offset < to {
			x, y = offset-from, row
		}
		if to >= len(text) {
			if offset == -2 {
				x, y = to-from, row
			}
			return x, y
		}
		from = to
	}
}
