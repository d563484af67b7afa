// Package ring is the place of the ring: the keys held in memory, on which terms,
// what of them is lent where, and who used them.
package ring

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/ring"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Left says that the place was left for Routes.
type Left struct{}

// ToKeys asks the frame for the keys, to hold another one.
type ToKeys struct{}

// Copy asks the frame to put a text into the clipboard.
type Copy struct{ Text string }

type (
	lookAgain struct{ n int }
	behind    struct {
		socket string
		keys   []ring.Entry
		err    error
	}
	done struct {
		say string
		err error
	}
	opened struct {
		socket *ring.Socket
		err    error
	}
)

// maxUses is how many uses are kept to be shown.
const maxUses = 100

// use is one use, and when.
type use struct {
	at time.Time
	walk.Lent
}

// Model is the place.
type Model struct {
	theme         *theme.Theme
	ws            *workspace.Workspace
	walker        *walk.Walker
	width, height int
	entries       []ring.Entry
	lends         []walk.LendState
	behind        behind
	socket        *ring.Socket
	uses          []use
	at            scroll.Cursor
	form          *form.Form
	note          string
	page          int // of the keys at the foot
	looks         int
}

// New returns the place for a walker's ring.
func New(ws *workspace.Workspace, walker *walk.Walker, t *theme.Theme) *Model {
	return &Model{theme: t, ws: ws, walker: walker}
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

// Close ends the socket, where there is one.
func (m *Model) Close() {
	if m.socket != nil {
		m.socket.Close()
		m.socket = nil
	}
}

// Hear is told of each use.
func (m *Model) Hear(e walk.Lent) {
	m.uses = append(m.uses, use{time.Now(), e})
	if len(m.uses) > maxUses {
		m.uses = m.uses[1:]
	}
}

// Read looks at the ring anew, and goes on looking while the place shows.
func (m *Model) Read() tea.Cmd {
	m.looks++
	m.look()
	n := m.looks
	return tea.Batch(m.askBehind(), tea.Tick(time.Second, func(time.Time) tea.Msg { return lookAgain{n} }))
}

// look takes what is in memory; it waits for nothing.
func (m *Model) look() {
	m.entries, m.lends = m.walker.Ring.Entries(), m.walker.Lends()
	m.at.Move(0, len(m.all()), m.room())
}

// askBehind asks the agent behind the ring for its keys.
func (m *Model) askBehind() tea.Cmd {
	r := m.walker.Ring
	return func() tea.Msg {
		socket, keys, err := r.Front(context.Background())
		return behind{socket, keys, err}
	}
}

// all are the ring's keys and those behind it.
func (m *Model) all() []ring.Entry {
	return append(m.entries[:len(m.entries):len(m.entries)], m.behind.keys...)
}

func (m *Model) selected() (ring.Entry, bool) {
	all := m.all()
	if m.at.At >= len(all) {
		return ring.Entry{}, false
	}
	return all[m.at.At], true
}

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case lookAgain:
		if msg.n == m.looks {
			return nil, m.Read()
		}
	case behind:
		m.behind = msg
		m.look()
	case opened:
		m.socket = msg.socket
		m.note = "other programs here can use the ring now; y copies the line that tells them"
		if msg.err != nil {
			m.note = msg.err.Error()
		}
	case done:
		m.note = msg.say
		if msg.err != nil {
			m.note = msg.err.Error()
		}
		m.look()
		return nil, m.askBehind()
	case tea.MouseWheelMsg:
		m.at.Take(msg, len(m.all()), m.room())
	case tea.PasteMsg:
		if m.form != nil {
			return m.typed(msg)
		}
	case tea.KeyPressMsg:
		if m.form != nil {
			return m.typed(msg)
		}
		return m.key(msg)
	}
	return nil, nil
}

func (m *Model) typed(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	f := m.form
	over, left, cmd := f.Update(msg)
	if over || left {
		m.form = nil
	}
	if over {
		return nil, m.answered(f.What, f.Values)
	}
	return nil, cmd
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	m.note = ""
	if m.at.Take(msg, len(m.all()), m.room()) {
		return nil, nil
	}
	r := m.walker.Ring
	switch msg.String() {
	case "esc", "q", "ctrl+c":
		return Left{}, nil
	case "?":
		m.page++
	case "a":
		return ToKeys{}, nil
	case "L":
		if r.Locked() {
			m.form = form.New(m.theme, "unlock", form.Step{Prompt: "the password it was locked with: ", Hidden: true})
		} else {
			m.form = form.New(m.theme, "lock",
				form.Step{Prompt: "lock the ring with a password for now: ", Hidden: true, Judge: true},
				form.Step{Prompt: "the same again: ", Hidden: true})
		}
	case "E":
		n := r.Forget()
		m.look()
		m.note = count(n, "key") + " gone from memory"
	case "s":
		return nil, m.share()
	case "y":
		if m.socket != nil {
			m.note = "copied"
			return Copy{m.export()}, nil
		}
	case "b":
		return nil, m.stand()
	default:
		return nil, m.change(msg.String())
	}
	return nil, nil
}

func (m *Model) export() string { return "SSH_AUTH_SOCK=" + m.socket.Path + "; export SSH_AUTH_SOCK" }

// share opens the socket for other programs, or closes it.
func (m *Model) share() tea.Cmd {
	if m.socket != nil {
		m.Close()
		m.note = "the socket is closed: no other program can use the ring"
		return nil
	}
	walker := m.walker
	return func() tea.Msg {
		s, err := walker.Share()
		return opened{s, err}
	}
}

// stand has the ring stand in front of the running agent, or no more.
func (m *Model) stand() tea.Cmd {
	socket, r := os.Getenv("SSH_AUTH_SOCK"), m.walker.Ring
	say := "the ring stands in front of the running agent: its keys are used too"
	switch {
	case m.behind.socket != "":
		socket, say = "", "the ring stands for itself again"
	case socket == "":
		m.note = "no agent runs: SSH_AUTH_SOCK names none"
		return nil
	}
	return func() tea.Msg { return done{say, r.StandBefore(context.Background(), socket)} }
}

// change changes the selected key.
func (m *Model) change(key string) tea.Cmd {
	e, ok := m.selected()
	if !ok {
		return nil
	}
	if e.Behind {
		m.note = "that key is the other agent's; it is changed there"
		return nil
	}
	switch key {
	case "x":
		m.walker.Ring.Remove(e.SHA256)
		m.look()
		m.note = e.String() + " is gone from memory"
	case "c":
		m.walker.Ring.Change(e.SHA256, func(e *ring.Entry) { e.Confirm = !e.Confirm })
		m.look()
	case "t":
		m.form = form.New(m.theme, "stay", form.Step{Prompt: "how much longer " + e.String() + " stays, as 10m, 1h or end: "})
	case "h":
		m.form = form.New(m.theme, "hosts", form.Step{Prompt: e.String() + " is for which hosts or sessions alone (nothing: all): ", Value: strings.Join(e.Said, ", ")})
	}
	return nil
}

var errTwice = errors.New("the two passwords are not the same; it is not locked")

// answered does what was asked for.
func (m *Model) answered(what string, values []string) tea.Cmd {
	r, e := m.walker.Ring, ring.Entry{}
	if chosen, ok := m.selected(); ok {
		e = chosen
	}
	value := strings.TrimSpace(values[0])
	switch what {
	case "lock":
		return func() tea.Msg {
			if values[0] != values[1] || values[0] == "" {
				return done{err: errTwice}
			}
			return done{"the ring is locked: nobody signs with it", r.Lock([]byte(values[0]))}
		}
	case "unlock":
		return func() tea.Msg { return done{"the ring is open again", r.Unlock([]byte(values[0]))} }
	case "stay":
		var until time.Time
		if value != "end" {
			d, err := time.ParseDuration(value)
			if err != nil || d < time.Second || d > 24*time.Hour {
				m.note = fmt.Sprintf("%q is no time; write it like 10m or 1h, up to 24h, or end", value)
				return nil
			}
			until = time.Now().Add(d)
		}
		r.Change(e.SHA256, func(e *ring.Entry) { e.Until = until })
	case "hosts":
		said := strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' })
		hosts := m.ws.Planner().Hosts(said)
		r.Change(e.SHA256, func(e *ring.Entry) { e.Hosts, e.Said = hosts, said })
	}
	m.look()
	return nil
}

// room is how many keys fit.
func (m *Model) room() int { return max((m.height-10)/2, 3) }

// View draws the place.
func (m *Model) View() []string {
	t := m.theme
	m.look()
	lines := []string{t.Title(t.Accent.Render("ring"), t.Faint.Render(m.summary()), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	all := m.all()
	if len(all) == 0 {
		lines = append(lines, "", "   "+t.Faint.Render("No key is held. One with a passphrase stays here once it was unlocked; l in Keys holds any, and ring = \"on\" all of a session."))
	} else {
		lines = append(lines, "   "+t.Faint.Render(fit.Cut(fit.Pad("", 2)+m.columns("key", "kind", "stays", "others", "used")+"for", m.width-4)))
	}
	for i := m.at.Top; i < min(m.at.Top+m.room(), len(all)); i++ {
		lines = append(lines, m.row(all[i], i == m.at.At))
	}
	lines = append(lines, "")
	lines = append(lines, m.lent()...)
	lines = append(lines, m.door()...)
	lines = append(lines, m.past(m.height-len(lines)-1)...)
	note := m.note
	if m.form != nil {
		note = ""
	}
	return t.Page(lines, note, m.width, m.height, t.Fit(m.hints(), m.page, m.width)...)
}

func (m *Model) summary() string {
	say := count(len(m.entries), "key") + " in memory"
	if n := len(m.behind.keys); n > 0 {
		say += fmt.Sprintf(", %d behind", n)
	}
	if m.walker.Ring.Locked() {
		return say + " · locked"
	}
	return say + " · gone with the screen's lock and at the end"
}

// count says how many: "1 key", "2 keys".
func count(n int, word string) string {
	if n != 1 {
		word += "s"
	}
	return fmt.Sprintf("%d %s", n, word)
}

// columns puts words into the columns of the list, which are narrower in a small
// window.
func (m *Model) columns(words ...string) string {
	widths := []int{26, 14, 16, 14, 18}
	if m.width < 110 {
		widths = []int{18, 9, 14, 12, 12}
	}
	line := ""
	for i, w := range words {
		line += fit.Pad(fit.Cut(w, widths[i]-1), widths[i])
	}
	return line
}

func (m *Model) row(e ring.Entry, selected bool) string {
	t := m.theme
	pointer, name := "  ", e.String()
	if selected {
		pointer, name = t.Accent.Render("❯ "), t.Strong.Render(name)
	}
	mark := t.Mark(gate.Open)
	switch {
	case m.walker.Ring.Locked():
		mark = t.Mark(gate.Shut)
	case !e.Pinned && !e.Behind: // it could reach the disk with the swap
		mark = t.Mark(gate.Ajar)
	}
	others := "may use it"
	if e.Confirm {
		others = "must ask"
	}
	used := "not yet"
	if e.Uses > 0 {
		used = fmt.Sprintf("%d, %s ago", e.Uses, fit.Ago(time.Since(e.Used)))
	}
	hosts := "every host"
	if len(e.Said) > 0 {
		hosts = strings.Join(e.Said, ", ")
	}
	stay := e.Stay()
	if e.Behind {
		stay, others, used, hosts = "as it says", "as it says", "", "held by the agent behind"
	}
	kind := strings.TrimPrefix(e.Kind, "ssh-")
	if rest, ok := strings.CutPrefix(kind, "ecdsa-sha2-"); ok {
		kind = rest
	}
	return fit.Cut(" "+pointer+mark+" "+m.columns(name, kind, stay, others, used)+t.Faint.Render(hosts), m.width)
}

// lent says what is lent where.
func (m *Model) lent() []string {
	t := m.theme
	lines := []string{t.Title(t.Strong.Render("lent now"), "", m.width, fit.Spread)}
	if len(m.lends) == 0 {
		return append(lines, "   "+t.Faint.Render("nothing"))
	}
	for _, l := range m.lends {
		mark, say := t.Mark(gate.Ajar), fmt.Sprintf("%s to %s", strings.Join(l.Keys, ", "), l.Hop)
		if l.Session != l.Hop {
			say += " for " + l.Session
		}
		say += ", asked for " + count(l.Uses, "time")
		if len(l.Hosts) > 0 {
			say += ", only for " + strings.Join(l.Hosts, ", ")
		}
		if l.Ended != nil {
			mark, say = t.Mark(gate.Shut), say+": "+l.Ended.Error()
		}
		lines = append(lines, fit.Cut("   "+mark+" "+say, m.width))
	}
	return lines
}

// door says how other programs reach the ring, and what stands behind it.
func (m *Model) door() []string {
	t := m.theme
	say := t.Faint.Render("closed to other programs; s opens a socket for them")
	if m.socket != nil {
		say = t.Mark(gate.Ajar) + " open to programs of this account: " + t.Strong.Render(m.export()) + t.Faint.Render("  "+count(m.socket.Uses(), "use"))
	}
	lines := []string{"", t.Title(t.Strong.Render("other programs"), "", m.width, fit.Spread), fit.Cut("   "+say, m.width)}
	if m.behind.socket != "" {
		say := fmt.Sprintf("the agent behind listens at %s", m.behind.socket)
		if m.behind.err != nil {
			say += ", and does not answer: " + m.behind.err.Error()
		}
		lines = append(lines, fit.Cut("   "+t.Faint.Render(say), m.width))
	}
	return lines
}

// past are the latest uses, as many as fit.
func (m *Model) past(height int) []string {
	t := m.theme
	if height < 3 {
		return nil
	}
	lines := []string{"", t.Title(t.Strong.Render("uses"), "", m.width, fit.Spread)}
	if len(m.uses) == 0 {
		return append(lines, "   "+t.Faint.Render("none by a far side or another program yet"))
	}
	for i := len(m.uses) - 1; i >= 0 && len(lines) < height; i-- {
		u := m.uses[i]
		mark, say := t.Mark(gate.Open), fmt.Sprintf("%s used %s %s", u.By(), u.Key, u.For())
		if u.Refuse != nil {
			mark, say = t.Mark(gate.Shut), fmt.Sprintf("%s was refused %s: %v; asked %s", u.By(), u.Key, u.Refuse, u.For())
		}
		lines = append(lines, fit.Cut("   "+mark+" "+t.Faint.Render(u.at.Format("15:04:05"))+"  "+say, m.width))
	}
	return lines
}

func (m *Model) hints() []theme.Hint {
	if m.form != nil {
		return form.Hints()
	}
	hints := []theme.Hint{{Key: "esc", Does: "to Routes"}, {Key: "a", Does: "hold a key"}}
	if _, ok := m.selected(); ok {
		hints = append(hints, theme.Hint{Key: "x", Does: "take it out"}, theme.Hint{Key: "t", Does: "how long"}, theme.Hint{Key: "c", Does: "ask or not"}, theme.Hint{Key: "h", Does: "hosts"})
	}
	lock := "lock"
	if m.walker.Ring.Locked() {
		lock = "unlock"
	}
	hints = append(hints, theme.Hint{Key: "L", Does: lock}, theme.Hint{Key: "E", Does: "empty"}, theme.Hint{Key: "s", Does: "socket"})
	if m.socket != nil {
		hints = append(hints, theme.Hint{Key: "y", Does: "copy its line"})
	}
	return append(hints, theme.Hint{Key: "b", Does: "agent behind"})
}
