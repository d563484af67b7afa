package draw

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"io"
	"math"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/sfnt"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// pdfCanvas draws into a PDF with fonts that have every character of theirs: the canvas of
// the plotting package writes those of one code page alone, and mangles the rest.
type pdfCanvas struct {
	doc           *fpdf.Fpdf
	width, height vg.Length
	line          []vg.Length // the width of lines, by how deep it is pushed
	fonts         map[string]bool
	images        int
}

func newPDF(width, height vg.Length) *pdfCanvas {
	c := &pdfCanvas{
		doc:   fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: width.Points(), Ht: height.Points()}}),
		width: width, height: height, line: []vg.Length{1}, fonts: map[string]bool{},
	}
	c.doc.SetMargins(0, 0, 0)
	c.doc.SetAutoPageBreak(false, 0)
	c.begin()
	return c
}

// begin begins a page. What is drawn has its origin at the lower left; the package's is at
// the upper left.
func (c *pdfCanvas) begin() {
	c.doc.AddPage()
	vg.Initialize(c)
	c.Push()
	c.Translate(vg.Point{Y: c.height})
	c.Scale(1, -1)
}

// next ends the page and begins another of the same size.
func (c *pdfCanvas) next() {
	c.Pop()
	c.begin()
}

func (c *pdfCanvas) Size() (w, h vg.Length) { return c.width, c.height }

func (c *pdfCanvas) SetLineWidth(w vg.Length) {
	c.line[len(c.line)-1] = w
	c.doc.SetLineWidth(w.Points())
}

func (c *pdfCanvas) SetLineDash(pattern []vg.Length, offset vg.Length) {
	dashes := make([]float64, len(pattern))
	for i, d := range pattern {
		dashes[i] = d.Points()
	}
	c.doc.SetDashPattern(dashes, offset.Points())
}

func (c *pdfCanvas) SetColor(ink color.Color) {
	if ink == nil {
		ink = color.Black
	}
	n := color.NRGBAModel.Convert(ink).(color.NRGBA)
	r, g, b := int(n.R), int(n.G), int(n.B)
	c.doc.SetFillColor(r, g, b)
	c.doc.SetDrawColor(r, g, b)
	c.doc.SetTextColor(r, g, b)
	c.doc.SetAlpha(float64(n.A)/255, "Normal")
}

func (c *pdfCanvas) Rotate(radians float64) { c.doc.TransformRotate(-radians*180/math.Pi, 0, 0) }
func (c *pdfCanvas) Translate(p vg.Point)   { c.doc.TransformTranslate(p.X.Points(), p.Y.Points()) }
func (c *pdfCanvas) Scale(x, y float64)     { c.doc.TransformScale(x*100, y*100, 0, 0) }

func (c *pdfCanvas) Push() {
	c.line = append(c.line, c.line[len(c.line)-1])
	c.doc.TransformBegin()
}

func (c *pdfCanvas) Pop() {
	c.doc.TransformEnd()
	c.line = c.line[:len(c.line)-1]
	c.doc.SetLineWidth(c.line[len(c.line)-1].Points())
}

func (c *pdfCanvas) Stroke(p vg.Path) {
	if c.line[len(c.line)-1] > 0 {
		c.path(p, "D")
	}
}

func (c *pdfCanvas) Fill(p vg.Path) { c.path(p, "F") }

func (c *pdfCanvas) path(p vg.Path, style string) {
	at := func(p vg.Point) (x, y float64) { return p.X.Points(), p.Y.Points() }
	for _, part := range p {
		x, y := at(part.Pos)
		switch part.Type {
		case vg.MoveComp:
			c.doc.MoveTo(x, y)
		case vg.LineComp:
			c.doc.LineTo(x, y)
		case vg.CurveComp:
			var control [][2]float64
			for _, q := range part.Control {
				cx, cy := at(q)
				control = append(control, [2]float64{cx, cy})
			}
			if len(control) == 1 {
				c.doc.CurveTo(control[0][0], control[0][1], x, y)
			} else {
				c.doc.CurveBezierCubicTo(control[0][0], control[0][1], control[1][0], control[1][1], x, y)
			}
		case vg.ArcComp:
			c.arc(x, y, part.Radius.Points(), part.Start, part.Angle)
		case vg.CloseComp:
			c.doc.ClosePath()
		}
	}
	c.doc.DrawPath(style)
}

// arc draws a part of a circle by curves, each of a quarter turn at most: they are off by less
// than a thousandth of the radius.
func (c *pdfCanvas) arc(x, y, r, start, angle float64) {
	steps := max(int(math.Ceil(math.Abs(angle)/(math.Pi/2))), 1)
	step := angle / float64(steps)
	k := 4.0 / 3 * math.Tan(step/4) * r
	for i := range steps {
		from := start + float64(i)*step
		to := from + step
		x0, y0 := x+r*math.Cos(from), y+r*math.Sin(from)
		x1, y1 := x+r*math.Cos(to), y+r*math.Sin(to)
		if i == 0 {
			c.doc.LineTo(x0, y0)
		}
		c.doc.CurveBezierCubicTo(x0-k*math.Sin(from), y0+k*math.Cos(from), x1+k*math.Sin(to), y1-k*math.Cos(to), x1, y1)
	}
}

func (c *pdfCanvas) FillString(face font.Face, at vg.Point, text string) {
	name := face.Name()
	if !c.fonts[name] {
		var source bytes.Buffer
		if _, err := face.Face.WriteSourceTo(nil, &source); err != nil {
			c.doc.SetError(err)
			return
		}
		c.doc.AddUTF8FontFromBytes(name, "", source.Bytes())
		c.fonts[name] = true
	}
	c.doc.SetFont(name, "", face.Font.Size.Points())
	c.Push()
	defer c.Pop()
	c.Translate(at)
	c.Scale(1, -1)
	c.doc.Text(0, 0, text)
}

func (c *pdfCanvas) DrawImage(rect vg.Rectangle, img image.Image) {
	var text bytes.Buffer
	if err := png.Encode(&text, img); err != nil {
		c.doc.SetError(err)
		return
	}
	c.images++
	name := string(rune('a' + c.images))
	options := fpdf.ImageOptions{ImageType: "png", ReadDpi: true}
	c.doc.RegisterImageOptionsReader(name, options, &text)
	size := rect.Size()
	c.doc.ImageOptions(name, rect.Min.X.Points(), rect.Min.Y.Points(), size.X.Points(), size.Y.Points(), false, options, 0, "")
}

func (c *pdfCanvas) WriteTo(w io.Writer) (int64, error) {
	c.Pop()
	counted := &counter{w: w}
	err := c.doc.Output(counted)
	return counted.n, err
}

// counter counts what is written.
type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// drawable is a text with a mark in place of each character that a font has not.
func drawable(face font.Face, text string) string {
	var buffer sfnt.Buffer
	runes := []rune(text)
	for i, r := range runes {
		if at, err := face.Face.GlyphIndex(&buffer, r); err != nil || at == 0 {
			runes[i] = '?'
		}
	}
	return string(runes)
}
