// Package sheet is the session sheet: every value of a session with where it
// comes from and what it would be without it, edited in place; and beside it the
// sheets of the likes, the site and the defaults it takes values from. Each
// accepted change is saved by itself; there is no unsaved state.
package sheet

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
	"meatus/tui/undo"
)

// The messages of the task's own: why a value was not taken, and that one was.
type (
	refused struct {
		err     error
		editing bool // what was being typed when it was not taken
		naming  string
	}
	changed struct {
		say  string
		show string // the session to show now, "" for the same
	}
)

// Model is the sheet.
type Model struct {
	stack.Base
	s       *place.Services
	ws      *workspace.Workspace
	session string     // whose sheet was asked for
	at      book.Table // the table that shows: the session, or one it takes values from
	rows    *list.List[string, row]
	whole   map[string]bool // the parts that are shown whole
	kept    map[string]bool // the settings that were edited here, and stay in sight
	editing bool
	naming  string // what a name is asked for: "rename", "copy" or "add", else ""
	remove  bool   // removing is asked about
	began   string // the value when editing it began
	input   *line.Line
	note    string
	bad     bool    // the note is a refusal
	last    refused // how to go on with what is being taken, where it is not
	undo    undo.Undo
}

// New returns the sheet of a session.
func New(s *place.Services, session string) stack.Layer {
	m := &Model{s: s, ws: s.Workspace(), input: line.New(s.Theme, ""), rows: list.New(func(r row) string { return r.key + r.part }), whole: map[string]bool{}, kept: map[string]bool{}}
	m.undo = undo.Undo{S: s, Of: func() string { return m.session }, Tell: func(say string) { m.note, m.bad = say, false }, Do: m.edited, Keys: [2]string{undoKey, redoKey}}
	m.open(session)
	return m
}

// Rename returns the sheet of a session with its new name asked for, Another with the name of a
// copy, and Remove with removing it asked about.
func Rename(s *place.Services, session string) stack.Layer {
	m := New(s, session).(*Model)
	m.ask("rename", session)
	return m
}

// At returns the sheet of a session at one of its values.
func At(s *place.Services, session, field string) stack.Layer {
	m := New(s, session).(*Model)
	m.show(field)
	return m
}

// Another is described at [Rename].
func Another(s *place.Services, session string) stack.Layer {
	m := New(s, session).(*Model)
	m.ask("copy", session+"-2")
	return m
}

// Remove is described at [Rename].
func Remove(s *place.Services, session string) stack.Layer {
	m := New(s, session).(*Model)
	m.askRemove()
	return m
}

// Subject is the table that shows.
func (m *Model) Subject() string { return m.at.Name }

// open shows the sheet of another session.
func (m *Model) open(session string) {
	m.session, m.at = session, book.Table{Layer: book.InSession, Name: session}
	m.lay()
}

// setWorkspace shows another reading of the workspace. A sheet whose session is gone is
// put away.
func (m *Model) setWorkspace(c engine.Changed) {
	m.ws = c.Workspace
	if !c.Ours && c.Say != "" { // an estate that was read says nothing of what was just saved
		m.note, m.bad = c.Say, false
	}
	if m.ws.Book.Session(m.session) == nil {
		if !c.Ours || m.ws.Book.Session(c.Session) == nil {
			m.s.Close()
			m.s.Tell(c.Say)
			return
		}
		m.open(c.Session) // it has another name now
	}
	if _, ok := m.ws.Book.Own(m.at); !ok && m.at.Layer != book.InSession {
		m.open(m.session)
	}
	m.lay()
	if now, _ := m.text(m.field()); m.editing && now != m.began {
		m.note = fmt.Sprintf("%s became %q outside Meatus: enter overwrites it, esc keeps it", m.field(), now)
	}
}

// row is a setting, or what a part folds away: the settings that are not set.
type row struct {
	key    string
	part   string   // of what is folded away, else ""
	folded []string // the settings that are folded away
}

func (r row) is(other row) bool { return r.key == other.key && r.part == other.part }

// lay lays out the rows: of each part the settings that are set or basic, and one for the others.
func (m *Model) lay() {
	var rows []row
	for _, part := range book.Parts {
		var folded []string
		for _, key := range book.Explained(m.at.Layer) {
			e, _ := book.Explain(key)
			if e.Part != part {
				continue
			}
			if text, origin := m.text(key); e.Basic || m.whole[part] || m.kept[key] || text != "" && origin.Layer() != book.BuiltIn {
				rows = append(rows, row{key: key})
			} else {
				folded = append(folded, key)
			}
		}
		if len(folded) > 0 {
			rows = append(rows, row{part: part, folded: folded})
		}
	}
	m.rows.Set(rows)
}

// show chooses a setting, also where it is folded away.
func (m *Model) show(field string) {
	m.kept[field] = true
	m.lay()
	m.rows.Select(field)
}

// field is the chosen setting, or "".
func (m *Model) field() string {
	r, _ := m.rows.Selected()
	return r.key
}

// unfold shows the settings of the chosen part that are not set.
func (m *Model) unfold() {
	if r, _ := m.rows.Selected(); r.part != "" {
		m.whole[r.part] = true
		m.lay()
		m.rows.Select(r.folded[0])
	}
}

// showAll shows all settings, or folds those away that are not set.
func (m *Model) showAll() {
	all := len(m.whole) == len(book.Parts)
	clear(m.whole)
	if !all {
		for _, part := range book.Parts {
			m.whole[part] = true
		}
	}
	m.lay()
}

// text is what the table has for a key, and where that is from.
func (m *Model) text(key string) (string, book.Origin) {
	if m.at.Layer == book.InSession {
		s := m.ws.Book.Session(m.session)
		if s == nil {
			return "", book.Origin{}
		}
		return s.Text(key)
	}
	if key == "name" {
		return m.at.Name, book.From(book.InLike, "")
	}
	own, _ := m.ws.Book.Own(m.at)
	if value, origin := own.Text(key); origin.Layer() != book.BuiltIn {
		return value, origin
	}
	return "", book.Origin{}
}

// next shows the next of the tables the session takes values from.
func (m *Model) next(by int) tea.Cmd {
	tables := m.ws.Book.Tables(m.session)
	at := (max(slices.Index(tables, m.at), 0) + by + len(tables)) % len(tables)
	m.at, m.note, m.bad = tables[at], "", false
	m.rows.Restart()
	m.lay()
	return nil
}

// Typing tells whether keys go into a value or a name.
func (m *Model) Typing() bool { return m.editing || m.naming != "" }

// Table is what can be done.
func (m *Model) Table() action.Table {
	do := func(f func()) func() tea.Cmd { return func() tea.Cmd { f(); return nil } }
	switch {
	case m.Typing():
		return action.Table{
			action.On("enter", "save", m.typed),
			action.On("tab", "complete the query", m.complete).If(func() bool { return len(m.offers()) > 0 }, "no completion").Suits(func() bool { return len(m.offers()) > 0 }),
			action.On("esc ctrl+c", "cancel", do(func() { m.editing, m.naming, m.note = false, "", "" })),
		}
	case m.remove:
		return action.Table{action.On("enter", "remove "+m.at.String(), m.removeIt), action.On("esc", "cancel", do(m.keepIt))}
	}
	in := m.at.Layer
	move := func(key string) func() tea.Cmd {
		return do(func() { m.rows.Take(tea.KeyPressMsg(moves[key])) })
	}
	return action.Table{
		action.On("up", "choose", move("up")).As("↑↓").Ranked(action.Movement),
		action.On("down", "", move("down")).Ranked(action.Hidden),
		action.On("pgup", "", move("pgup")).Ranked(action.Hidden),
		action.On("pgdown", "", move("pgdown")).Ranked(action.Hidden),
		action.On("enter", m.enters(), do(m.edit)).Also("change set edit value"),
		action.On("", "a new value", nil).As("type"),
		action.On("backspace delete", "restore inheritance", m.inherit).Also("unset clear default remove value"),
		action.On("esc ctrl+c", "close", do(m.s.Close)),
		action.On(undoKey, "undo", m.undo.Back).Whole(),
		action.On(redoKey, "redo", m.undo.Again).Whole().Also("redo").Ranked(action.InHelp),
		action.On("ctrl+a", "show all settings", do(m.showAll)).Also("unfold expand every hidden more options"),
		action.On("tab", "site and patterns", func() tea.Cmd { return m.next(1) }).Also("defaults inherit from"),
		action.On("shift+tab", "", func() tea.Cmd { return m.next(-1) }).Ranked(action.Hidden),
		action.On("ctrl+r", "rename", do(func() { m.ask("rename", m.at.Name) })).If(func() bool { return in == book.InSession || in == book.InSite }, "only sessions and sites can be renamed"),
		action.On("ctrl+o", "copy the session", do(func() { m.ask("copy", m.session+"-2") })).If(func() bool { return in == book.InSession }, "only sessions can be copied").Also("copy duplicate clone"),
		action.On("ctrl+d", "remove", do(m.askRemove)).If(func() bool { return in != book.InDefaults }, "the defaults cannot be removed").Also("delete"),
		action.On("ctrl+n", "new site or pattern", do(func() { m.ask("add", "site ") })).Whole().Also("add group like"),
	}
}

// The keys of undoing in the sheet, where letters begin a value.
const (
	undoKey = "ctrl+z"
	redoKey = "ctrl+y"
)

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case refused:
		m.note, m.bad = msg.err.Error(), true
		if !m.Typing() { // what was typed is there to be put right
			m.editing, m.naming = msg.editing, msg.naming
		}
	case changed:
		m.note, m.bad = msg.say, false
		if msg.show != "" {
			m.open(msg.show)
		}
	case undo.Looked:
		return m.undo.Take(msg)
	case place.Heard:
		if c, ok := msg.Event.(engine.Changed); ok {
			m.setWorkspace(c)
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		switch {
		case m.Typing():
			m.input.Take(msg)
			if m.editing && m.field() == "instance" {
				m.note, m.bad = sanitize.Line(estate.Offered(m.offers(), 10), 300), false
			}
		case m.remove:
			m.keepIt()
		default:
			m.begin(msg)
		}
	}
	return nil
}

// begin has what is typed or pasted take the place of the value at the cursor.
func (m *Model) begin(msg tea.Msg) {
	if key, ok := msg.(tea.KeyPressMsg); ok && strings.TrimSpace(key.Text) == "" {
		return
	}
	if m.field() == "" {
		return
	}
	m.edit()
	m.input.Begin("")
	m.input.Take(msg)
}

// offers are what the query of an instance that is typed can become.
func (m *Model) offers() []string {
	if !m.editing || m.field() != "instance" || m.input.Text() == "" {
		return nil
	}
	return estate.Complete(m.input.Text(), m.ws.Estates)
}

// complete has the query that is typed go on as it can.
func (m *Model) complete() tea.Cmd {
	m.input.Begin(estate.Completed(m.input.Text(), m.offers()))
	m.note, m.bad = sanitize.Line(estate.Offered(m.offers(), 10), 300), false
	return nil
}

// enters says what enter does to the chosen row.
func (m *Model) enters() string {
	if m.field() == "" {
		return "show settings that are not set"
	}
	return "edit " + m.field()
}

// edit begins to edit the chosen value, or shows what is folded away.
func (m *Model) edit() {
	if m.field() == "" {
		m.unfold()
		return
	}
	m.kept[m.field()] = true
	value, origin := m.text(m.field())
	m.began = value
	if origin.Layer() != m.at.Layer {
		value = ""
	}
	m.editing, m.note = true, ""
	m.input.Begin(value)
}

// inherit gives a value of the table's own up.
func (m *Model) inherit() tea.Cmd {
	if _, origin := m.text(m.field()); m.field() != "" && origin.Layer() == m.at.Layer && m.field() != "name" {
		m.kept[m.field()] = true
		return m.save("")
	}
	return nil
}

// ask asks for a name.
func (m *Model) ask(what, proposed string) {
	m.naming, m.note, m.bad = what, "", false
	m.input.Begin(proposed)
}

func (m *Model) askRemove() {
	if m.at.Layer == book.InSession && len(m.ws.Book.Careful(m.session)) > 0 {
		m.ask("remove", "")
		m.note = m.session + " is marked careful: type its name to remove it"
		return
	}
	m.remove, m.bad = true, false
	m.note = fmt.Sprintf("remove %s? enter removes it, any other key cancels", m.at)
}

func (m *Model) keepIt() { m.remove, m.note = false, "" }

func (m *Model) removeIt() tea.Cmd {
	m.keepIt()
	at := m.at
	return m.write("removed "+at.String(), "", func(path string) (*book.Book, error) {
		if at.Layer == book.InSession {
			return book.Remove(path, at.Name)
		}
		return book.RemoveTable(path, at)
	})
}

// typed takes the value or the name that was typed.
func (m *Model) typed() tea.Cmd {
	what, name, old, at := m.naming, m.input.Text(), m.session, m.at
	m.last = refused{editing: m.editing, naming: m.naming}
	defer func() { m.last = refused{} }()
	m.editing, m.naming = false, ""
	return m.take(what, name, old, at)
}

// take does what was typed.
func (m *Model) take(what, name, old string, at book.Table) tea.Cmd {
	switch {
	case what == "rename" && at.Layer == book.InSite:
		return m.write("renamed "+at.String()+" to "+name, "", func(path string) (*book.Book, error) { return book.RenameSite(path, at.Name, name) })
	case what == "remove" && strings.TrimSpace(name) != at.Name:
		m.note, m.bad, m.naming = fmt.Sprintf("the name is not %s; nothing was removed", at.Name), true, ""
		return nil
	case what == "remove":
		return m.removeIt()
	case what == "add":
		return m.add(name)
	case what == "rename":
		return m.write("renamed "+old+" to "+name, name, func(path string) (*book.Book, error) { return book.Rename(path, old, name) })
	case what == "copy":
		return m.write("copied "+old+" to "+name, name, func(path string) (*book.Book, error) { return book.Copy(path, old, name) })
	}
	return m.save(name)
}

// save writes one value; "" gives it up for the inherited one.
func (m *Model) save(value string) tea.Cmd {
	at, key := m.at, m.field()
	if key == "name" && m.at.Layer == book.InLike {
		m.at.Name = value
	}
	say := key + " is saved"
	if at.Layer != book.InSession {
		say = fmt.Sprintf("%s of %s is saved", key, at)
	}
	return m.write(say, "", func(path string) (*book.Book, error) { return book.SetIn(path, at, key, value) })
}

// add writes a new "site NAME" or "like PATTERN".
func (m *Model) add(what string) tea.Cmd {
	kind, name, _ := strings.Cut(strings.TrimSpace(what), " ")
	layer, ok := map[string]book.Layer{"site": book.InSite, "like": book.InLike}[kind]
	if name = strings.TrimSpace(name); !ok || name == "" {
		m.note, m.bad, m.naming = `write "site NAME" or "like PATTERN"`, true, "add"
		return nil
	}
	return m.write("added "+what, "", func(path string) (*book.Book, error) {
		return book.AddTable(path, book.Table{Layer: layer, Name: name})
	})
}

// write does one edit of the file. show is the session to show then, "" for the
// same.
func (m *Model) write(say, show string, edit func(path string) (*book.Book, error)) tea.Cmd {
	if s := m.ws.Book.Session(m.session); s != nil && m.at.Layer == book.InSession {
		if err := s.Written(); err != nil {
			m.note, m.bad, m.naming, m.editing = err.Error(), true, "", false
			return nil
		}
	}
	path, session, adopt, record, last := m.ws.SessionsPath(), m.session, m.s.Adopt, m.s.Record, m.last
	if show != "" {
		session = show
	}
	return m.s.Run(func() tea.Msg {
		b, err := edit(path)
		if b == nil {
			last.err = err
			return last
		}
		if err != nil {
			say = err.Error()
		}
		if b.Session(session) == nil {
			session = ""
		}
		adopt(b, session, say)
		record(trail.Entry{Kind: trail.Edit, Session: session, Say: say})
		return changed{say, show}
	})
}

// edited has an edit taken back or done again.
func (m *Model) edited(edit func(path string) (string, *book.Book, error)) tea.Cmd {
	return m.write("", "", func(path string) (*book.Book, error) {
		what, b, err := edit(path)
		if b != nil {
			err = errors.Join(errors.New(what), err) // it is said
		}
		return b, err
	})
}

// View draws the sheet in height lines.
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t := m.s.Theme
	s := m.ws.Book.Session(m.session)
	if s == nil {
		return nil
	}
	far := m.ws.Book.Far(m.session)
	note := t.Faint.Render("each change is saved by itself")
	if m.note != "" {
		note = t.Accent.Render(m.note)
	}
	if m.bad {
		note = ""
	}
	lines := []string{t.Title(m.title(width), note, width, fit.Spread)}
	if m.naming != "" {
		word := map[string]string{"add": "add ", "remove": "name, to confirm: "}[m.naming]
		if word == "" {
			word = m.naming + " to "
		}
		lines = append(lines, "   "+t.Accent.Render(word)+m.input.View(40))
	}
	about := m.about(width)
	if m.Rows < 2*len(about)+5 { // the settings come first
		about = about[:min(len(about), m.Rows/4)]
	}
	room := max(height-len(lines)-len(about)-1, 1)
	m.rows.SetRoom(room)
	first, _ := m.rows.Window()
	list, below := m.rows.Rows(room, func(r row, chosen bool) fit.Row {
		return m.drawRow(r, chosen, r.is(m.rows.All()[first]), &far, width)
	})
	lines = append(lines, list...)
	for len(lines)+len(about)+1 < height {
		lines = append(lines, "")
	}
	more := ""
	if below > 0 {
		more = t.Faint.Render(fmt.Sprintf("%d more below", below))
	}
	about = append([]string{t.Title(t.Strong.Render(m.chosen()), more, width, fit.Spread)}, about...)
	lines = append(lines, about...)
	return lines[:min(len(lines), height)]
}

// about is what stands beneath the settings: what is wrong, else what the chosen setting does.
func (m *Model) about(width int) []string {
	t, s := m.s.Theme, m.ws.Book.Session(m.session)
	var lines []string
	switch {
	case m.bad:
		for _, l := range fit.Wrap(m.note, width-8) {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(l))
		}
	case s.Broken != nil:
		for _, l := range fit.Wrap(s.Broken.Error(), width-8) {
			lines = append(lines, "   "+t.Mark(gate.Shut)+" "+l)
		}
	default:
		lines = m.explained(width)
	}
	return lines
}

// chosen is the name of the chosen setting, or of the part whose settings are folded away.
func (m *Model) chosen() string {
	r, _ := m.rows.Selected()
	return r.key + r.part
}

// explained says what the chosen setting does, what it can be, and where its value is from.
func (m *Model) explained(width int) []string {
	t := m.s.Theme
	r, _ := m.rows.Selected()
	e, ok := book.Explain(r.key)
	if !ok {
		return []string{" " + fit.Cut("Settings that are not set: the built-in values apply.", width-1), "", ""}
	}
	values := "values: " + book.HintOf(r.key)
	if e.Example != "" {
		values += "   example: " + e.Example
	}
	lines := fit.Hang(" "+e.Says, 1, width).Whole
	lines = append(lines, " "+t.Faint.Render(fit.Cut(values, width-2)))
	if text, origin := m.text(r.key); text != "" && len(lines) < 3 {
		from := "from " + origin.String()
		if origin.Layer() == book.BuiltIn {
			from = origin.String()
		}
		lines = append(lines, " "+t.Faint.Render(fit.Cut("value: "+text+", "+from, width-2)))
	}
	for len(lines) < 3 {
		lines = append(lines, "")
	}
	return lines
}

// saying is what is said of the value that is edited: what is wrong with it, else what it can be.
func (m *Model) saying() string {
	key := m.field()
	if wrong := m.ws.Book.WrongValue(m.at.Layer, key, m.input.Text()); wrong != "" {
		return m.s.Theme.Verdict(gate.Shut).Render("╰ " + wrong)
	}
	return m.s.Theme.Faint.Render(book.HintOf(key))
}

// valueWidth is how wide the values are drawn: as the longest of them, with room for one that is
// typed and for where they are from.
func (m *Model) valueWidth(width int) int {
	longest := 24
	for _, r := range m.rows.All() {
		if r.key != "" {
			text, _ := m.text(r.key)
			longest = max(longest, fit.Width(text)+2)
		}
	}
	if m.editing {
		longest = max(longest, 40)
	}
	return max(min(longest, width-44-partWidth), 20)
}

// partWidth is the width of the column with the names of the parts.
const partWidth = 17

// drawRow draws one setting, and beside it where its value is from or, while it is edited, what it can be.
func (m *Model) drawRow(r row, chosen, first bool, far *book.Session, width int) fit.Row {
	t, key := m.s.Theme, r.key
	part := ""
	if first || m.begins(r) {
		part = m.partOf(r)
	}
	margin := " " + t.Accent.Render(fit.Pad(part, partWidth)) + " "
	if r.part != "" {
		text := fmt.Sprintf("%d not set: %s", len(r.folded), strings.Join(r.folded, ", "))
		if chosen {
			return fit.Row{Line: fit.Cut(margin+t.Accent.Render(theme.Chosen+" ")+text, width)}
		}
		return fit.Row{Line: fit.Cut(margin+"  "+t.Faint.Render(text), width)}
	}
	room := m.valueWidth(width)
	text, origin := m.text(key)
	head := margin + "  " + t.Faint.Render(fit.Pad(key, 11)) + " "
	if chosen {
		head = margin + t.Accent.Render(theme.Chosen+" ") + t.Strong.Render(fit.Pad(key, 11)) + " "
	}
	if chosen && m.editing {
		line, say := head+fit.Pad(m.input.View(room-2), room)+" ", m.saying()
		if fit.Width(line)+fit.Width(say) <= width {
			return fit.Row{Line: line + say, Whole: []string{line + say}}
		}
		whole := []string{line}
		for _, l := range fit.Wrap(say, max(width-fit.Width(head)-1, 20)) {
			whole = append(whole, strings.Repeat(" ", fit.Width(head))+l)
		}
		return fit.Row{Line: line, Whole: whole}
	}
	style, from := t.Text, t.Faint.Render("from "+origin.String())
	if origin.Layer() == book.BuiltIn {
		from = t.Faint.Render(origin.String())
	}
	if key == "keepalive" {
		from += t.Faint.Render(cost(text))
	}
	switch {
	case text == "":
		text, style, from = "–", t.Faint, ""
	case origin.Layer() == m.at.Layer:
		style, from = t.Strong, m.without(far, key)
		if key == "keepalive" {
			from += t.Faint.Render(strings.TrimPrefix(cost(text), "; "))
		}
	}
	return fit.Columns(head, style.Render(text), room, from, width)
}

// partOf is the part that a row is shown in.
func (m *Model) partOf(r row) string {
	e, _ := book.Explain(r.key)
	return r.part + e.Part
}

// begins tells whether a row is the first of its part.
func (m *Model) begins(r row) bool {
	all := m.rows.All()
	i := slices.IndexFunc(all, func(other row) bool { return other.is(r) })
	return i <= 0 || m.partOf(all[i-1]) != m.partOf(r)
}

// moves are the keys that move in the list.
var moves = map[string]tea.Key{"up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "pgup": {Code: tea.KeyPgUp}, "pgdown": {Code: tea.KeyPgDown}}

// keepaliveBytes is about what one keepalive and its answer take on the wire, with
// the headers of TCP and IP.
const keepaliveBytes = 250

// cost says what a keepalive costs.
func cost(every string) string {
	d, err := time.ParseDuration(every)
	if err != nil || d <= 0 {
		return ""
	}
	return fmt.Sprintf("; costs %s an hour", words.Bytes(keepaliveBytes*float64(time.Hour)/float64(d)))
}

// title names the table that shows, and the others that can.
func (m *Model) title(width int) string {
	t := m.s.Theme
	kind := map[book.Layer]string{book.InSession: "session sheet", book.InSite: "site sheet", book.InLike: "like sheet", book.InDefaults: "defaults"}[m.at.Layer]
	title := t.Accent.Render(kind) + t.Rule.Render(" ─ ")
	if m.at.Layer == book.InSession {
		return title + t.Strong.Render(m.session)
	}
	members := m.ws.Book.Members(m.at)
	title += t.Strong.Render(m.at.Name) + t.Faint.Render(fmt.Sprintf(" gives values to %d", len(members)))
	if len(members) > 0 {
		title += t.Faint.Render(": " + fit.Cut(strings.Join(members, ", "), max(width/3, 10)))
	}
	return title
}

// without says what a value of the session's own hides.
func (m *Model) without(far *book.Session, key string) string {
	if m.at.Layer != book.InSession {
		return ""
	}
	text, origin := far.Text(key)
	if text == "" || origin.Layer() == m.at.Layer {
		return ""
	}
	return m.s.Theme.Faint.Render(fmt.Sprintf("without it %s, %s", text, origin))
}
