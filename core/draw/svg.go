package draw

import (
	"bytes"
	"fmt"
	"io"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// svgCanvas draws an SVG whose texts are as wide as they were measured whatever font they are
// shown in: where ours is missing another takes its place, and nothing overlaps.
type svgCanvas struct {
	*vgsvg.Canvas
	widths []float64 // of the texts, in their order
}

func newSVG(width, height vg.Length) *svgCanvas { return &svgCanvas{Canvas: vgsvg.New(width, height)} }

func (c *svgCanvas) FillString(face font.Face, at vg.Point, text string) {
	if text == "" {
		return
	}
	c.widths = append(c.widths, face.Width(text).Points())
	c.Canvas.FillString(face, at, text)
}

// fallbacks are fonts of the same measures as ours, and then any.
const fallbacks = "Liberation Sans, Arimo, Arial, Helvetica, sans-serif"

func (c *svgCanvas) WriteTo(w io.Writer) (int64, error) {
	var text bytes.Buffer
	if _, err := c.Canvas.WriteTo(&text); err != nil {
		return 0, err
	}
	parts := bytes.Split(text.Bytes(), []byte("<text "))
	var out bytes.Buffer
	for i, part := range parts {
		if i > 0 {
			out.WriteString("<text ")
			if i <= len(c.widths) {
				fmt.Fprintf(&out, `textLength="%.2f" lengthAdjust="spacingAndGlyphs" `, c.widths[i-1])
			}
			part = bytes.Replace(part, []byte("font-family:Liberation Sans"), []byte("font-family:"+fallbacks), 1)
		}
		out.Write(part)
	}
	n, err := w.Write(out.Bytes())
	return int64(n), err
}
