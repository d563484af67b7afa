// Package leases is the place of leases: at an issuer, where one may log in, as whom and until when, which leases one
// holds, what of one's own waits for a second person, and what waits for one's own yes.
package leases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
)

// The messages of the place's own: how one stands at an issuer, what became of an answer, that a second has passed.
type (
	read struct {
		asking int // which of the questions it answers
		at     work.AtIssuer
		err    error
	}
	answered struct {
		say string
		err error
	}
	tick struct{}
)

// readEvery is how often an issuer is asked while the place shows.
const readEvery = 3 * time.Second

// row is one thing that is listed: one of its fields is set.
type row struct {
	asked *lease.Waiting
	held  *lease.Lease
	right *lease.Right
}

// id is the identity of a row: what was asked, what is held, or what one may.
func (r row) id() string {
	login, machine := r.login()
	switch {
	case r.asked != nil:
		return "asked " + r.asked.ID
	case r.held != nil:
		return fmt.Sprint("held ", r.held.Serial)
	}
	return "may " + login + "@" + machine + " by " + r.right.Rule
}

func (r row) login() (login, machine string) {
	switch {
	case r.asked != nil:
		return r.asked.Login, r.asked.Machine
	case r.held != nil:
		return r.held.Login, r.held.Machine
	}
	return r.right.Login, r.right.Machine
}

// name is the login and the machine, cleaned.
func (r row) name() string {
	login, machine := r.login()
	return sanitize.Line(lease.Principal(login, machine), 160)
}

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	showing       bool
	issuer        string
	at            work.AtIssuer
	list          *list.List[string, row]
	err           error
	loaded        bool
	asked         time.Time // when the issuer was asked last
	asking        int       // how often it was: only the last answer counts
	reading       bool
	enrolling     bool // a session's name is typed
	line          *line.Line
	note          string
}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, line: line.New(s.Theme, ""), list: list.New(row.id)}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.list.SetRoom(m.room())
}

// Show asks the issuer, and holds the way there from then on.
func (m *Model) Show() tea.Cmd {
	m.showing = true
	if m.issuer == "" || m.s.Workspace().Book.Issuer(m.issuer) == nil {
		m.issuer = ""
		if list := m.s.Workspace().Book.Issuers; len(list) > 0 {
			m.issuer = list[0].Name
		}
	}
	return tea.Batch(m.read(), m.s.After(time.Second, tick{}))
}

// Close is called when the place is left.
func (m *Model) Close() { m.showing = false }

// Typing tells whether keys go into the line.
func (m *Model) Typing() bool { return m.enrolling }

// Note is what is to be said at the foot.
func (m *Model) Note() string { return m.note }

// read asks the issuer how one stands.
func (m *Model) read() tea.Cmd {
	if m.issuer == "" || m.reading {
		return nil
	}
	m.reading, m.asked = true, time.Now()
	m.asking++
	asking, name, tools, attend := m.asking, m.issuer, m.s.Tools(), m.s.AttendIssuer
	return m.s.Run(func() tea.Msg {
		if err := attend(name); err != nil {
			return read{asking, work.AtIssuer{}, err}
		}
		at, err := tools.LeasesOf(context.Background(), name)
		return read{asking, at, err}
	})
}

// another shows the next issuer.
func (m *Model) another() tea.Cmd {
	issuers := m.s.Workspace().Book.Issuers
	next := slices.IndexFunc(issuers, func(g *issuerTable) bool { return g.Name == m.issuer }) + 1
	m.issuer, m.loaded, m.reading = issuers[next%len(issuers)].Name, false, false
	m.list = list.New(row.id)
	m.list.SetRoom(m.room())
	return m.read()
}

// several tells whether there is more than one issuer.
func (m *Model) several() bool { return len(m.s.Workspace().Book.Issuers) > 1 }

func (m *Model) selected() (r row, ok bool) { return m.list.Selected() }

// sessions are those that have leases for what is chosen.
func (m *Model) sessions(r row) (names []string) {
	login, machine := r.login()
	for _, s := range m.s.Workspace().Book.Sessions {
		issuer, at := s.Issuer()
		if issuer == m.issuer && at == machine && (s.User.V == login || strings.ContainsAny(login, "*?")) && s.Broken == nil {
			names = append(names, s.Name)
		}
	}
	return names
}

// Subject is what is chosen.
func (m *Model) Subject() string {
	r, ok := m.selected()
	if !ok {
		return ""
	}
	return r.name()
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.enrolling {
		return action.Table{action.On("enter", "preview the changes", m.look), action.On("esc ctrl+c", "cancel", m.leaveLine)}
	}
	r, ok := m.selected()
	mine := ok && r.asked != nil && r.asked.Mine
	theirs := ok && r.asked != nil && !r.asked.Mine
	enter := action.On("enter", "open shell", m.open).If(func() bool { return ok && len(m.sessions(r)) > 0 }, "no session has leases for it: lease = \""+m.issuer+"\" in one with that machine and login")
	switch {
	case theirs:
		enter = action.On("enter", "approve", func() tea.Cmd { return m.answer(*r.asked, "agree") }).If(func() bool { return r.asked.State == "waiting" }, "it is approved already")
	case mine:
		enter = action.On("enter", "open shell", m.open).If(func() bool { return false }, "it waits for another person's approval")
	}
	no := "decline"
	if mine {
		no = "withdraw"
	}
	return action.Table{
		enter,
		action.On("D", no, func() tea.Cmd { return m.refuse(*r.asked) }).If(func() bool { return mine || theirs }, "nothing waits for an answer there").Also("decline deny withdraw refuse reject"),
		action.On("I", "enrol a machine", m.enrol).If(func() bool { return m.at.About.Enrols }, "the issuer's policy does not say that you enrol machines").Whole().Also("trust issuer install certificate authority"),
		action.On("a", "the next issuer", m.another).If(m.several, "the sessions file names one issuer, or none").Ranked(action.InHelp).Whole().Also("issuer switch"),
		action.On("r", "reload", func() tea.Cmd { m.reading = false; return m.read() }).Whole().Ranked(action.InHelp).Also("reload refresh"),
		action.On("esc q ctrl+c", "to Routes", func() tea.Cmd { return m.s.Go("0", "") }),
	}
}

// open opens a shell at the first session that has leases for what is chosen.
func (m *Model) open() tea.Cmd {
	r, _ := m.selected()
	for _, name := range m.sessions(r) {
		if way, ok := m.s.Plan(name); ok {
			return m.s.Open(way, false)
		}
	}
	return nil
}

// answer says yes to what somebody asks, once it was asked for twice.
func (m *Model) answer(w lease.Waiting, say string) tea.Cmd {
	who := sanitize.Line(w.Person, 64)
	do := func() tea.Cmd {
		return m.send(w, say, fmt.Sprintf("%s may be %s at %s, by your yes", who, sanitize.Line(w.Login, 64), sanitize.Line(w.Machine, 64)))
	}
	return m.s.Confirm(place.Confirm{Subject: w.ID, Say: fmt.Sprintf("again says yes: %s will be %s at %s", who, sanitize.Line(w.Login, 64), sanitize.Line(w.Machine, 64)), Do: do})
}

// refuse says no to what somebody asks, or takes back what one asked oneself.
func (m *Model) refuse(w lease.Waiting) tea.Cmd {
	if w.Mine {
		return m.send(w, "withdraw", "taken back")
	}
	return m.send(w, "decline", sanitize.Line(w.Person, 64)+" was told no")
}

func (m *Model) send(w lease.Waiting, say, done string) tea.Cmd {
	tools, issuer := m.s.Tools(), m.issuer
	return m.s.Run(func() tea.Msg {
		return answered{done, tools.AnswerAsking(context.Background(), issuer, w.ID, say)}
	})
}

// enrol asks for the session whose machine is to trust the issuer.
func (m *Model) enrol() tea.Cmd {
	m.enrolling, m.note = true, ""
	m.line.Begin("")
	return nil
}

func (m *Model) leaveLine() tea.Cmd {
	m.enrolling = false
	return nil
}

// look shows what enrolling would write.
func (m *Model) look() tea.Cmd {
	name := strings.TrimSpace(m.line.Text())
	if _, ok := m.s.Plan(name); !ok {
		m.note = "there is no session " + sanitize.Line(name, 60)
		return nil
	}
	m.enrolling = false
	issuer := m.issuer
	return m.s.Task(func(s *place.Services) stack.Layer { return NewEnrol(s, issuer, name) })
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case read:
		if msg.asking == m.asking {
			m.reading, m.loaded, m.err = false, true, msg.err
			if msg.err == nil {
				m.take(msg.at)
			}
		}
	case answered:
		if m.note = msg.say; msg.err != nil {
			m.note = said(msg.err)
		}
		m.reading = false
		return m.read()
	case tick:
		if !m.showing {
			return nil
		}
		cmd := m.s.After(time.Second, tick{})
		if time.Since(m.asked) >= readEvery {
			return tea.Batch(cmd, m.read())
		}
		return cmd
	case place.Heard:
		switch msg.Event.(type) {
		case engine.Changed, engine.LeaseWanted:
			if m.showing {
				return m.Show()
			}
		}
	case tea.PasteMsg:
		if m.enrolling {
			m.line.Take(msg)
		}
	case tea.KeyPressMsg:
		m.note = ""
		if m.enrolling {
			m.line.Take(msg)
			return nil
		}
		m.list.Take(msg)
	}
	return nil
}

// mouse moves with the wheel.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	m.list.Take(msg)
	return nil
}

// take lists what was told: what waits for an answer first. What was chosen stays so.
func (m *Model) take(at work.AtIssuer) {
	m.at = at
	var rows []row
	for _, mine := range []bool{false, true} {
		for i := range at.Waiting {
			if at.Waiting[i].Mine == mine {
				rows = append(rows, row{asked: &at.Waiting[i]})
			}
		}
	}
	for i := range at.Held {
		rows = append(rows, row{held: &at.Held[i]})
	}
	order := func(r lease.Right) int {
		switch {
		case r.Denied:
			return 2
		case !r.Now:
			return 1
		}
		return 0
	}
	rights := slices.Clone(at.May)
	slices.SortStableFunc(rights, func(a, b lease.Right) int { return order(a) - order(b) })
	for i := range rights {
		rows = append(rows, row{right: &rights[i]})
	}
	m.list.Set(rows)
}

// said words why something could not be done.
func said(err error) string {
	var f *gate.Failure
	if errors.As(err, &f) {
		return sanitize.Line(cmp.Or(f.Why, f.Seen), 300)
	}
	return sanitize.Line(err.Error(), 300)
}

// left says how long something lasts still.
func left(until time.Time) string {
	d := time.Until(until).Round(time.Second)
	switch {
	case d <= 0:
		return "over"
	case d < 2*time.Minute:
		return words.Count(int(d/time.Second), "second") + " left"
	case d < 2*time.Hour:
		return words.Count(int(d/time.Minute), "minute") + " left"
	}
	return "until " + until.Local().Format("15:04")
}
