package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/core/words"
	"meatus/tui/action"
	"meatus/tui/finder"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/shells"
	"meatus/tui/stack"
	"meatus/tui/switcher"
)

// layer is the topmost layer of a type, nil where the stack has none.
func layer[T stack.Layer](s *stack.Stack) (found T) {
	for _, l := range s.Layers() {
		if l, ok := l.(T); ok {
			found = l
		}
	}
	return found
}

// shellLayer has the shells that show take the input.
type shellLayer struct {
	stack.Base
	a *App
}

func (l *shellLayer) Shape() stack.Shape         { return stack.Window }
func (l *shellLayer) Table() action.Table        { return nil }
func (l *shellLayer) Typing() bool               { return true }
func (l *shellLayer) Update(msg tea.Msg) tea.Cmd { return l.a.shellWish(l.a.shell.Update(msg)) }

// View draws the shells; the cursor is the frame's (see [App.View]).
func (l *shellLayer) View() []string {
	lines, _ := l.a.shell.View(l.a.waiting(), l.a.roundTrip())
	return lines
}

// questionLayer has the question that waits take the input.
type questionLayer struct {
	stack.Base
	a    *App
	from *shells.Shell // the shell that it was gone to from, nil for none
}

func (l *questionLayer) Typing() bool { return true }

// Table names the keys, which the question takes by itself.
func (l *questionLayer) Table() action.Table {
	var t action.Table
	for _, h := range l.a.ask.Hints() {
		t = append(t, action.On(h.Key, h.Does, nil).As(h.Key))
	}
	return t
}

// Update gives the question what is typed or pasted. Where that answers it, what it was gone to from is gone back to by a
// key of its own: nothing that was meant for the question gets into a shell.
func (l *questionLayer) Update(msg tea.Msg) tea.Cmd {
	a := l.a
	turn := a.ask.Turn()
	if a.ask.Update(msg); a.ask.Turn() == turn {
		return nil
	}
	from := l.from
	cmd := a.nextQuestion()
	if from != nil && slices.Contains(a.open, from) && !a.stack.Has(l) {
		cmd = tea.Batch(cmd, a.stack.Push(&backLayer{a: a, to: from}))
	}
	return cmd
}

// Close leaves the question waiting, and forgets what was typed hidden.
func (l *questionLayer) Close() {
	l.from = nil
	l.a.ask.Wipe()
}

func (l *questionLayer) View() []string {
	l.a.ask.SetWidth(l.Columns)
	return l.a.ask.View(l.Rows, "")
}

// backLayer offers to go back, by enter, to the shell that a question was gone to from. Any other key stays, and does what
// it does.
type backLayer struct {
	stack.Base
	a  *App
	to *shells.Shell
}

func (l *backLayer) Typing() bool       { return true } // every key is its own
func (l *backLayer) Shape() stack.Shape { return stack.Dialog }
func (l *backLayer) View() []string     { return nil }
func (l *backLayer) Table() action.Table {
	return action.Table{action.On("enter", "go back", func() tea.Cmd {
		l.a.stack.Drop(l)
		if !slices.Contains(l.a.open, l.to) {
			return nil
		}
		return l.a.goTo(l.to)
	})}
}

func (l *backLayer) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		l.a.stack.Drop(l)
		return l.a.keyNow(msg)
	case tea.PasteMsg:
		l.a.stack.Drop(l)
		return l.a.paste(msg)
	}
	return nil
}

func (l *backLayer) Note() string {
	who, _ := l.to.Where()
	say := "enter goes back to " + who
	if l.a.notice != "" {
		say += " · " + l.a.notice
	}
	return say
}

// switchLayer is the way between the places and the live shells.
type switchLayer struct {
	stack.Base
	a *App
	*switcher.Model
}

func (l *switchLayer) Shape() stack.Shape { return stack.Drawer }
func (l *switchLayer) Typing() bool       { return false }
func (l *switchLayer) Table() action.Table {
	a := l.a
	return action.Table{
		action.On("esc ctrl+c", "stay", func() tea.Cmd { a.stack.Drop(l); return nil }),
		action.On(":", "find an action", func() tea.Cmd { return a.find("") }),
		action.On("?", "all keys", a.showHelp),
	}
}

func (l *switchLayer) Update(msg tea.Msg) tea.Cmd {
	key, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil
	}
	to, chosen := l.Model.Update(key)
	if !chosen {
		return nil
	}
	a := l.a
	a.stack.Drop(l)
	switch {
	case to.Answer:
		return a.answer()
	case to.At != "":
		return a.goToPlace(to.At, a.subjectFor(to.At))
	case to.Do != "":
		return a.shellAction(to.Do)
	}
	return a.goTo(to.Shell)
}

func (l *switchLayer) SetSize(columns, rows int) {
	l.Base.SetSize(columns, rows)
	l.SetWidth(columns)
}

func (l *switchLayer) View() []string {
	drawer := l.Model.View(max(l.Rows*2/3, 8), l.a.home.Summary())
	return append(drawer[:len(drawer)-1], l.a.keysLine(l.Hints(l.a.options.Leader)))
}

// findLayer is the finder over everything that can be done.
type findLayer struct {
	stack.Base
	a *App
	*finder.Model
}

func (l *findLayer) Shape() stack.Shape  { return stack.Drawer }
func (l *findLayer) Typing() bool        { return true }
func (l *findLayer) Table() action.Table { return nil }

func (l *findLayer) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.PasteMsg:
		l.Paste(msg)
	case tea.KeyPressMsg:
		chosen, done := l.Model.Update(msg)
		if done {
			l.a.stack.Drop(l)
		}
		if chosen != nil {
			return chosen.Do()
		}
	}
	return nil
}

func (l *findLayer) SetSize(columns, rows int) {
	l.Base.SetSize(columns, rows)
	l.Model.SetSize(columns, max(rows*2/3, 8))
}

func (l *findLayer) View() []string {
	return append(l.Model.View(), l.a.keysLine(l.Hints()))
}

// leaveLayer asks before leaving ends what is live.
type leaveLayer struct {
	stack.Base
	a *App
}

func (l *leaveLayer) Typing() bool       { return true } // every key is its own
func (l *leaveLayer) Shape() stack.Shape { return stack.Dialog }
func (l *leaveLayer) Table() action.Table {
	return action.Table{
		action.On("enter y", "end them and leave", func() tea.Cmd { return tea.Quit }),
		action.On("esc n q ctrl+c", "stay", func() tea.Cmd { l.a.stack.Drop(l); return nil }),
	}
}
func (l *leaveLayer) Update(tea.Msg) tea.Cmd { return nil }

func (l *leaveLayer) View() []string {
	a, t := l.a, l.a.theme
	lines := []string{t.Title(t.Accent.Render("leave"), "", a.width, fit.Spread), ""}
	n := a.liveShells()
	say := fmt.Sprintf("%d shells are live. Leaving ends them:", n)
	switch n {
	case 0:
		say = "Leaving ends this:"
		if a.engine.Jobs.Running() == 0 {
			say = "Quitting closes these local ports:"
		}
	case 1:
		say = "A shell is live. Leaving ends it:"
	}
	lines = append(lines, "   "+say)
	for _, job := range a.engine.Jobs.All() {
		if !job.Over() {
			lines = append(lines, "     "+t.Accent.Render("◜ ")+job.Title.What+" "+job.Title.Of)
		}
	}
	for _, f := range a.engine.Tunnels.Lines() {
		lines = append(lines, "     "+t.Live.Render("⇄ ")+f.Drawn()+t.Faint.Render("  "+words.Count(f.Live, "live flow")))
	}
	for _, s := range a.open {
		if s.Live() {
			who, way := s.Where()
			lines = append(lines, "     "+t.Live.Render("━ ")+who+t.Faint.Render("  "+way+"  "+s.LastLine()))
		}
	}
	for len(lines) < 12 {
		lines = append(lines, "")
	}
	return lines
}

// drawLayer asks whether a drawing is to leave private parts out.
type drawLayer struct {
	stack.Base
	a *App
	d place.Drawing
}

func (l *drawLayer) Typing() bool       { return true } // every key is its own
func (l *drawLayer) Shape() stack.Shape { return stack.Dialog }
func (l *drawLayer) View() []string     { return nil }
func (l *drawLayer) Table() action.Table {
	draw := func(private bool) func() tea.Cmd {
		return func() tea.Cmd { l.a.stack.Drop(l); return l.a.draw(l.d, private) }
	}
	return action.Table{action.On("enter", "with "+l.d.Private, draw(false)), action.On("p", "without", draw(true))}
}

// Update takes a key that draws nothing.
func (l *drawLayer) Update(msg tea.Msg) tea.Cmd {
	if _, key := msg.(tea.KeyPressMsg); key {
		l.a.stack.Drop(l)
	}
	return nil
}

func (l *drawLayer) Note() string {
	return fmt.Sprintf("draw %s: enter with %s, p without, esc not at all", l.d.Of, l.d.Private)
}

// brokenLayer takes the place of a part that a fault of this program has ended.
type brokenLayer struct {
	stack.Whole
	say string
	to  func() tea.Cmd // goes to Routes
}

func (l *brokenLayer) Table() action.Table {
	return action.Table{action.On("esc q ctrl+c enter", "to Routes", l.to)}
}
func (l *brokenLayer) Update(tea.Msg) tea.Cmd { return nil }
func (l *brokenLayer) View() []string {
	return fit.Wrap(l.say+". Shells, tunnels and jobs go on.", max(l.Columns-2, 10))
}
