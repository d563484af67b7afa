package cargo

import (
	"bytes"
	"context"
	"image"
	_ "image/gif"  // sizes of pictures
	_ "image/jpeg" // sizes of pictures
	_ "image/png"  // sizes of pictures
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/sanitize"
)

// preview is what a file begins with.
type preview struct {
	path  string
	side  string
	lines []string
	kind  string // what it is, where it is no text
	err   string
}

// previewed is what was read for a look.
type previewed struct {
	id      int
	preview preview
}

// maxPreview is how much of a file is read, in bytes.
const maxPreview = 16 << 10

// read reads what a file begins with: of the side where it was written last.
func (m *Model) read(n *cargo.Node) tea.Cmd {
	l := m.look
	end, side := l.trees.From, "here"
	if n.From.Kind != ends.File || n.To.Kind == ends.File && n.To.Time > n.From.Time {
		end, side = l.trees.To, "there"
	}
	id, name := l.id, n.Path()
	l.preview = preview{path: name, side: side, kind: "reading …"}
	return m.s.Run(func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		p := preview{path: name, side: side}
		text, err := begins(ctx, end, name)
		if err != nil {
			p.err = sanitize.Line(err.Error(), 200)
		} else {
			p.lines, p.kind = shown(text)
		}
		return previewed{id, p}
	})
}

// begins is what a file begins with.
func begins(ctx context.Context, end ends.End, name string) ([]byte, error) {
	f, err := end.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, maxPreview)
	n, err := f.ReadAt(b, 0)
	if err == io.EOF {
		err = nil
	}
	return b[:n], err
}

// shown is a text in lines, or what the bytes are where they are no text.
func shown(b []byte) (lines []string, kind string) {
	if config, format, err := image.DecodeConfig(bytes.NewReader(b)); err == nil {
		return nil, format + " picture, " + strconv.Itoa(config.Width) + " × " + strconv.Itoa(config.Height)
	}
	if len(b) == 0 {
		return nil, "empty"
	}
	cut := b
	for len(cut) > 0 && !utf8.Valid(cut) && len(b)-len(cut) < utf8.UTFMax && len(b) == maxPreview {
		cut = cut[:len(cut)-1]
	}
	if bytes.IndexByte(b, 0) >= 0 || !utf8.Valid(cut) {
		return nil, "no text"
	}
	for line := range strings.Lines(string(cut)) {
		lines = append(lines, sanitize.Code(line, 300))
		if len(lines) == 200 {
			break
		}
	}
	return lines, ""
}
