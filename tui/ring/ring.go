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
	"meatus/core/remote"
	"meatus/core/ring"
	"meatus/core/words"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The messages of the place's own: what the ring and the agent behind it hold, and what
// became of something that was done.
type (
	lookAgain struct{ n int }
	snapshot  struct {
		entries []ring.Entry
		lends   []remote.LendState
		locked  bool
		behind  behind
	}
	behind struct {
		socket string
		keys   []ring.Entry
		err    error
	}
	done struct {
		say string
		err error
	}
)

// maxUses is how many uses are kept to be shown.
const maxUses = 100

// use is one use, and when.
type use struct {
	at time.Time
	remote.Lent
}

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	now           snapshot
	uses          []use
	list          *list.List[string, row] // keys, those behind, and what is lent
	about         ring.Entry              // the key that the form is about
	form          *form.Form
	note          string
	looks         int
	shows         bool
}

// New returns the place.
func New(s *place.Services) stack.Layer { return &Model{s: s, list: list.New(row.id)} }

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.list.SetRoom(m.room())
}

// Show looks at the ring anew, and goes on looking while the place shows.
func (m *Model) Show() tea.Cmd {
	m.shows = true
	m.looks++
	return tea.Batch(m.look(), m.s.After(time.Second, lookAgain{m.looks}))
}

// Close is called when the place is left: what was typed into a form is wiped.
func (m *Model) Close() {
	m.form.Wipe()
	m.shows, m.form = false, nil
}

// Typing tells whether keys go into a form.
func (m *Model) Typing() bool { return m.form != nil }

// Note is what is to be said at the foot, "" for nothing.
func (m *Model) Note() string { return m.note }

// hear is told of each use.
func (m *Model) hear(e remote.Lent) {
	m.uses = append(m.uses, use{time.Now(), e})
	if len(m.uses) > maxUses {
		m.uses = m.uses[1:]
	}
}

// look asks the ring, and the agent behind it, what they hold.
func (m *Model) look() tea.Cmd {
	r, programs := m.s.Keys.Ring, m.s.Programs
	return m.s.Run(func() tea.Msg {
		s := snapshot{entries: r.Entries(), lends: programs.Lends(), locked: r.Locked()}
		s.behind.socket, s.behind.keys, s.behind.err = r.Front(context.Background())
		return s
	})
}

// all are the ring's keys and those behind it.
func (m *Model) all() []ring.Entry {
	return append(m.now.entries[:len(m.now.entries):len(m.now.entries)], m.now.behind.keys...)
}

// row is a key, or what is lent of them.
type row struct {
	key  ring.Entry
	lent *remote.LendState // nil for a key
}

// id is the identity of a row: a key may be held here and by the agent behind, and be lent more than once.
func (r row) id() string {
	switch {
	case r.lent != nil:
		return fmt.Sprint("lent ", r.lent.ID)
	case r.key.Behind:
		return "behind " + r.key.SHA256
	}
	return r.key.SHA256
}

// lay lists what was found.
func (m *Model) lay() {
	var rows []row
	for _, e := range m.all() {
		rows = append(rows, row{key: e})
	}
	for i := range m.now.lends {
		rows = append(rows, row{lent: &m.now.lends[i]})
	}
	m.list.Set(rows)
}

// selected is the key at the cursor.
func (m *Model) selected() (ring.Entry, bool) {
	r, ok := m.list.Selected()
	return r.key, ok && r.lent == nil
}

// selectedLend is the lend at the cursor.
func (m *Model) selectedLend() (remote.LendState, bool) {
	r, ok := m.list.Selected()
	if !ok || r.lent == nil {
		return remote.LendState{}, false
	}
	return *r.lent, true
}

// endLend ends a lend while what it was lent for goes on.
func (m *Model) endLend() tea.Cmd {
	l, _ := m.selectedLend()
	keys := strings.Join(l.Keys, ", ")
	programs := m.s.Programs
	return m.s.Confirm(place.Confirm{Subject: row{lent: &l}.id(), Say: fmt.Sprintf("%s again ends what is lent to %s: %s", m.s.Press("remove"), l.Hop, keys), Do: func() tea.Cmd {
		return m.s.Run(func() tea.Msg {
			if !programs.EndLend(l.ID) {
				return done{say: "that lend had ended already"}
			}
			return done{say: "nothing is lent to " + l.Hop + " by that any more"}
		})
	}})
}

// Subject is the key or lend that is chosen.
func (m *Model) Subject() string {
	if l, lent := m.selectedLend(); lent {
		return "lent to " + l.Hop
	}
	e, ok := m.selected()
	if !ok {
		return ""
	}
	return e.String()
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.form != nil {
		return m.form.Table(m.answered, func() { m.form = nil })
	}
	e, chosen := m.selected()
	l, lent := m.selectedLend()
	own := func() bool { return chosen && !e.Behind }
	notOwn := "no key is chosen"
	if chosen && e.Behind {
		notOwn = "that key belongs to the running agent; change it there"
	}
	lock := "lock"
	if m.now.locked {
		lock = "unlock"
	}
	return action.Table{
		action.On("esc q ctrl+c", "to Routes", func() tea.Cmd { return m.s.Go("0", "") }),
		action.On("n", "add a key", func() tea.Cmd { return m.s.Go("K", "") }).Whole().Also("add key to the agent memory"),
		action.On("D delete backspace", "remove the key", m.take).If(own, notOwn).Also("remove forget key"),
		action.On("D delete backspace", "stop lending", m.endLend).If(func() bool { return lent && l.Ended == nil }, "no lend that goes on is chosen").Also("stop lending forwarding"),
		action.On("w", "how long", m.askStay).If(own, notOwn).Also("lifetime time expire stay"),
		action.On("a", "confirm each use", m.confirm).If(own, notOwn).Also("confirm each use"),
		action.On("h", "hosts", m.askHosts).If(own, notOwn).Also("limit only for"),
		action.On("L", lock, m.askLock).Whole().Also("passphrase away"),
		action.On("Z", "remove all keys", m.empty).Whole().Also("remove all forget keys"),
		action.On("p", "share with programs", m.share).Whole().Also("socket agent environment"),
		action.On("y", "copy SSH_AUTH_SOCK", m.copy).If(func() bool { return m.s.SharedRing() != nil }, "the ring is not shared with programs").Whole().Also("clipboard environment variable"),
		action.On("B", "use the other agent", m.stand).Whole().Also("other agent in front"),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case lookAgain:
		if msg.n == m.looks && m.shows {
			return m.Show()
		}
	case snapshot:
		m.now = msg
		m.lay()
	case done:
		m.note = msg.say
		if msg.err != nil {
			m.note = msg.err.Error()
		}
		return m.look()
	case place.Heard:
		if e, ok := msg.Event.(remote.Lent); ok {
			m.hear(e)
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		m.note = ""
		if m.form != nil {
			m.form.Take(msg)
		} else {
			m.list.Take(msg)
		}
	}
	return nil
}

// mouse moves with the wheel.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	m.list.Take(msg)
	return nil
}

// do does something with the ring off the interface's goroutine, and looks again.
func (m *Model) do(what func(r *ring.Ring) (say string, err error)) tea.Cmd {
	r := m.s.Keys.Ring
	return m.s.Run(func() tea.Msg {
		say, err := what(r)
		return done{say, err}
	})
}

func (m *Model) ask(what string, steps ...form.Step) tea.Cmd {
	m.note, m.form = "", form.New(m.s.Theme, what, steps...)
	return nil
}

func (m *Model) askLock() tea.Cmd {
	if m.now.locked {
		return m.ask("unlock", form.Step{Prompt: "the password it was locked with: ", Hidden: true})
	}
	return m.ask("lock",
		form.Step{Prompt: "lock the ring with a password for now: ", Hidden: true, Judge: true},
		form.Step{Prompt: "the same again: ", Hidden: true, Again: true})
}

func (m *Model) empty() tea.Cmd {
	n := len(m.now.entries)
	return m.s.Confirm(place.Confirm{Say: fmt.Sprintf("%s again wipes %s from memory; lends of them end", m.s.Press("remove-all"), words.Count(n, "key")), Do: func() tea.Cmd {
		return m.do(func(r *ring.Ring) (string, error) { return words.Count(r.Forget(), "key") + " gone from memory", nil })
	}})
}

func (m *Model) export() string {
	return "SSH_AUTH_SOCK=" + m.s.SharedRing().Path + "; export SSH_AUTH_SOCK"
}

func (m *Model) copy() tea.Cmd {
	m.note = "copied"
	return m.s.Copy(m.export())
}

// share opens the socket for other programs, or closes it.
func (m *Model) share() tea.Cmd {
	on, e := m.s.SharedRing() == nil, m.s.Engine
	say := m.s.Press("doors") + " again opens a socket: every program of this account can use the ring's keys then"
	if !on {
		say = m.s.Press("doors") + " again closes the socket: programs that use it are cut off"
	}
	copies := m.s.Press("copy")
	return m.s.Confirm(place.Confirm{Say: say, Do: func() tea.Cmd {
		return m.s.Run(func() tea.Msg {
			if on {
				_, err := e.ShareRing()
				return done{"other programs here can use the ring now; " + copies + " copies the line that tells them", err}
			}
			e.UnshareRing()
			return done{"the socket is closed: no other program can use the ring", nil}
		})
	}})
}

// stand has the ring stand in front of the running agent, or no more.
func (m *Model) stand() tea.Cmd {
	socket := os.Getenv("SSH_AUTH_SOCK")
	say := "the keys of the running agent are used, too"
	switch {
	case m.now.behind.socket != "":
		socket, say = "", "the running agent is no longer used"
	case socket == "":
		m.note = "no agent runs: SSH_AUTH_SOCK names none"
		return nil
	}
	return m.do(func(r *ring.Ring) (string, error) { return say, r.StandBefore(context.Background(), socket) })
}

func (m *Model) take() tea.Cmd {
	e, _ := m.selected()
	return m.s.Confirm(place.Confirm{Subject: e.SHA256, Say: fmt.Sprintf("%s again wipes %s from memory", m.s.Press("remove"), e), Do: func() tea.Cmd {
		return m.do(func(r *ring.Ring) (string, error) {
			r.Remove(e.SHA256)
			return e.String() + " is gone from memory", nil
		})
	}})
}

func (m *Model) confirm() tea.Cmd {
	e, _ := m.selected()
	return m.do(func(r *ring.Ring) (string, error) {
		r.Change(e.SHA256, func(e *ring.Entry) { e.Confirm = !e.Confirm })
		return "", nil
	})
}

func (m *Model) askStay() tea.Cmd {
	m.about, _ = m.selected()
	e := m.about
	return m.ask("stay", form.Step{Prompt: "how much longer " + e.String() + " stays, as 10m, 1h or end: "})
}

func (m *Model) askHosts() tea.Cmd {
	m.about, _ = m.selected()
	e := m.about
	return m.ask("hosts", form.Step{Prompt: e.String() + " is for which hosts or sessions alone (nothing: all): ", Value: strings.Join(e.Said, ", ")})
}

var errNone = errors.New("no password was typed; the agent is not locked")

// answered does what was asked for.
func (m *Model) answered(what string, values []string) tea.Cmd {
	password := m.form.Secrets()[0]
	m.form = nil
	e := m.about // and not what is chosen by now
	value := strings.TrimSpace(values[0])
	switch what {
	case "lock":
		return m.do(func(r *ring.Ring) (string, error) {
			defer clear(password)
			if len(password) == 0 {
				return "", errNone
			}
			return "the agent is locked: no key can be used", r.Lock(password)
		})
	case "unlock":
		return m.do(func(r *ring.Ring) (string, error) {
			defer clear(password)
			return "the ring is open again", r.Unlock(password)
		})
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
		return m.do(func(r *ring.Ring) (string, error) {
			return "", changed(r, e, func(e *ring.Entry) { e.Until = until })
		})
	}
	said := strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' })
	hosts := m.s.Workspace().Planner().Hosts(said)
	return m.do(func(r *ring.Ring) (string, error) {
		return "", changed(r, e, func(e *ring.Entry) { e.Hosts, e.Said = hosts, said })
	})
}

// changed changes what holds for a key, and fails where the ring does not hold it any more.
func changed(r *ring.Ring, e ring.Entry, change func(*ring.Entry)) error {
	if !r.Change(e.SHA256, change) {
		return errors.New(e.String() + " is not held any more, and nothing was changed")
	}
	return nil
}

// room is how many keys fit.
func (m *Model) room() int { return max((m.height-9)/2, 3) }

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Accent.Render("ring"), t.Faint.Render(m.summary()), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	all := m.all()
	if len(all) == 0 {
		lines = append(lines, "")
		for _, l := range fit.Wrap("No key is held. One with a passphrase stays here once it was unlocked; "+m.s.Press("lend")+" in Keys holds any, and ring = \"on\" all of a session.", m.width-6) {
			lines = append(lines, "   "+t.Faint.Render(l))
		}
	} else {
		lines = append(lines, "   "+t.Faint.Render(fit.Cut(fit.Pad("", 2)+m.columns("key", "kind", "stays", "others", "used")+"for", m.width-4)))
	}
	chosen, _ := m.list.Selected()
	from, _ := m.list.Window()
	top := min(from, max(len(all)-m.room(), 0))
	for _, e := range all[top:min(top+m.room(), len(all))] {
		lines = append(lines, m.row(e, chosen.id() == row{key: e}.id()))
	}
	lines = append(lines, "")
	lines = append(lines, m.lent()...)
	lines = append(lines, m.listener()...)
	return append(lines, m.past(m.height-len(lines))...)
}

func (m *Model) summary() string {
	say := words.Count(len(m.now.entries), "key") + " in memory"
	if n := len(m.now.behind.keys); n > 0 {
		say += fmt.Sprintf(", %d behind", n)
	}
	if m.now.locked {
		return say + " · locked"
	}
	return say + " · gone with the screen's lock and at the end"
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
	t := m.s.Theme
	pointer, name := "  ", e.String()
	if selected {
		pointer, name = t.Accent.Render(theme.Chosen+" "), t.Strong.Render(name)
	}
	mark := t.Mark(gate.Open)
	switch {
	case m.now.locked:
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
	t := m.s.Theme
	lines := []string{t.Title(t.Strong.Render("lent now"), "", m.width, fit.Spread)}
	if len(m.now.lends) == 0 {
		return append(lines, "   "+t.Faint.Render("nothing"))
	}
	chosen, lent := m.selectedLend()
	for _, l := range m.now.lends {
		pointer := "   "
		if lent && l.ID == chosen.ID {
			pointer = " " + t.Accent.Render(theme.Chosen+" ")
		}
		mark, say := t.Mark(gate.Ajar), fmt.Sprintf("%s to %s", strings.Join(l.Keys, ", "), l.Hop)
		if l.Session != l.Hop {
			say += " for " + l.Session
		}
		say += ", asked for " + words.Count(l.Uses, "time")
		if len(l.Hosts) > 0 {
			say += ", only for " + strings.Join(l.Hosts, ", ")
		}
		if l.Limited && l.Ended == nil {
			say += fmt.Sprintf(", %d left", l.Left)
		}
		if !l.Until.IsZero() && l.Ended == nil {
			say += ", for " + fit.Ago(time.Until(l.Until)) + " more"
		}
		if l.Ended != nil {
			mark, say = t.Mark(gate.Shut), say+": "+l.Ended.Error()
		}
		lines = append(lines, fit.Cut(pointer+mark+" "+say, m.width))
	}
	return lines
}

// listener says how other programs reach the ring, and what stands behind it.
func (m *Model) listener() []string {
	t := m.s.Theme
	say := t.Faint.Render("closed to other programs; " + m.s.Press("doors") + " opens a socket for them")
	if socket := m.s.SharedRing(); socket != nil {
		say = t.Mark(gate.Ajar) + " open to programs of this account: " + t.Strong.Render(m.export()) + t.Faint.Render("  "+words.Count(socket.Uses(), "use"))
	}
	lines := []string{"", t.Title(t.Strong.Render("other programs"), "", m.width, fit.Spread)}
	lines = append(lines, fit.Hang("   "+say, 5, m.width).Whole...)
	if m.now.behind.socket != "" {
		say := fmt.Sprintf("the agent behind listens at %s", m.now.behind.socket)
		if m.now.behind.err != nil {
			say += ", and does not answer: " + m.now.behind.err.Error()
		}
		lines = append(lines, fit.Hang("   "+t.Faint.Render(say), 5, m.width).Whole...)
	}
	return lines
}

// past are the latest uses, as many as fit.
func (m *Model) past(height int) []string {
	t := m.s.Theme
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
		begin := "   " + mark + " " + t.Faint.Render(u.at.Format("15:04:05")) + "  "
		for _, l := range fit.Wrap(say, max(m.width-16, 20)) {
			lines = append(lines, begin+l)
			begin = "               "
		}
	}
	return lines[:min(len(lines), max(height, 1))]
}
