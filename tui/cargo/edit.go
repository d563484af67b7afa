package cargo

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/cargo"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/scroll"
)

// edited is a message of a file that is edited.
type edited struct {
	editing *work.Editing
	ready   bool   // the copy is there, the editor can begin
	ended   bool   // the editor has ended
	err     error  // why it could not be begun, or sent
	follow  func() // ends the sending of saves
}

// clash is a save that met another's change.
type clash struct {
	editing *work.Editing
	*cargo.Conflict
	lines []cargo.DiffLine
	at    scroll.Cursor
}

// edit has the chosen file edited as a private copy.
func (m *Model) edit() tea.Cmd {
	l, n := m.look, m.node()
	at := cargo.Place{Session: l.session, Path: l.last.There}.Under(n.Path())
	tools, notice := m.s.Tools(), m.s.Notice
	m.s.Tell("reading " + cargo.Say(n.Path()) + " …")
	return m.s.Run(func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		e, err := tools.Edit(ctx, at, func(e cargo.Event) {
			switch {
			case e.Err != nil:
				notice(cargo.Say(e.Path) + ": " + e.Err.Error())
			case e.Say != "":
				notice(e.Say)
			}
		})
		return edited{editing: e, ready: err == nil, err: err}
	})
}

// edited takes what became of a file that is edited.
func (m *Model) edited(msg edited) tea.Cmd {
	switch {
	case msg.editing == nil:
		m.s.Tell(msg.err.Error())
		return nil
	case msg.ready:
		m.s.Tell("")
		return m.runEditor(msg.editing)
	case msg.ended:
		return m.s.Run(func() tea.Msg {
			msg.follow()
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			return edited{editing: msg.editing, err: msg.editing.Save(ctx)}
		})
	}
	if held := msg.editing.Held(); held != nil {
		m.clash = &clash{editing: msg.editing, Conflict: held, lines: cargo.Lines(held.Theirs, held.Mine)}
		return nil
	}
	return m.closeEdit(msg.editing, msg.err)
}

// runEditor gives the terminal to the person's editor. Saves go back while it runs.
func (m *Model) runEditor(e *work.Editing) tea.Cmd {
	command, err := work.Editor(e.Copy())
	if err != nil {
		return m.closeEdit(e, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		e.Follow(ctx)
	}()
	return m.s.Exec(command, func(err error) tea.Msg {
		return edited{editing: e, ended: true, err: err, follow: func() {
			cancel()
			<-done
		}}
	})
}

// closeEdit puts the copy away and tells what came of it.
func (m *Model) closeEdit(e *work.Editing, err error) tea.Cmd {
	m.clash = nil
	sends := e.Sends()
	close := m.s.Run(func() tea.Msg {
		kept, cerr := e.Close()
		switch {
		case kept != "" && err != nil:
			m.s.Notice("not sent: " + err.Error() + "; your text is kept in " + kept)
		case kept != "":
			m.s.Notice("your text is kept in " + kept)
		case err != nil:
			m.s.Notice(err.Error())
		case cerr != nil:
			m.s.Notice(cerr.Error())
		case sends == 0:
			m.s.Notice(e.Place.Path + " is as it was")
		default:
			m.s.Notice(e.Place.Path + ": " + words.Count(sends, "save") + " went back")
		}
		return nil
	})
	if sends > 0 {
		return tea.Batch(close, m.reread())
	}
	return close
}

func (m *Model) clashTable() action.Table {
	c := m.clash
	return action.Table{
		action.On("up down", "the lines", nil).Ranked(action.Movement),
		action.On("right", "overwrite the remote file", m.overwrite).Also("overwrite force"),
		action.On("left", "keep the remote file, and mine as a copy here", func() tea.Cmd { return m.closeEdit(c.editing, nil) }).Also("discard"),
		action.On("e", "continue editing", func() tea.Cmd { m.clash = nil; return m.runEditor(c.editing) }),
		action.On("esc ctrl+c", "keep the remote file, and mine as a copy here", func() tea.Cmd { return m.closeEdit(c.editing, nil) }).Ranked(action.Hidden),
	}
}

// overwrite has what was typed here take the place of what another wrote there, at the second press.
func (m *Model) overwrite() tea.Cmd {
	e := m.clash.editing
	do := func() tea.Cmd {
		return m.s.Run(func() tea.Msg {
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			return edited{editing: e, err: e.Overwrite(ctx)}
		})
	}
	return m.s.Confirm(place.Confirm{Subject: m.clash.Path, Say: "what another wrote is replaced, and kept aside for a week: press → again", Do: do})
}

// clashView draws both texts as the lines that differ.
func (m *Model) clashView() []string {
	t, c := m.s.Theme, m.clash
	lines := []string{t.Title(t.Accent.Render("cargo")+t.Rule.Render(" ─ ")+t.Strong.Render(cargo.Say(c.Path)), t.Verdict(gate.Ajar).Render("changed on both sides"), m.width, fit.Spread)}
	say := "While you edited the file, someone else changed it. " + t.Strong.Render("◁ theirs") + " and " + t.Strong.Render("▷ yours") + ", where they differ:"
	if c.Gone {
		say = "While you edited the file, it was removed there. This is yours:"
	}
	lines = append(lines, fit.Hang("   "+say, 3, m.width-1).Whole...)
	lines = append(lines, "")
	room := max(m.height-len(lines), 3)
	from, to := c.at.Window(len(c.lines), room)
	for _, d := range c.lines[from:to] {
		text := fit.Cut(sanitize.Code(d.Text, 1000), m.width-7)
		switch d.Mark {
		case '-':
			text = t.Verdict(gate.Shut).Render(" ◁  " + text)
		case '+':
			text = t.Verdict(gate.Open).Render(" ▷  " + text)
		case '…':
			text = t.Rule.Render(" ┄┄")
		default:
			text = t.Faint.Render("    " + text)
		}
		lines = append(lines, "  "+text)
	}
	return lines
}
