package term

import (
	"image/color"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Color is a colour of a cell. The zero Color is the terminal's own.
type Color uint32

const (
	palette Color = 1 << 24
	direct  Color = 2 << 24
)

// Palette is colour n of the 256.
func Palette(n uint8) Color { return palette | Color(n) }

// RGB is a colour of 24 bits.
func RGB(r, g, b uint8) Color { return direct | Color(r)<<16 | Color(g)<<8 | Color(b) }

// Index returns the number of a palette colour; ok is false for other colours.
func (c Color) Index() (n uint8, ok bool) { return uint8(c), c&^0xff == palette }

// RGB returns the parts of a colour of 24 bits; ok is false for other colours.
func (c Color) RGB() (r, g, b uint8, ok bool) {
	return uint8(c >> 16), uint8(c >> 8), uint8(c), c&^0xffffff == direct
}

// Of16 is the nearest of the sixteen colours every terminal has.
func (c Color) Of16() Color {
	if n, ok := c.Index(); ok && n >= 16 {
		return Palette(uint8(ansi.Convert16(ansi.IndexedColor(n))))
	}
	if r, g, b, ok := c.RGB(); ok {
		return Palette(uint8(ansi.Convert16(color.RGBA{r, g, b, 0xff})))
	}
	return c
}

// Attr is a set of attributes of a cell.
type Attr uint16

// The attributes. Of the underlines a cell has at most one.
const (
	Bold Attr = 1 << iota
	Dim
	Italic
	Underline
	Blink
	Reverse
	Hidden
	Strike
	DoubleUnderline
	CurlyUnderline
	DottedUnderline
	DashedUnderline

	underlines = Underline | DoubleUnderline | CurlyUnderline | DottedUnderline | DashedUnderline
)

// Width says how much of the grid a cell takes.
type Width uint8

// The widths. A wide character is a Lead and the Rest to its right.
const (
	Single Width = iota
	Lead
	Rest
)

// Style is how a cell looks.
type Style struct {
	Fg, Bg Color
	Attr   Attr
}

// Cell is one place of the grid. The zero Cell is blank.
type Cell struct {
	Rune  rune // 0 for blank, below 0 for a cluster of the frame's
	Style Style
	Width Width
}

// blank is an erased cell: of the style only the background stays.
func blank(s Style) Cell { return Cell{Style: Style{Bg: s.Bg}} }

// line is one row of the grid.
type line struct {
	cells   []Cell
	used    int  // cells from here on were never written
	wrapped bool // the text goes on in the next line
	prompt  bool // a shell has said that its prompt begins here (OSC 133)
	dirty   bool
}

func newLine(cols int) *line { return &line{cells: make([]Cell, cols), dirty: true} }

// clear erases cells from one column up to another.
func (l *line) clear(from, to int, s Style) {
	to = min(to, len(l.cells))
	if from <= 0 && to == len(l.cells) {
		l.reset(s)
		return
	}
	l.split(from)
	l.split(to)
	b := blank(s)
	for i := max(from, 0); i < to; i++ {
		l.cells[i] = b
	}
	if s.Bg != 0 {
		l.used = max(l.used, to)
	}
	l.dirty = true
}

// reset erases the whole line and forgets that it went on.
func (l *line) reset(s Style) {
	clear(l.cells)
	l.used, l.wrapped, l.prompt, l.dirty = 0, false, false, true
	if s.Bg == 0 {
		return
	}
	b := blank(s)
	for i := range l.cells {
		l.cells[i] = b
	}
	l.used = len(l.cells)
}

// split makes the halves of a wide character blank where col falls between them.
func (l *line) split(col int) {
	if col > 0 && col < len(l.cells) && l.cells[col].Width == Rest {
		l.cells[col-1] = blank(l.cells[col-1].Style)
		l.cells[col] = blank(l.cells[col].Style)
	}
}

// clusters holds what one rune cannot: a character with its combining marks.
// It only ever grows, so that frames can share it, up to a limit.
type clusters struct {
	list  []string
	index map[string]rune
}

const (
	maxClusters    = 1 << 14
	maxClusterSize = 64 // bytes
)

// join returns the rune that stands for base with mark added; base itself where
// there is no room for more.
func (c *clusters) join(base, mark rune) rune {
	text := utf8.AppendRune([]byte(c.text(base)), mark)
	if r, ok := c.index[string(text)]; ok {
		return r
	}
	if len(c.list) >= maxClusters || len(text) > maxClusterSize {
		return base
	}
	if c.index == nil {
		c.index = map[string]rune{}
	}
	c.list = append(c.list, string(text))
	r := -rune(len(c.list))
	c.index[string(text)] = r
	return r
}

// text is what a cell's rune stands for.
func (c *clusters) text(r rune) string {
	switch {
	case r == 0:
		return " "
	case r < 0:
		return c.list[-r-1]
	}
	return string(r)
}
