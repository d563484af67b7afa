package shells

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/term"
	"meatus/tui/fit"
)

// maxPanes is how many shells are shown at once.
const maxPanes = 6

// arrangement is how several shells share the room.
type arrangement uint8

const (
	besideEachOther arrangement = iota
	belowEachOther
	inRowsAndColumns
	arrangements
)

var arrangementWords = [...]string{"side by side", "one below the other", "in rows and columns"}

// rect is where a shell is drawn: its line above and its screen below that.
type rect struct{ x, y, width, height int }

// rects are where the shells are, in their order.
func (m *Model) rects() []rect {
	n := len(m.panes)
	perBand := n
	switch m.arrangement {
	case belowEachOther:
		perBand = 1
	case inRowsAndColumns:
		perBand = 1
		for perBand*perBand < n {
			perBand++
		}
	}
	if n == 0 {
		return nil
	}
	bands := (n + perBand - 1) / perBand
	var all []rect
	for band := range bands {
		y := m.height * band / bands
		height := m.height*(band+1)/bands - y
		cells := min(perBand, n-band*perBand)
		for i := range cells {
			x := (m.width + 1) * i / cells
			width := (m.width+1)*(i+1)/cells - x - 1
			if cells == 2 && n == 2 {
				if x, width = 0, m.leftWidth(); i == 1 {
					x, width = m.leftWidth()+1, m.width-m.leftWidth()-1
				}
			}
			all = append(all, rect{x, y, max(width, 1), max(height, 2)})
		}
	}
	return all
}

// here is where the shell is that has the keys.
func (m *Model) here() rect {
	if i := slices.Index(m.panes, m.shell); i >= 0 {
		return m.rects()[i]
	}
	return rect{0, 0, m.width, m.height}
}

// leftWidth is how many columns the left of two shells has.
func (m *Model) leftWidth() int { return min(max(m.width*m.share/100, 20), max(m.width-21, 1)) }

// Shown are the shells that show, in their order.
func (m *Model) Shown() []*Shell { return m.panes }

// PutBeside shows a shell beside those that show; nil shows the one that has the keys alone. It
// tells whether there was room.
func (m *Model) PutBeside(s *Shell) bool {
	m.endMany()
	switch {
	case s == nil:
		m.panes = []*Shell{m.shell}
	case len(m.panes) == maxPanes || slices.Contains(m.panes, s):
		return false
	default:
		m.panes = append(m.panes, s)
	}
	m.resize()
	return true
}

// Other gives the keys to the next of the shells that show.
func (m *Model) Other() {
	if i := slices.Index(m.panes, m.shell); len(m.panes) > 1 {
		m.focusOn(m.panes[(i+1)%len(m.panes)])
	}
}

func (m *Model) focusOn(s *Shell) {
	if s != m.shell {
		m.leaveMode()
		m.shell = s
	}
}

// Arrange has the shells change the split layout.
func (m *Model) Arrange() {
	m.arrangement = (m.arrangement + 1) % arrangements
	m.notice = arrangementWords[m.arrangement]
	m.resize()
}

// Arrangement is how the shells share the room, and SetArrangement has them do so.
func (m *Model) Arrangement() int { return int(m.arrangement) }

// SetArrangement is described at [Model.Arrangement]; what is no arrangement changes nothing.
func (m *Model) SetArrangement(n int) {
	if n >= 0 && n < int(arrangements) {
		m.arrangement = arrangement(n)
		m.resize()
	}
}

// MoveDivide gives the left of two shells more or less of the width, in hundredths of it.
func (m *Model) MoveDivide(by int) {
	m.share = min(max(m.share+by, 20), 80)
	m.resize()
}

// Forget shows no shell that was put away.
func (m *Model) Forget(s *Shell) {
	m.endMany()
	i := slices.Index(m.panes, s)
	if i < 0 {
		return
	}
	m.panes = slices.Delete(slices.Clone(m.panes), i, i+1)
	if s == m.shell {
		m.leaveMode()
		if m.shell = nil; len(m.panes) > 0 {
			m.shell = m.panes[min(i, len(m.panes)-1)]
		}
	}
	m.resize()
}

func (m *Model) resize() {
	if m.width == 0 {
		return
	}
	for i, r := range m.rects() {
		m.panes[i].Resize(r.width, max(r.height-1, 1))
	}
	m.marked = span{}
}

// paneAt is the shell at a cell of the window, nil for none.
func (m *Model) paneAt(x, y int) *Shell {
	for i, r := range m.rects() {
		if x >= r.x && x < r.x+r.width && y >= r.y && y < r.y+r.height {
			return m.panes[i]
		}
	}
	return nil
}

// compose lays the panes out over the whole room.
func (m *Model) compose(drawn [][]string) []string {
	rects := m.rects()
	divide := m.theme.Rule.Render("│")
	out := make([]string, 0, m.height)
	for y := range m.height {
		var b strings.Builder
		at := 0
		for i, r := range rects {
			if y < r.y || y >= r.y+r.height {
				continue
			}
			if at > 0 {
				b.WriteString(divide)
			}
			line := ""
			if n := y - r.y; n < len(drawn[i]) {
				line = drawn[i][n]
			}
			b.WriteString(fit.Pad(line, r.width))
			at++
		}
		out = append(out, b.String())
	}
	return out
}

// askMany asks before what is typed goes to all shells that show.
func (m *Model) askMany() {
	switch all, left := m.mayMany(); {
	case m.many:
		m.endMany()
		m.notice = "typing to this shell alone again"
	case len(all) < 2:
		m.notice = "no other shell shows beside it that could be typed to" + left
	default:
		m.mode = manying
	}
}

// mayMany are the shells that show and may be typed to at once: live, on a way that is there, and
// none at which care is to be taken. left says which are left out.
func (m *Model) mayMany() (all []*Shell, left string) {
	careful := 0
	for _, s := range m.panes {
		_, lost := s.Lost()
		switch {
		case s.Way().Target().Careful:
			careful++
		case s.Live() && !lost:
			all = append(all, s)
		}
	}
	if careful > 0 {
		left = fmt.Sprintf("; careful ones are left out: %d", careful)
	}
	return all, left
}

// endMany has what is typed go to the shell that has the keys alone.
func (m *Model) endMany() { m.many = false }

// Many tells to how many shells is typed at once, 0 for one alone.
func (m *Model) Many() int {
	if !m.many {
		return 0
	}
	all, _ := m.mayMany()
	return len(all)
}

// sendAll types at every shell that is typed to: each by the modes its program has set.
func (m *Model) sendAll(encode func(s *Shell) []byte) {
	if !m.many {
		m.send(encode(m.shell))
		return
	}
	all, _ := m.mayMany()
	for _, s := range all {
		if out := encode(s); len(out) > 0 && !s.Type(out) {
			m.notice = s.Way().Target().Name + " takes no more input just now"
		}
	}
}

// keyFor is what a key sends at a shell.
func keyFor(msg tea.KeyPressMsg) func(s *Shell) []byte {
	return func(s *Shell) []byte {
		key := toKey(msg)
		out := key.Encode(s.Frame().Modes)
		if key.Special == term.Backspace && s.Route.Target().Manner.Backspace == "bs" {
			out = swapErase(out)
		}
		return out
	}
}
