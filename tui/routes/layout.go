package routes

import (
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/statefile"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/stack"
)

// The numbers of the layout, in columns.
const (
	widest      = 120 // from this width of the window on the card stands beside the board
	leastTask   = 78  // what a task needs beside the board; with less it stands below it
	leastColumn = 54  // of the board's, where it is laid in several
	mostColumns = 3
	leastBoard  = 5 // lines that a board above a card has at least
	spareBoard  = 3 // lines that it keeps for rows that take more than one

	// With less room the board and the card show one at a time.
	leastBothWide, leastBothHigh = 64, 19
)

// layout is where the board and what stands beside or below it are, in columns and rows.
type layout struct {
	beside         bool // the pane stands beside the board, else below it
	rows           int  // of the board, below what stands above it
	columns, width int  // of the board: how many, and how wide each is
	pane, height   int  // of the card, or what stands in its stead
}

// divide is where a person has put the divide: how much of the width the board has, in percent,
// 0 for where it is put by itself.
type divide struct {
	Percent int `json:"percent"`
}

func layoutFile(w *workspace.Workspace) string {
	return filepath.Join(w.Dir, workspace.StateDir, "layout.json")
}

// layout lays the place out.
func (m *Model) layout() layout {
	height := m.height
	if len(m.s.Board.Links().All()) > 0 {
		height-- // the strip of links
	}
	rest := max(height-m.headLines(), 0)
	if m.alone() {
		if m.pane != nil || m.onCard {
			return layout{columns: 1, width: m.width, pane: m.width, height: rest}
		}
		return layout{rows: rest, columns: 1, width: m.width, pane: m.width}
	}
	board, pane := m.divided()
	if m.width < widest || m.shape != stack.Card || m.pane != nil && pane < leastTask {
		// A short board leaves its room to the card.
		pane := max(m.paneRows(), rest-max(len(m.lines)+spareBoard, leastBoard))
		return layout{rows: max(rest-pane, 0), columns: 1, width: m.width, pane: m.width, height: pane}
	}
	l := layout{beside: true, rows: rest, columns: 1, width: board, pane: pane, height: rest}
	for l.columns < mostColumns && len(m.lines) > l.rows*l.columns && (board+1)/(l.columns+1)-1 >= leastColumn {
		l.columns++
	}
	l.width = (board+1)/l.columns - 1
	return l
}

// alone reports whether there is room for the board or the card alone.
func (m *Model) alone() bool { return m.width < leastBothWide || m.height < leastBothHigh }

// SetPane has something drawn in place of the card, and of the board where its shape says so; nil is the card.
func (m *Model) SetPane(pane func() []string, shape stack.Shape) { m.pane, m.shape = pane, shape }

// PaneSize is the room for what [Model.SetPane] has drawn, in columns and rows.
func (m *Model) PaneSize() (columns, rows int) {
	l := m.layout()
	if m.shape == stack.Wide {
		return m.width, m.headLines() + l.rows + l.height
	}
	return l.pane, l.height
}

// divided is how many columns the board and the pane beside it have.
func (m *Model) divided() (board, pane int) {
	percent := m.divide.Percent
	if percent == 0 {
		pane = max(m.width*42/100, min(leastTask, m.width/2))
		return m.width - pane - 1, pane
	}
	board = min(max(m.width*percent/100, 40), m.width-41)
	return board, m.width - board - 1
}

// beside tells whether the card stands beside the board.
func (m *Model) beside() bool { return m.width >= widest }

// moveDivide moves the divide, and remembers where it is.
func (m *Model) moveDivide(by int) tea.Cmd {
	board, _ := m.divided()
	percent := min(max((board*100+m.width/2)/max(m.width, 1)+by, 30), 75)
	m.divide.Percent = percent
	m.latest.Store(int64(percent))
	m.settle()
	path, notice, latest := layoutFile(m.ws), m.s.Notice, m.latest
	return m.s.Run(func() tea.Msg {
		var d divide
		// Whichever of several is written last writes where the divide is then.
		if err := statefile.Change(path, &d, func() { d.Percent = int(latest.Load()) }); err != nil {
			notice("the divide is not remembered: " + err.Error())
		}
		return nil
	})
}

// paneRows is how much of the place the card takes below the board.
func (m *Model) paneRows() int { return stack.CardRows(m.height) }

// boardRows is how many lines of the board are shown at once.
func (m *Model) boardRows() int {
	l := m.layout()
	return l.rows * l.columns
}

// View draws what stands above the board, the board, the card or what stands in its place, and
// the live links.
func (m *Model) View() []string {
	l := m.layout()
	if m.shape == stack.Wide {
		return m.withStrip(upTo(m.pane(), m.headLines()+l.rows+l.height))
	}
	lines := upTo(m.head(), m.headLines())
	if !l.beside {
		lines = append(lines, upTo(m.viewBoard(l), l.rows)...)
		return m.withStrip(append(lines, m.viewPane(l)...))
	}
	board, pane := upTo(m.viewBoard(l), l.rows), m.viewPane(l)
	rule := m.s.Theme.Rule.Render("│")
	width := m.width - l.pane - 1
	for i := range board {
		lines = append(lines, fit.Pad(board[i], width)+rule+pane[i])
	}
	return m.withStrip(lines)
}

// withStrip puts the strip of links below, where there are any.
func (m *Model) withStrip(lines []string) []string {
	if strip := m.strip(); strip != "" {
		lines = append(lines, strip)
	}
	return lines
}

// viewPane draws the card, or what stands in its stead.
func (m *Model) viewPane(l layout) []string {
	if m.pane != nil {
		return upTo(m.pane(), l.height)
	}
	return upTo(m.card(l), l.height)
}

// head is what stands above the board: what needs the person, a mistake of the file, and what is
// looked for.
func (m *Model) head() []string {
	t := m.s.Theme
	lines := m.viewNeeds()
	if p := m.problem(); p != "" {
		lines = append(lines, " "+t.Mark(gate.Shut)+" "+fit.Cut(p, m.width-4))
	}
	if m.find.on {
		lines = append(lines, m.findLine())
	}
	return lines
}

// viewBoard draws the sessions, in as many columns as the layout has.
func (m *Model) viewBoard(l layout) []string {
	lines, _ := m.boardLines(l)
	if l.columns == 1 {
		return lines
	}
	out := make([]string, 0, l.rows)
	for row := range min(l.rows, len(lines)) {
		var cells []string
		for c := 0; c < l.columns && c*l.rows+row < len(lines); c++ {
			cells = append(cells, fit.Pad(lines[c*l.rows+row], l.width))
		}
		out = append(out, strings.Join(cells, " "))
	}
	return out
}

// upTo makes lines exactly n.
func upTo(lines []string, n int) []string {
	for len(lines) < n {
		lines = append(lines, "")
	}
	return lines[:n]
}

// Line is the chosen session and how it stands in a sentence, for a window that has room for no more; "" for none.
func (m *Model) Line() string {
	name := m.Selected()
	s, ok := m.s.Board.State(name)
	if !ok || s.Details == nil {
		return name
	}
	if s.Running != nil {
		return name + ": connected"
	}
	if g, at := s.Details.Report.Worst(); at >= 0 && g.Verdict >= gate.Ajar {
		return fmt.Sprintf("%s: %s: %s", name, g.Kind, g.Reason)
	}
	return name + ": " + s.Details.Report.Word()
}
