package shells

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/term"
	"meatus/core/words"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// View draws the place: waiting says what waits elsewhere, roundTrip is that of
// the shell's link. cursor is where the terminal's cursor is, nil where it is
// hidden.
func (m *Model) View(waiting string, roundTrip time.Duration) (lines []string, cursor *tea.Cursor) {
	if m.shell == nil {
		return nil, nil
	}
	rects := m.rects()
	var drawn [][]string
	for i, s := range m.panes {
		f, r := s.Frame(), rects[i]
		if s != m.shell {
			drawn = append(drawn, m.pane(s, f, r, m.short(s, r.width), span{}))
			continue
		}
		drawn = append(drawn, m.pane(s, f, r, m.where(f, r.width, waiting, roundTrip), m.marked))
		if f.CursorOn && s.Live() && m.mode == typing && f.X < r.width && f.Y < r.height-1 {
			cursor = tea.NewCursor(r.x+f.X, r.y+f.Y+1)
			cursor.Shape, cursor.Blink = shape(f.Shape)
		}
	}
	if len(drawn) == 1 {
		return drawn[0], cursor
	}
	return m.compose(drawn), cursor
}

// pane draws a shell: the line above, and its screen.
func (m *Model) pane(s *Shell, f *term.Frame, r rect, above string, marked span) []string {
	width, rows := r.width, max(r.height-1, 1)
	s.saw(f)
	lines := []string{above}
	colours := s.Route.Target().Manner.Colours
	for i := 0; i < rows && i < len(f.Lines); i++ {
		if from, to, ok := marked.columns(f.First+i, f.Cols); ok {
			lines = append(lines, fit.Cut(renderRow(f, markRow(f.Lines[i], from, to), colours), width))
			continue
		}
		line := m.rows.render(f, f.Lines[i], colours)
		if f.Cols > width { // it has another size yet
			line = fit.Cut(line, width)
		}
		lines = append(lines, line)
	}
	return lines
}

// columns says which columns of a row are marked.
func (s span) columns(row, cols int) (from, to int, ok bool) {
	a, b := s.from, s.to
	if b.Before(a) {
		a, b = b, a
	}
	if !s.on || row < a.Row || row > b.Row {
		return 0, 0, false
	}
	to = cols - 1
	if row == a.Row {
		from = a.Col
	}
	if row == b.Row {
		to = b.Col
	}
	return from, to, true
}

// markRow is a row with some of its cells turned light on dark, or back.
func markRow(row *term.Row, from, to int) *term.Row {
	cells := append([]term.Cell(nil), row.Cells...)
	for i := max(from, 0); i <= min(to, len(cells)-1); i++ {
		cells[i].Style.Attr ^= term.Reverse
		if cells[i].Rune == 0 && cells[i].Width != term.Rest {
			cells[i].Rune = ' '
		}
	}
	return &term.Row{Cells: cells}
}

func shape(s term.CursorShape) (tea.CursorShape, bool) {
	blink := s%2 == 1 || s == 0
	switch s {
	case 3, 4:
		return tea.CursorUnderline, blink
	case 5, 6:
		return tea.CursorBar, blink
	}
	return tea.CursorBlock, blink
}

// short is the line above a shell that has not the keys.
func (m *Model) short(s *Shell, width int) string {
	who, _ := s.Where()
	right := "idle " + fit.Ago(s.Idle())
	if !s.Live() {
		right = "ended"
	}
	if m.typesTo(s) {
		return fit.Pad(m.loud(who), width)
	}
	return fit.Spread(" "+m.theme.Faint.Render("▏")+m.careful(s)+m.theme.Faint.Render(who), m.theme.Faint.Render(right)+" ", width, " ")
}

// typesTo tells whether what is typed goes to a shell beside others.
func (m *Model) typesTo(s *Shell) bool {
	if !m.many {
		return false
	}
	all, _ := m.mayMany()
	return slices.Contains(all, s)
}

// loud says above a shell that what is typed goes to several.
func (m *Model) loud(who string) string {
	return " " + m.theme.Verdict(gate.Shut).Reverse(true).Render(fmt.Sprintf(" TYPES TO %d SHELLS ", m.Many())) + " " + m.theme.Strong.Render(who)
}

// careful is the mark of a shell at which care is to be taken, "" for most.
func (m *Model) careful(s *Shell) string {
	if !s.Way().Target().Careful {
		return ""
	}
	return m.theme.Verdict(gate.Ajar).Reverse(true).Render(" ! careful ") + " "
}

// where is the line above the terminal.
func (m *Model) where(f *term.Frame, width int, waiting string, roundTrip time.Duration) string {
	t, s := m.theme, m.shell
	who, way := s.Where()
	left := " " + t.Accent.Render("▌") + m.careful(s) + t.Strong.Render(who) + t.Faint.Render(" · ") + way
	if m.mode != typing {
		return fit.Pad(m.modeLine(width), width)
	}
	if m.notice != "" && width < narrow { // there is no room for both
		return fit.Pad(" "+t.Accent.Render(fit.Cut(m.notice, width-2)), width)
	}
	if m.typesTo(s) && m.notice == "" {
		return fit.Pad(m.loud(who), width)
	}
	var right string
	path, logErr := s.Logging()
	since, lost := s.Lost()
	switch {
	case !s.Live():
		e := s.Ending()
		switch {
		case e.Turned != nil:
			right = t.Verdict(gate.Shut).Render(fit.Cut(e.Turned.Why, width/2))
		case e.Err != nil:
			right = t.Accent.Render("lost: " + fit.Cut(e.Err.Error(), width/2))
		case e.Signal != "":
			right = t.Accent.Render("ended by signal " + sanitize.Line(e.Signal, 20))
		default:
			right = t.Accent.Render(fmt.Sprintf("ended, status %d", e.Status))
		}
		right += t.Faint.Render(" · ") + t.Keys(theme.Hint{Key: "enter", Does: "back"}, theme.Hint{Key: "a", Does: "connect again"})
	case m.notice != "":
		right = t.Accent.Render(m.notice)
	case lost:
		right = t.Accent.Render(fmt.Sprintf("connection lost for %s; reconnecting", fit.Ago(time.Since(since)))) + t.Faint.Render(" · ") + t.Keys(theme.Hint{Key: "esc", Does: "give up"})
	case logErr != nil:
		right = t.Accent.Render("the log has stopped: " + logErr.Error())
	case waiting != "":
		right = t.Accent.Render(waiting)
		if held := s.Held(); held > 0 {
			right += t.Accent.Render(fmt.Sprintf(" (%d)", held))
		}
	case s.back > 0:
		right = t.Accent.Render(words.Count(f.Back, "line")+" back") + t.Faint.Render(" of "+fmt.Sprint(f.Scrolled))
	default:
		if keys, ended := s.Lent(); ended != nil && s.Live() {
			right = t.Verdict(gate.Shut).Render("lends no more: "+fit.Cut(ended.Error(), width/3)) + t.Faint.Render(" · ")
		} else if len(keys) > 0 {
			names := make([]string, len(keys))
			for i, k := range keys {
				names[i] = k.String()
			}
			right = t.Verdict(gate.Ajar).Render("lends "+fit.Cut(strings.Join(names, ", "), width/4)) + t.Faint.Render(" · ")
		}
		if now, may := s.Windows(); may {
			right += t.Verdict(gate.Ajar).Render(fmt.Sprintf("%d draw here", now)) + t.Faint.Render(" · ")
		}
		if path != "" {
			right += t.Accent.Render(theme.Open+" log") + t.Faint.Render(" · ")
		}
		if rtt := fit.RoundTrip(roundTrip); rtt != "" {
			right += t.Faint.Render(rtt + " · ")
		}
		right += t.Faint.Render("idle " + fit.Ago(s.Idle()))
	}
	return fit.Spread(left, right+" ", width, " ")
}

// narrow is the width, in columns, below which a notice stands in place of whose shell it is.
const narrow = 72
