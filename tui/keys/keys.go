// Package keys is the place of key files: each that is known, how it stands, and
// its sheet; and everything that is done with one.
package keys

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/draw"
	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The messages of the place's own: the keys there are, what became of something that was
// done, an opened password, and that it is time to look or to forget.
type (
	read struct {
		n      int // which of the readings it is
		sheets []sheet
	}
	done struct {
		say   string
		show  string // the path of the key that came of it, "" for the one that is selected
		moved workspace.Moved
		err   error
	}
	said     string
	unsealed struct {
		text []byte
		err  error
	}
	which struct {
		asked string
		fit   []workspace.Opens
	}
	forgetSecret struct{ n int }
	lookAgain    struct{}
	looked       struct{ stamp string }
)

// shownFor is how long an opened password is shown.
const shownFor = time.Minute

// arrivalEvery is how often the folders are looked at for new keys while the place
// shows, and allEvery how often all keys are read anew although none came.
const (
	arrivalEvery = 3 * time.Second
	allEvery     = 30 * time.Second
)

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	ws            *workspace.Workspace
	width, height int
	list          *list.List[string, sheet] // by their paths
	about         sheet                     // the key that the form is about
	arrived       string                    // the path of a key that landed in the download folder
	loaded        bool
	wanted        string       // the path of a key to select once it is read, or ""
	rotating      *work.Rotate // that waits for names to be typed
	shows         bool
	stamp         string    // of the folders, when they were looked at
	read          time.Time // when all keys were
	reads         int       // how often they were: only the last reading counts
	find          string
	form          *form.Form
	note          string
	which         []workspace.Opens // the answer to which key fits
	beside        bool              // the sheet stands beside the list
	early         string            // what was asked before the keys were read
	asked         string
	opened        []byte // a password, shown for a while
	opening       int    // counts them
}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, ws: s.Workspace(), list: list.New(func(k sheet) string { return k.Path })}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.list.SetRoom(m.room())
}

// Show reads the keys anew, and goes on looking for new ones while the place shows.
func (m *Model) Show() tea.Cmd {
	m.shows = true
	return m.readAll()
}

// Close is called when the place is left: what is shown for a while is wiped.
func (m *Model) Close() {
	m.form.Wipe()
	m.shows, m.form = false, nil
	m.forget()
}

// Typing tells whether keys go into a form.
func (m *Model) Typing() bool { return m.form != nil }

// Note is what is to be said at the foot.
func (m *Model) Note() string {
	if m.form != nil {
		return ""
	}
	return m.note
}

// readAll reads all keys anew.
func (m *Model) readAll() tea.Cmd {
	ws, held, logins := m.ws, m.s.Keys.Ring.Entries, m.s.Trail
	m.read = time.Now()
	m.reads++
	n := m.reads
	return tea.Batch(m.s.Run(func() tea.Msg { return read{n, sheets(ws, held(), logins)} }), m.tick())
}

// tick looks again after a time, once, while the place shows.
func (m *Model) tick() tea.Cmd {
	if !m.shows {
		return nil
	}
	return m.s.After(arrivalEvery, lookAgain{})
}

func (m *Model) selected() (workspace.Key, bool) {
	k, ok := m.list.Selected()
	return k.Key, ok
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case read:
		if msg.n != m.reads {
			return nil
		}
		m.take(msg.sheets)
		if m.early != "" {
			asked := m.early
			m.early = ""
			return m.whichKey(asked)
		}
	case lookAgain:
		if !m.shows {
			return nil
		}
		ws := m.ws
		return m.s.Run(func() tea.Msg { return looked{ws.KeysStamp()} })
	case looked:
		if msg.stamp != m.stamp || time.Since(m.read) > allEvery {
			m.stamp = msg.stamp
			return m.readAll()
		}
		return m.tick()
	case done:
		m.note = msg.words()
		if m.wanted = msg.show; m.wanted != "" {
			m.find = ""
			m.narrow()
		}
		return m.readAll()
	case said:
		m.note = string(msg)
	case which:
		m.showWhich(msg)
	case unsealed:
		return m.show(msg)
	case forgetSecret:
		if msg.n == m.opening {
			m.forget()
		}
	case place.Heard:
		if c, ok := msg.Event.(engine.Changed); ok {
			m.ws = c.Workspace
		}
	case tea.PasteMsg:
		if m.form == nil { // what is pasted is asked about
			return m.whichKey(msg.Content)
		}
		m.typed(msg)
	case tea.KeyPressMsg:
		m.note = ""
		if m.form != nil {
			m.typed(msg)
		} else {
			m.list.Take(msg)
		}
	}
	return nil
}

// words say what became of something that was done.
func (d done) words() string {
	switch {
	case d.err == nil:
		return d.say
	case d.say == "":
		return d.err.Error()
	}
	return d.say + ", but: " + d.err.Error()
}

// mouse moves with the wheel.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	m.list.Take(msg)
	return nil
}

// take takes the keys as they are now, and says what has newly arrived. The chosen one stays chosen.
func (m *Model) take(keys []sheet) {
	if m.loaded {
		for _, k := range keys {
			if _, known := m.list.Find(k.Path); !known && k.Source == workspace.Downloaded {
				m.arrived = k.Path
				m.note = sanitize.Name(k.Path) + " has arrived in the download folder; tab goes to it, and " + m.s.Press("mend") + " adopts it there"
			}
		}
	}
	m.list.Set(keys)
	m.loaded = true
	if m.wanted != "" && m.list.Select(m.wanted) {
		m.wanted = ""
	}
}

// toArrived goes to the key that landed in the download folder.
func (m *Model) toArrived() tea.Cmd {
	path := m.arrived
	m.arrived, m.find = "", ""
	m.narrow()
	m.list.Select(path)
	return nil
}

// narrow lists the keys with what is looked for.
func (m *Model) narrow() {
	find := strings.ToLower(m.find)
	if find == "" {
		m.list.Filter(nil)
		return
	}
	m.list.Filter(func(k sheet) bool {
		text := strings.Join(append(append([]string{k.Path, k.Sheet.Comment, k.Sheet.Kind, k.Sheet.SHA256}, k.Uses...), k.States()...), " ")
		return strings.Contains(strings.ToLower(text), find)
	})
}

// room is how many keys fit.
func (m *Model) room() int {
	if _, _, beside := place.Halves(m.width); beside {
		return max(m.height-2, 4)
	}
	return max(m.height-21, 4)
}

// in is the place as it is drawn in so many columns.
func (m *Model) in(width int) *Model {
	c := *m
	c.width = width
	return &c
}

// Select moves to the key file of a path, once the keys are read.
func (m *Model) Select(path string) {
	if filepath.IsAbs(path) {
		m.wanted = path
	}
}

// Subject is the key that is chosen.
func (m *Model) Subject() string {
	k, ok := m.selected()
	if !ok {
		return ""
	}
	return sanitize.Name(k.Path)
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.form != nil {
		return m.form.Table(m.answered, m.left)
	}
	k, ok := m.selected()
	any := func() bool { return ok }
	name := sanitize.Name(k.Path)
	var unlock []form.Step
	if k.Sheet.Passphrase {
		unlock = []form.Step{{Prompt: "passphrase of " + name + ": ", Hidden: true}}
	}
	asks := func(what string, steps ...form.Step) func() tea.Cmd {
		return func() tea.Cmd { return m.ask(what, steps...) }
	}
	arrived := func() bool { return ok && k.Source == workspace.Downloaded }
	mends := func() bool { return ok && !arrived() && (k.Loose() || len(k.Sheet.Repairs) > 0) }
	mending, none := "mend", "no key is chosen"
	if arrived() {
		mending = "adopt"
	}
	terms := m.terms(k)
	retire := "move " + name + " aside into " + keyfile.RetiredFolder + "/?"
	if len(k.Uses) > 0 {
		retire += " " + strings.Join(k.Uses, ", ") + " will have it no more."
	}
	return action.Table{
		action.On("esc q ctrl+c", "to Routes", m.leave),
		action.On("m", mending, func() tea.Cmd {
			if arrived() {
				return m.moveKey(k, "adopt", "")
			}
			return m.mend(k)
		}).Suits(func() bool { return arrived() || mends() }).If(any, none).Also("fix repair permissions mode chmod adopt take over downloaded format line ends").For(action.Fix),
		action.On("n", "new key", asks("make",
			form.Step{Prompt: "name of the new key: ", Proposed: "new.pem"},
			form.Step{Prompt: "kind (Ed25519, ECDSA 256 384 521, RSA 3072 4096): ", Proposed: "Ed25519"},
			form.Step{Prompt: "passphrase (none: anyone with the file can use the key): ", Hidden: true, Judge: true},
			form.Step{Prompt: "the same again: ", Hidden: true, Again: true})).Whole().Also("new key generate create pair keygen").For(action.Keys),
		action.On("a", "find a key", asks("which", form.Step{Prompt: "a fingerprint, a public key, or the name of a key pair: "})).Whole().Also("find match fingerprint pair").For(action.Fix),
		action.On("L", "passphrase", asks("passphrase", append(unlock, form.Step{Prompt: "new passphrase (none: anyone with the file can use the key): ", Hidden: true, Judge: true}, form.Step{Prompt: "the same again: ", Hidden: true, Again: true})...)).If(any, none).Also("password protect encrypt change remove").For(action.Keys),
		action.On("v", "file format", asks("container", append(unlock, form.Step{Prompt: "file format (bcrypt, pkcs8, pkcs1, sec1): ", Proposed: "pkcs8"})...)).If(any, none).Also("format convert pem pkcs1 pkcs8 sec1 ppk openssh").For(action.Keys),
		action.On("I", "install", asks("install",
			form.Step{Prompt: "put it into the list at which session's machine: ", Proposed: first(k.Uses)},
			form.Step{Prompt: "with (from=ADDRESSES command=COMMAND comment=TEXT restrict, or nothing): "})).If(any, none).Also("authorized keys put copy public machine add").For(action.Keys),
		action.On("E", "rotate", asks("rotate",
			form.Step{Prompt: "which key comes in the place of " + name + ": ", Proposed: succeeding(name)},
			form.Step{Prompt: fmt.Sprintf("at which sessions' machines (nothing: all %d that use it): ", len(k.Uses))})).If(any, none).Also("replace exchange change key everywhere").For(action.Keys),
		action.On("l", "add to the agent", func() tea.Cmd {
			if len(unlock) == 0 {
				return m.hold(k, nil)
			}
			return m.ask("hold", unlock...)
		}).If(any, none).Also("agent memory add unlock load ssh").For(action.Keys),
		action.On("e", "limit to hosts", asks("bind",
			form.Step{Prompt: "limit to hosts or sessions, as gauge-* (empty: all): ", Value: strings.Join(terms.Hosts.V, ", ")},
			form.Step{Prompt: "how long it stays in the ring, as 1h (nothing: to the end): ", Value: stay(terms)},
			form.Step{Prompt: "ask before others use it (y or n): ", Value: map[bool]string{true: "y", false: "n"}[terms.Confirm.V]})).If(any, none).Also("limit hosts terms lifetime confirm edit bind").For(action.Keys),
		action.On("X", "write the public key", asks("public", append(unlock, form.Step{Prompt: "write the public key to: ", Value: workspace.Short(k.Path) + ".pub"})...)).If(any, none).Also("export pub file").For(action.Keys),
		action.On("O", "decrypt a first password", asks("unseal", append(unlock, form.Step{Prompt: "the sealed password, as the console shows it: "})...)).If(any, none).Also("password decrypt windows administrator first").For(action.Keys),
		action.On("R", "rename", asks("rename", form.Step{Prompt: "new name of " + name + ": ", Value: name})).If(any, none).Also("name move").For(action.Keys),
		action.On("D", "retire", asks("retire", form.Step{Prompt: retire + " enter does, esc does not ", Bare: true})).If(any, none).Also("remove delete aside").For(action.Keys),
		action.On("M", "fix the folder", func() tea.Cmd { return m.mendFolder(k) }).If(any, none).Ranked(action.InHelp).Also("fix permissions directory chmod").For(action.Fix),
		action.On("/", "find", asks("find", form.Step{Prompt: "/ ", Value: m.find})).Whole().Also("search narrow filter").For(action.View),
		action.On("tab", "to the key that arrived", m.toArrived).If(func() bool { return m.arrived != "" }, "none has arrived since").Whole().Suits(func() bool { return m.arrived != "" }).Also("downloaded new").For(action.View),
		action.On("N", "another folder", asks("folder", form.Step{Prompt: "look for keys in the folder, too (again: no more): "})).Whole().Also("directory look in download").For(action.View),
		action.On("i", "import an archive", asks("split", form.Step{Prompt: "an archive, or a file with several keys; they go into keys/: ", Value: workspace.Short(m.ws.Downloads) + "/"})).Whole().Also("zip tar split several keys bundle").For(action.Keys),
		action.On("x", "draw its routes", func() tea.Cmd { return m.draw(k) }).If(any, none).Also("picture map svg pdf").For(action.View),
	}
}

// leave puts away what is shown for a while, or the place.
func (m *Model) leave() tea.Cmd {
	switch {
	case m.opened != nil:
		m.forget()
	case m.asked != "":
		m.asked, m.which = "", nil
	case m.find != "":
		m.find = ""
		m.narrow()
	default:
		return m.s.Go("0", "")
	}
	return nil
}

// change does something to key files off the interface's goroutine: what rests on them is
// judged anew, everybody has the sessions as they are then, and the trail has it.
func (m *Model) change(do func() done) tea.Cmd {
	b, adopt, record := m.s.Board, m.s.Adopt, m.s.Record
	return m.s.Run(func() tea.Msg {
		d := do()
		if d.err != nil && d.say == "" {
			return d
		}
		if d.moved.Book != nil {
			adopt(d.moved.Book, "", "")
		}
		b.Rejudge()
		record(trail.Entry{Kind: trail.Mend, Say: d.words()})
		return d
	})
}

func (m *Model) mend(k workspace.Key) tea.Cmd {
	return m.change(func() done {
		a, err := keyfile.Mend(k.Path)
		if err != nil {
			return done{err: err}
		}
		repairs, err := keyfile.Mended(k.Path)
		return done{say: strings.Join(append([]string{fmt.Sprintf("%s has mode %04o", sanitize.Name(k.Path), a.Mode.Perm())}, repairs...), "; put right: "), err: err}
	})
}

func (m *Model) mendFolder(k workspace.Key) tea.Cmd {
	dir := filepath.Dir(k.Path)
	var loose []string
	for _, each := range m.list.All() {
		if filepath.Dir(each.Path) == dir && each.Loose() {
			loose = append(loose, sanitize.Name(each.Path))
		}
	}
	if len(loose) == 0 {
		m.note = "no key in " + workspace.Short(dir) + " can be used by others"
		return nil
	}
	say := fmt.Sprintf("%s again sets mode 0600 on %d of %s: %s", m.s.Press("mend-more"), len(loose), workspace.Short(dir), strings.Join(loose, ", "))
	return m.s.Confirm(place.Confirm{Subject: dir, Say: say, Tell: func(say string) { m.note = say }, Do: func() tea.Cmd {
		return m.change(func() done {
			changed, err := keyfile.MendFolder(dir)
			return done{say: fmt.Sprintf("%s mended in %s", words.Count(len(changed), "key"), workspace.Short(dir)), err: err}
		})
	}})
}

// draw draws the routes of the sessions that use a key.
func (m *Model) draw(k workspace.Key) tea.Cmd {
	if len(k.Uses) == 0 {
		m.note = "no session uses this key, so there is no way to draw"
		return nil
	}
	ws, title, of := m.ws, m.s.Title(), words.Count(len(k.Uses), "session")
	if len(k.Uses) == 1 {
		of, title = k.Uses[0], k.Uses[0]+", "+title
	}
	return m.s.Draw(place.Drawing{Kind: "map", Of: "the map of " + of, Private: "addresses, logins and fingerprints", Make: func(private bool) work.Draw {
		return work.Draw{Of: of, Make: func(context.Context) (draw.Drawing, error) {
			d, err := work.Map(ws, k.Uses, title, nil, time.Now())
			d.Private = private
			return d, err
		}}
	}})
}

// hold puts a key into the ring. The passphrase is wiped after.
func (m *Model) hold(k workspace.Key, passphrase []byte) tea.Cmd {
	held, terms, name, press := m.s.Keys, m.s.Workspace().Planner().TermsOf(k.Path), sanitize.Name(k.Path), m.s.Press("ring")
	return m.s.Run(func() tea.Msg {
		defer clear(passphrase)
		file, err := keyfile.Read(k.Path)
		if err != nil {
			return said(err.Error())
		}
		defer file.Forget()
		e, err := held.Hold(file, passphrase, terms)
		if err != nil {
			return said(name + ": " + err.Error())
		}
		return said(e.String() + " is held in memory " + e.Stay() + "; " + press + " shows the ring")
	})
}

// install begins to put a key into the list at a session's machine.
func (m *Model) install(k workspace.Key, session string, o install.Options) tea.Cmd {
	if _, ok := m.s.Plan(session); !ok {
		m.note = "there is no session " + session + " to draw"
		return nil
	}
	return m.s.Begin(&work.Install{Tools: m.s.Tools(), Path: k.Path, Session: session, Options: o})
}

// rotate begins to put one key in the place of another.
func (m *Model) rotate(k workspace.Key, by string, sessions []string) tea.Cmd {
	job := &work.Rotate{Tools: m.s.Tools(), Old: k.Path, New: by, Sessions: sessions}
	if err := job.Plan(); err != nil {
		m.note = err.Error()
		return nil
	}
	if careful := m.ws.Book.Careful(job.Names()...); len(careful) > 0 {
		m.rotating = job
		return m.ask("careful", form.Step{Prompt: strings.Join(careful, ", ") + " marked careful; type the name to rotate there, too: "})
	}
	return m.s.Begin(job)
}

// rotateCarefully begins a rotation at sessions that are marked careful, whose names were
// typed.
func (m *Model) rotateCarefully(typed string) tea.Cmd {
	job := m.rotating
	m.rotating = nil
	for _, name := range m.ws.Book.Careful(job.Names()...) {
		if !slices.Contains(strings.FieldsFunc(typed, func(r rune) bool { return r == ',' || r == ' ' }), name) {
			m.note = name + " was not typed; nothing is rotated"
			return nil
		}
	}
	return m.s.Begin(job)
}

// terms are what is said of a key in the sessions file.
func (m *Model) terms(k workspace.Key) book.KeyTerms {
	ws := m.s.Workspace()
	for _, t := range ws.Book.Keys {
		if ws.Planner().KeyPath(t.Path) == k.Path {
			return t
		}
	}
	return book.KeyTerms{}
}

func stay(t book.KeyTerms) string {
	if t.Stay.V == 0 {
		return ""
	}
	return t.Stay.V.String()
}

func first(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// succeeding is a name for the key after one: "shore-2.pem" after "shore.pem".
func succeeding(name string) string {
	ext := filepath.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	n := 2
	if at := strings.LastIndexByte(stem, '-'); at > 0 {
		if was, err := strconv.Atoi(stem[at+1:]); err == nil {
			stem, n = stem[:at], was+1
		}
	}
	return fmt.Sprintf("%s-%d%s", stem, n, ext)
}

func (m *Model) moveKey(k workspace.Key, how, name string) tea.Cmd {
	ws := m.ws
	return m.change(func() done {
		moved, err := ws.MoveKey(k.Path, how, name)
		d := done{moved: moved, err: err, show: moved.To}
		if moved.To != "" {
			d.say = sanitize.Name(k.Path) + " is " + workspace.Short(moved.To) + " now"
			if how == "retire" && len(moved.Sessions) > 0 {
				d.say += "; " + strings.Join(moved.Sessions, ", ") + " has it no more"
			}
		}
		return d
	})
}

// whichKey finds out which key fits what was asked.
func (m *Model) whichKey(asked string) tea.Cmd {
	if asked = strings.TrimSpace(asked); asked == "" {
		return nil
	}
	if !m.loaded { // what fits is known once the keys are read
		m.early = asked
		return nil
	}
	var keys []workspace.Key
	for _, k := range m.list.All() {
		keys = append(keys, k.Key)
	}
	return m.s.Run(func() tea.Msg { return which{asked, workspace.WhichKey(keys, asked)} })
}

// showWhich shows which key fits.
func (m *Model) showWhich(w which) {
	m.asked, m.which = w.asked, w.fit
	if len(m.which) == 0 {
		return
	}
	m.find = ""
	m.narrow()
	m.list.Select(m.which[0].Key.Path)
}

// show shows an opened password for a while.
func (m *Model) show(u unsealed) tea.Cmd {
	if u.err != nil {
		m.note = u.err.Error()
		return nil
	}
	m.forget()
	m.opened = u.text
	m.opening++
	n := m.opening
	return m.s.After(shownFor, forgetSecret{n})
}

func (m *Model) forget() {
	clear(m.opened)
	m.opened = nil
}

// mark is a key's mark: how it stands, at a glance.
func mark(k workspace.Key) gate.Verdict {
	if _, stopped := k.Sheet.Blocked(); stopped || k.Err != nil {
		return gate.Shut
	}
	judged, _ := k.Sheet.Strength()
	if len(k.Sheet.Faults) > 0 || len(k.Sheet.Repairs) > 0 || judged == keyfile.TooWeak {
		return gate.Ajar
	}
	return gate.Open
}

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	title := t.Accent.Render("keys")
	if m.find != "" {
		title += t.Accent.Render(" / ") + t.Strong.Render(m.find)
	}
	lines := []string{t.Title(title, t.Faint.Render(m.summary()), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	switch {
	case !m.loaded:
		lines = append(lines, "   "+t.Faint.Render("looking …"))
	case m.list.Len() == 0:
		lines = append(lines, "", "   "+t.Faint.Render("No key here. "+m.s.Press("new")+" makes one; what arrives in "+workspace.Short(m.ws.Downloads)+" is noticed."))
	}
	room := m.room()
	columns, pane, beside := place.Halves(m.width)
	m.beside = beside
	narrow := m.in(columns)
	rows := m.list.Lines(func(k sheet, chosen bool) string { return narrow.row(k.Key, chosen) })
	var told []string
	if k, ok := m.list.Selected(); ok {
		told = m.in(pane).sheet(k)
	}
	if beside {
		return append(lines, place.Joined(t, rows, told, columns, max(m.height-len(lines), 0))...)
	}
	lines = append(lines, rows...)
	for len(lines) < min(room+2, m.list.Len()+3) {
		lines = append(lines, "")
	}
	lines = append(lines, told...)
	return lines[:min(len(lines), max(m.height, 0))]
}

func (m *Model) summary() string {
	counts := map[string]int{}
	for _, k := range m.list.All() {
		for _, s := range k.States() {
			counts[s]++
		}
	}
	parts := []string{words.Count(len(m.list.All()), "key")}
	for _, word := range []string{"missing", "loose", "damaged", "weak", "arrived", "stray"} {
		if counts[word] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[word], word))
		}
	}
	return strings.Join(parts, " · ")
}

func (m *Model) row(k workspace.Key, selected bool) string {
	t := m.s.Theme
	width := min(30, m.width/3)
	pointer, name := "  ", fit.Pad(m.short(k), width)
	if selected {
		pointer, name = t.Accent.Render(theme.Chosen+" "), t.Strong.Render(name)
	}
	kind := k.Sheet.Kind
	if kind != "" {
		kind = fmt.Sprintf("%s %d", kind, k.Sheet.Bits)
	}
	states := strings.Join(k.States(), ", ")
	return fit.Cut(" "+pointer+t.Mark(mark(k))+" "+name+" "+fit.Pad(kind, 12)+" "+t.Verdict(mark(k)).Render(fit.Pad(states, 18))+" "+t.Faint.Render(strings.Join(k.Uses, ", ")), m.width)
}

// short is a key's path as a person would say it.
func (m *Model) short(k workspace.Key) string {
	if k.Source == workspace.InKeys {
		return sanitize.Name(k.Path)
	}
	if rel, err := filepath.Rel(m.ws.Dir, k.Path); err == nil && !strings.HasPrefix(rel, "..") {
		return sanitize.Path(rel)
	}
	return workspace.Short(k.Path)
}
