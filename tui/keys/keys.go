// Package keys is the place of key files: each that is known, how it stands, and
// its sheet; and everything that is done with one.
package keys

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Left says that the place was left for Routes.
type Left struct{}

// Changed says that a key file was changed, and the sessions where Book is not
// nil.
type Changed struct {
	Say  string
	Book *book.Book
}

// Hold asks the frame to hold a key in the ring.
type Hold struct {
	Path       string
	Passphrase []byte
}

// Install asks the frame to put a key into the list at a session's machine.
type Install struct {
	Path, Session string
	Options       install.Options
}

// Draw asks the frame to draw the routes of sessions.
type Draw struct{ Sessions []string }

// Rotate asks the frame to put one key in the place of another, at some sessions'
// machines or at all.
type Rotate struct {
	Old, New string
	Sessions []string
}

// Said is something to say at the foot of the place.
type Said string

type (
	read []workspace.Key
	done struct {
		say   string
		moved workspace.Moved
		err   error
	}
	unsealed struct {
		text []byte
		err  error
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
	theme         *theme.Theme
	ws            *workspace.Workspace
	width, height int
	keys          []workspace.Key
	shown         []int
	loaded        bool
	ticking       bool
	stamp         string    // of the folders, when they were looked at
	read          time.Time // when all keys were
	at            scroll.Cursor
	find          string
	form          *form.Form
	note          string
	page          int               // of the keys at the foot
	which         []workspace.Opens // the answer to which key fits
	asked         string
	opened        []byte // a password, shown for a while
	opening       int    // counts them
	held          func() []ring.Entry
}

// New returns the place for a workspace; held tells which keys are in the ring.
func New(ws *workspace.Workspace, held func() []ring.Entry, t *theme.Theme) *Model {
	return &Model{ws: ws, held: held, theme: t}
}

// SetWorkspace says which sessions there are.
func (m *Model) SetWorkspace(ws *workspace.Workspace) { m.ws = ws }

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	if m.form != nil {
		m.form.SetTheme(t)
	}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) { m.width, m.height = width, height }

// Say says something at the foot of the place.
func (m *Model) Say(note string) { m.note = note }

// Read reads the keys anew, and goes on looking for new ones.
func (m *Model) Read() tea.Cmd {
	ws := m.ws
	look := func() tea.Msg { return read(ws.Keys()) }
	m.read = time.Now()
	return tea.Batch(look, m.tick())
}

// tick looks again after a time, once.
func (m *Model) tick() tea.Cmd {
	if m.ticking {
		return nil
	}
	m.ticking = true
	return tea.Tick(arrivalEvery, func(time.Time) tea.Msg { return lookAgain{} })
}

func (m *Model) selected() (workspace.Key, bool) {
	if m.at.At >= len(m.shown) {
		return workspace.Key{}, false
	}
	return m.keys[m.shown[m.at.At]], true
}

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case read:
		m.take(msg)
	case lookAgain:
		m.ticking = false
		ws := m.ws
		return nil, func() tea.Msg { return looked{ws.KeysStamp()} }
	case looked:
		if msg.stamp != m.stamp || time.Since(m.read) > allEvery {
			m.stamp = msg.stamp
			return nil, m.Read()
		}
		return nil, m.tick()
	case done:
		m.note = msg.say
		if msg.err != nil {
			m.note = msg.err.Error()
			if msg.say != "" {
				m.note = msg.say + ", but: " + msg.err.Error()
			}
		}
		if msg.err != nil && msg.say == "" {
			return nil, m.Read()
		}
		return Changed{m.note, msg.moved.Book}, m.Read()
	case unsealed:
		return nil, m.show(msg)
	case forgetSecret:
		if msg.n == m.opening {
			m.forget()
		}
	case tea.MouseWheelMsg:
		m.at.Take(msg, len(m.shown), m.room())
	case tea.PasteMsg:
		if m.form == nil { // what is pasted is asked about
			m.whichKey(msg.Content)
			return nil, nil
		}
		return m.typed(msg)
	case tea.KeyPressMsg:
		if m.form != nil {
			return m.typed(msg)
		}
		return m.key(msg)
	}
	return nil, nil
}

// take takes the keys as they are now, and says what has newly arrived.
func (m *Model) take(keys []workspace.Key) {
	path := ""
	if k, ok := m.selected(); ok {
		path = k.Path
	}
	if m.loaded {
		known := map[string]bool{}
		for _, k := range m.keys {
			known[k.Path] = true
		}
		for _, k := range keys {
			if k.Source == workspace.Downloaded && !known[k.Path] {
				m.note = filepath.Base(k.Path) + " has arrived in the download folder; a adopts it"
				path = k.Path
			}
		}
	}
	m.keys, m.loaded = keys, true
	m.narrow()
	for i, n := range m.shown {
		if m.keys[n].Path == path {
			m.at.At = i
		}
	}
	m.move(0)
}

func (m *Model) narrow() {
	m.shown = m.shown[:0]
	for i, k := range m.keys {
		text := strings.Join(append(append([]string{k.Path, k.Sheet.Comment, k.Sheet.Kind, k.Sheet.SHA256}, k.Uses...), k.States()...), " ")
		if strings.Contains(strings.ToLower(text), strings.ToLower(m.find)) {
			m.shown = append(m.shown, i)
		}
	}
	m.move(0)
}

// room is how many keys fit.
func (m *Model) room() int { return max(m.height-22, 4) }

func (m *Model) move(by int) { m.at.Move(by, len(m.shown), m.room()) }

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	m.note = ""
	k, ok := m.selected()
	if m.at.Take(msg, len(m.shown), m.room()) {
		return nil, nil
	}
	switch msg.String() {
	case "esc", "q", "ctrl+c":
		switch {
		case m.opened != nil:
			m.forget()
		case m.asked != "":
			m.asked, m.which = "", nil
		case m.find != "":
			m.find = ""
			m.narrow()
		default:
			return Left{}, nil
		}
	case "/":
		m.ask("find", form.Step{Prompt: "/ ", Value: m.find})
	case "?":
		m.page++
	case "f":
		m.ask("which", form.Step{Prompt: "a fingerprint, a public key, or the name of a key pair: "})
	case "n":
		m.ask("make",
			form.Step{Prompt: "name of the new key: ", Value: "new.pem"},
			form.Step{Prompt: "kind (Ed25519, ECDSA 256 384 521, RSA 3072 4096): ", Value: "Ed25519"},
			form.Step{Prompt: "passphrase (none: whoever gets the file has the key): ", Hidden: true, Judge: true},
			form.Step{Prompt: "the same again: ", Hidden: true})
	case "X":
		m.ask("split", form.Step{Prompt: "put the keys of which archive or file of several into keys/: ", Value: workspace.Short(m.ws.Downloads) + "/"})
	case "x":
		if ok && len(k.Uses) > 0 {
			return Draw{k.Uses}, nil
		}
		m.note = "no session uses this key, so there is no way to draw"
	case "F":
		m.ask("folder", form.Step{Prompt: "look for keys in the folder, too (again: no more): "})
	default:
		if ok {
			return m.do(msg.String(), k)
		}
	}
	return nil, nil
}

// do does something with the selected key.
func (m *Model) do(key string, k workspace.Key) (wish tea.Msg, cmd tea.Cmd) {
	name := filepath.Base(k.Path)
	locked := form.Step{Prompt: "passphrase of " + name + ": ", Hidden: true}
	var steps []form.Step
	if k.Sheet.Passphrase {
		steps = append(steps, locked)
	}
	switch key {
	case "m":
		return nil, func() tea.Msg {
			a, err := keyfile.Mend(k.Path)
			if err != nil {
				return done{err: err}
			}
			repairs, err := keyfile.Mended(k.Path)
			return done{say: strings.Join(append([]string{fmt.Sprintf("%s has mode %04o", name, a.Mode.Perm())}, repairs...), "; put right: "), err: err}
		}
	case "M":
		dir := filepath.Dir(k.Path)
		return nil, func() tea.Msg {
			changed, err := keyfile.MendFolder(dir)
			return done{say: fmt.Sprintf("%d keys mended in %s", len(changed), workspace.Short(dir)), err: err}
		}
	case "a":
		return nil, m.moveKey(k, "adopt", "")
	case "R":
		m.ask("rename", form.Step{Prompt: "new name of " + name + ": ", Value: name})
	case "D":
		say := "move " + name + " aside into " + keyfile.RetiredFolder + "/?"
		if len(k.Uses) > 0 {
			say += " " + strings.Join(k.Uses, ", ") + " will have it no more."
		}
		m.ask("retire", form.Step{Prompt: say + " enter does, esc does not ", Bare: true})
	case "p":
		m.ask("passphrase", append(steps, form.Step{Prompt: "new passphrase (none: whoever gets the file has the key): ", Hidden: true, Judge: true}, form.Step{Prompt: "the same again: ", Hidden: true})...)
	case "c":
		m.ask("container", append(steps, form.Step{Prompt: "container (bcrypt, pkcs8, pkcs1, sec1): ", Value: "pkcs8"})...)
	case "P":
		m.ask("public", append(steps, form.Step{Prompt: "write the public half to: ", Value: workspace.Short(k.Path) + ".pub"})...)
	case "l":
		if len(steps) == 0 {
			return Hold{Path: k.Path}, nil
		}
		m.ask("hold", steps...)
	case "i":
		m.ask("install",
			form.Step{Prompt: "put it into the list at which session's machine: ", Value: first(k.Uses)},
			form.Step{Prompt: "only (from=ADDRESSES command=COMMAND restrict, or nothing): "})
	case "t":
		m.ask("rotate",
			form.Step{Prompt: "which key comes in the place of " + name + ": ", Value: succeeding(name)},
			form.Step{Prompt: fmt.Sprintf("at which sessions' machines (nothing: all %d that use it): ", len(k.Uses))})
	case "b":
		terms := m.terms(k)
		m.ask("bind",
			form.Step{Prompt: "meant for which hosts or sessions, as gauge-* (nothing: all): ", Value: strings.Join(terms.Hosts.V, ", ")},
			form.Step{Prompt: "how long it stays in the ring, as 1h (nothing: to the end): ", Value: stay(terms)},
			form.Step{Prompt: "ask before others use it (y or n): ", Value: map[bool]string{true: "y", false: "n"}[terms.Confirm.V]})
	case "o":
		m.ask("unseal", append(steps, form.Step{Prompt: "the sealed password, as the console shows it: "})...)
	}
	return nil, nil
}

// terms are what is said of a key in the sessions file.
func (m *Model) terms(k workspace.Key) book.KeyTerms {
	for _, t := range m.ws.Book.Keys {
		if m.ws.Planner().KeyPath(t.Path) == k.Path {
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
	return func() tea.Msg {
		moved, err := ws.MoveKey(k.Path, how, name)
		d := done{moved: moved, err: err}
		if moved.To != "" {
			d.say = filepath.Base(k.Path) + " is " + workspace.Short(moved.To) + " now"
			if how == "retire" && len(moved.Sessions) > 0 {
				d.say += "; " + strings.Join(moved.Sessions, ", ") + " has it no more"
			}
		}
		return d
	}
}

// whichKey answers which key fits what was asked.
func (m *Model) whichKey(asked string) {
	if asked = strings.TrimSpace(asked); asked == "" {
		return
	}
	m.asked, m.which = asked, workspace.WhichKey(m.keys, asked)
	if len(m.which) > 0 {
		m.find = ""
		m.narrow()
		for i, n := range m.shown {
			if m.keys[n].Path == m.which[0].Key.Path {
				m.at.At = i
			}
		}
		m.move(0)
	}
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
	return tea.Tick(shownFor, func(time.Time) tea.Msg { return forgetSecret{n} })
}

func (m *Model) forget() {
	clear(m.opened)
	m.opened = nil
}

// Forget wipes what is shown for a while, when the place is left.
func (m *Model) Forget() {
	m.forget()
	m.form = nil
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
	t := m.theme
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
	case len(m.shown) == 0:
		lines = append(lines, "", "   "+t.Faint.Render("No key here. n makes one; what arrives in "+workspace.Short(m.ws.Downloads)+" is noticed."))
	}
	for i := m.at.Top; i < min(m.at.Top+m.room(), len(m.shown)); i++ {
		lines = append(lines, m.row(m.keys[m.shown[i]], i == m.at.At))
	}
	for len(lines) < min(m.room()+2, len(m.shown)+3) {
		lines = append(lines, "")
	}
	if k, ok := m.selected(); ok {
		lines = append(lines, m.sheet(k)...)
	}
	note := m.note
	if m.form != nil {
		note = ""
	}
	return t.Page(lines, note, m.width, m.height, t.Fit(m.hints(), m.page, m.width)...)
}

func (m *Model) summary() string {
	counts := map[string]int{}
	for _, k := range m.keys {
		for _, s := range k.States() {
			counts[s]++
		}
	}
	parts := []string{fmt.Sprintf("%d keys", len(m.keys))}
	for _, word := range []string{"missing", "loose", "damaged", "weak", "arrived", "stray"} {
		if counts[word] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[word], word))
		}
	}
	return strings.Join(parts, " · ")
}

func (m *Model) row(k workspace.Key, selected bool) string {
	t := m.theme
	width := min(30, m.width/3)
	pointer, name := "  ", fit.Pad(m.short(k), width)
	if selected {
		pointer, name = t.Accent.Render("❯ "), t.Strong.Render(name)
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
		return filepath.Base(k.Path)
	}
	if rel, err := filepath.Rel(m.ws.Dir, k.Path); err == nil && !strings.HasPrefix(rel, "..") {
		return rel
	}
	return workspace.Short(k.Path)
}

// hints are the keys of the place.
func (m *Model) hints() []theme.Hint {
	if m.form != nil {
		return form.Hints()
	}
	hints := []theme.Hint{{Key: "esc", Does: "to Routes"}}
	if k, ok := m.selected(); ok {
		switch {
		case k.Source == workspace.Downloaded:
			hints = append(hints, theme.Hint{Key: "a", Does: "adopt"})
		case k.Loose() || len(k.Sheet.Repairs) > 0:
			hints = append(hints, theme.Hint{Key: "m", Does: "mend"})
		}
	}
	return append(hints, theme.Hint{Key: "n", Does: "make"}, theme.Hint{Key: "f", Does: "which key opens this?"}, theme.Hint{Key: "p", Does: "passphrase"}, theme.Hint{Key: "c", Does: "container"},
		theme.Hint{Key: "i", Does: "install"}, theme.Hint{Key: "t", Does: "rotate"}, theme.Hint{Key: "l", Does: "hold in the ring"}, theme.Hint{Key: "b", Does: "meant for"}, theme.Hint{Key: "P", Does: "public half"}, theme.Hint{Key: "o", Does: "unseal"}, theme.Hint{Key: "R", Does: "rename"}, theme.Hint{Key: "D", Does: "retire"}, theme.Hint{Key: "/", Does: "find"}, theme.Hint{Key: "F", Does: "folder"}, theme.Hint{Key: "X", Does: "archive"}, theme.Hint{Key: "x", Does: "draw its routes"})
}
