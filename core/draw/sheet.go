package draw

import (
	"cmp"
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"

	stdfont "golang.org/x/image/font"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
)

// canvas is what is drawn on, which can write itself.
type canvas interface {
	vg.Canvas
	io.WriterTo
	Size() (x, y vg.Length)
}

// sheet draws on a canvas whose origin is at the top left, in points.
type sheet struct {
	c      canvas
	height float64
	fonts  *font.Cache
	wider  float64 // how much wider than ours the font may be that a text is shown in
}

// ink are the colours, all dark enough to tell apart from white in grey.
var (
	black = color.Gray{0}
	grey  = color.Gray{96}
	pale  = color.Gray{200}
	white = color.Gray{255}
	warm  = color.NRGBA{R: 0x8a, G: 0x5a, B: 0x00, A: 0xff}
	red   = color.NRGBA{R: 0xa0, G: 0x10, B: 0x10, A: 0xff}
)

// Format is what a drawing is written as.
type Format string

// The formats.
const (
	SVG Format = "svg"
	PDF Format = "pdf"
)

// Drawing is what can be drawn to hand on: a [Map], a [Chart] or a [Timeline].
type Drawing interface {
	// Write draws it. It fails where there is no such format, or writing fails.
	Write(w io.Writer, f Format) error
}

func newSheet(f Format, width, height float64) (*sheet, error) {
	s := &sheet{height: height, fonts: font.NewCache(liberation.Collection()), wider: 1}
	switch f {
	case SVG:
		s.wider = otherFonts
		s.c = newSVG(vg.Length(width), vg.Length(height))
	case PDF:
		s.c = newPDF(vg.Length(width), vg.Length(height))
	default:
		return nil, fmt.Errorf("%q is no format; there are svg and pdf", f)
	}
	s.box(0, 0, width, height, white, nil)
	return s, nil
}

// scaled has something drawn at a scale that is height points high before it is scaled, at the
// upper left of the sheet.
func (s *sheet) scaled(scale, height float64, draw func()) {
	whole := s.height
	s.c.Push()
	s.c.Translate(vg.Point{Y: vg.Length(whole - height*scale)})
	s.c.Scale(scale, scale)
	s.height = height
	draw()
	s.height = whole
	s.c.Pop()
}

func (s *sheet) at(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x), Y: vg.Length(s.height - y)}
}

// face is a font of a size, in points.
func (s *sheet) face(size float64, bold bool) font.Face {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: font.Length(size)}
	if bold {
		f.Weight = stdfont.WeightBold
	}
	return s.fonts.Lookup(f, font.Length(size))
}

// otherFonts is how much wider than ours the usual fonts are that take its place.
const otherFonts = 1.2

// width is how wide a text may be.
func (s *sheet) width(text string, size float64, bold bool) float64 {
	face := s.face(size, bold)
	return float64(face.Width(text)) * s.wider
}

// cut makes a text fit a width.
func (s *sheet) cut(text string, size float64, bold bool, width float64) string {
	runes := []rune(text)
	for len(runes) > 1 && s.width(string(runes), size, bold) > width {
		runes = append(runes[:len(runes)-2], '…')
	}
	return string(runes)
}

// text writes a text with its baseline at y.
func (s *sheet) text(x, y float64, text string, size float64, bold bool, ink color.Color) {
	s.c.SetColor(ink)
	face := s.face(size, bold)
	s.c.FillString(face, s.at(x, y), drawable(face, text))
}

func (s *sheet) path(points ...[2]float64) vg.Path {
	var p vg.Path
	for i, q := range points {
		if i == 0 {
			p.Move(s.at(q[0], q[1]))
		} else {
			p.Line(s.at(q[0], q[1]))
		}
	}
	return p
}

// line draws a line through points, with dashes where they are given.
func (s *sheet) line(width float64, ink color.Color, dashes []vg.Length, points ...[2]float64) {
	s.c.SetColor(ink)
	s.c.SetLineWidth(vg.Length(width))
	s.c.SetLineDash(dashes, 0)
	s.c.Stroke(s.path(points...))
	s.c.SetLineDash(nil, 0)
}

// box draws a box, filled and with an edge where those are not nil.
func (s *sheet) box(x, y, w, h float64, fill, edge color.Color) {
	p := s.path([2]float64{x, y}, [2]float64{x + w, y}, [2]float64{x + w, y + h}, [2]float64{x, y + h})
	p.Close()
	if fill != nil {
		s.c.SetColor(fill)
		s.c.Fill(p)
	}
	if edge != nil {
		s.c.SetColor(edge)
		s.c.SetLineWidth(0.8)
		s.c.Stroke(p)
	}
}

// disc draws a filled or empty circle.
func (s *sheet) disc(x, y, r float64, filled bool, ink color.Color) {
	var p vg.Path
	p.Move(s.at(x+r, y))
	p.Arc(s.at(x, y), vg.Length(r), 0, 2*math.Pi)
	p.Close()
	s.c.SetColor(ink)
	if filled {
		s.c.Fill(p)
		return
	}
	s.c.SetLineWidth(1)
	s.c.Stroke(p)
}

// compareNames puts names in order, numbers in them by their value.
func compareNames(a, b string) int {
	for a != "" && b != "" {
		if da, db := digits(a), digits(b); da > 0 && db > 0 {
			na, nb := strings.TrimLeft(a[:da], "0"), strings.TrimLeft(b[:db], "0")
			if c := cmp.Or(cmp.Compare(len(na), len(nb)), cmp.Compare(na, nb)); c != 0 {
				return c
			}
			a, b = a[da:], b[db:]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

// digits is how many digits a text begins with.
func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// arrow draws the head of an arrow that points left or right.
func (s *sheet) arrow(x, y float64, left bool, ink color.Color) {
	d := 4.0
	if left {
		d = -4
	}
	p := s.path([2]float64{x + d, y}, [2]float64{x - d, y - 3}, [2]float64{x - d, y + 3})
	p.Close()
	s.c.SetColor(ink)
	s.c.Fill(p)
}
