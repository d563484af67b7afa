package shells

import (
	"strconv"
	"strings"

	"meatus/core/term"
)

// rowCache keeps the last rendering of each row: frames share rows that did not
// change.
type rowCache struct {
	text map[*term.Row]string
}

const maxCached = 1024

func (c *rowCache) render(f *term.Frame, row *term.Row, colours string) string {
	if s, ok := c.text[row]; ok {
		return s
	}
	if c.text == nil || len(c.text) >= maxCached {
		c.text = make(map[*term.Row]string, maxCached)
	}
	s := renderRow(f, row, colours)
	c.text[row] = s
	return s
}

// renderRow writes a row with its styles as a terminal takes them, in as many
// colours as are wanted: "16", "none", or all.
func renderRow(f *term.Frame, row *term.Row, colours string) string {
	end := len(row.Cells)
	for end > 0 && row.Cells[end-1] == (term.Cell{}) {
		end--
	}
	var b strings.Builder
	var style term.Style
	for _, c := range row.Cells[:end] {
		if c.Width == term.Rest {
			continue
		}
		if c.Style != style {
			style = c.Style
			writeStyle(&b, reduce(style, colours))
		}
		if c.Style.Attr&term.Hidden != 0 {
			b.WriteByte(' ')
			if c.Width == term.Lead {
				b.WriteByte(' ')
			}
			continue
		}
		if c.Rune > 0 {
			b.WriteRune(c.Rune)
		} else {
			b.WriteString(f.Text(c))
		}
	}
	if style != (term.Style{}) {
		b.WriteString("\x1b[m")
	}
	return b.String()
}

// reduce gives a style fewer colours.
func reduce(s term.Style, colours string) term.Style {
	switch colours {
	case "none":
		s.Fg, s.Bg = term.Color(0), term.Color(0)
	case "16":
		s.Fg, s.Bg = s.Fg.Of16(), s.Bg.Of16()
	}
	return s
}

var attrCodes = []struct {
	attr term.Attr
	code string
}{
	{term.Bold, ";1"}, {term.Dim, ";2"}, {term.Italic, ";3"}, {term.Underline, ";4"}, {term.Blink, ";5"}, {term.Reverse, ";7"}, {term.Strike, ";9"},
	{term.DoubleUnderline, ";4:2"}, {term.CurlyUnderline, ";4:3"}, {term.DottedUnderline, ";4:4"}, {term.DashedUnderline, ";4:5"},
}

func writeStyle(b *strings.Builder, s term.Style) {
	b.WriteString("\x1b[0")
	for _, a := range attrCodes {
		if s.Attr&a.attr != 0 {
			b.WriteString(a.code)
		}
	}
	writeColour(b, s.Fg, 30)
	writeColour(b, s.Bg, 40)
	b.WriteByte('m')
}

// writeColour writes a colour from base on: 30 for the letters, 40 for the
// ground.
func writeColour(b *strings.Builder, c term.Color, base int) {
	if n, ok := c.Index(); ok {
		switch {
		case n < 8:
			b.WriteString(";" + strconv.Itoa(base+int(n)))
		case n < 16:
			b.WriteString(";" + strconv.Itoa(base+60+int(n)-8))
		default:
			b.WriteString(";" + strconv.Itoa(base+8) + ";5;" + strconv.Itoa(int(n)))
		}
		return
	}
	if r, g, bl, ok := c.RGB(); ok {
		b.WriteString(";" + strconv.Itoa(base+8) + ";2;" + strconv.Itoa(int(r)) + ";" + strconv.Itoa(int(g)) + ";" + strconv.Itoa(int(bl)))
	}
}
