// Package hosts is the place of host identities: for each host its keys, when and
// by whom they were vouched for, where they were seen, and what they were before.
package hosts

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/vouch"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Left says that the place was left for Routes.
type Left struct{}

// Changed says that the record was written.
type Changed struct{ Say string }

type (
	read struct {
		hosts   []vouch.Host
		signers []vouch.Signer
		err     error
	}
	seen struct {
		of        string
		sightings []trail.Sighting
		expected  []vouch.Expected
	}
	done struct {
		say string
		err error
	}
)

// asking is what is asked for in the line at the top.
type asking uint8

const (
	nothing asking = iota
	finding
	importing   // fingerprints, pasted or a file's name
	pattern     // of hosts to trust a signing key for
	signingKey  // the key itself
	exporting   // a file's name
	agreeImport // a yes to what an import would add
	agreeRetire // a yes to retiring a host
)

var askings = map[asking]string{
	finding: "/ ", importing: "fingerprints, SSHFP records, or a file with them: ", pattern: "trust a signing key for hosts like: ",
	signingKey: "its public key, one line: ", exporting: "write SSHFP records to: ",
}

// Model is the place.
type Model struct {
	theme         *theme.Theme
	record        *vouch.Record
	trail         *trail.Trail // nil where there is none
	sessions      map[string][]string
	width, height int
	hosts         []vouch.Host
	signers       []vouch.Signer
	shown         []int // hosts that match
	at            scroll.Cursor
	seen          seen
	err           error
	asking        asking
	input         textinput.Model
	find          string
	pattern       string
	expected      []vouch.Expected
	note          string
	wanted        string // the host to go to when the record is read
}

// New returns the place for a workspace.
func New(ws *workspace.Workspace, t *trail.Trail, th *theme.Theme) *Model {
	m := &Model{theme: th, record: ws.Vouched, trail: t, input: textinput.New()}
	m.input.Prompt = ""
	m.input.SetVirtualCursor(true)
	th.Input(&m.input)
	m.SetWorkspace(ws)
	return m
}

// SetWorkspace says which sessions there are.
func (m *Model) SetWorkspace(ws *workspace.Workspace) {
	m.sessions = map[string][]string{}
	for _, s := range ws.Book.Sessions {
		where := at(s.Host.V, s.Port.V)
		m.sessions[where] = append(m.sessions[where], s.Name)
	}
}

func at(host string, port int) string {
	return net.JoinHostPort(strings.ToLower(host), strconv.Itoa(port))
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	t.Input(&m.input)
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.input.SetWidth(max(width-50, 20))
}

// Read reads the record anew.
func (m *Model) Read() tea.Cmd {
	record := m.record
	return func() tea.Msg {
		hosts, err := record.Hosts()
		signers, _ := record.Signers()
		return read{hosts, signers, err}
	}
}

// look reads what is known about the selected host besides its keys.
func (m *Model) look() tea.Cmd {
	h, ok := m.selected()
	if !ok {
		return nil
	}
	t, record := m.trail, m.record
	return func() tea.Msg {
		s := seen{of: at(h.Name, h.Port)}
		if t != nil {
			s.sightings, _ = t.Sightings(h.Name, h.Port)
		}
		s.expected, _ = record.ExpectedOf(h.Name, h.Port)
		return s
	}
}

func (m *Model) selected() (vouch.Host, bool) {
	if m.at.At >= len(m.shown) {
		return vouch.Host{}, false
	}
	return m.hosts[m.shown[m.at.At]], true
}

// Select moves to a host where it is there, also when the record is next read.
func (m *Model) Select(host string, port int) {
	m.wanted = at(host, port)
	m.moveTo(host, port)
}

func (m *Model) moveTo(host string, port int) {
	for i, n := range m.shown {
		if h := m.hosts[n]; at(h.Name, h.Port) == at(host, port) {
			m.at.At = i
		}
	}
	m.move(0)
}

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case read:
		m.hosts, m.signers, m.err = msg.hosts, msg.signers, msg.err
		m.narrow()
		if host, port, err := net.SplitHostPort(m.wanted); err == nil {
			n, _ := strconv.Atoi(port)
			m.moveTo(host, n)
			m.wanted = ""
		}
		return nil, m.look()
	case seen:
		m.seen = msg
	case done:
		m.note = msg.say
		if msg.err != nil {
			m.note = msg.err.Error()
			return nil, m.Read()
		}
		return Changed{msg.say}, m.Read()
	case tea.MouseWheelMsg:
		m.at.Take(msg, len(m.shown), m.room())
		return nil, m.look()
	case tea.PasteMsg:
		return nil, m.paste(msg.Content)
	case tea.KeyPressMsg:
		if m.asking != nothing {
			return nil, m.answer(msg)
		}
		return m.key(msg)
	}
	return nil, nil
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	m.note = ""
	if m.at.Take(msg, len(m.shown), m.room()) {
		return nil, m.look()
	}
	switch msg.String() {
	case "/":
		m.ask(finding, m.find)
	case "p":
		m.ask(importing, "")
	case "t":
		h, _ := m.selected()
		_, domain, dotted := strings.Cut(h.Name, ".")
		if !dotted || net.ParseIP(h.Name) != nil {
			domain = "example"
		}
		m.ask(pattern, "*."+domain)
	case "x":
		m.ask(exporting, "hosts.sshfp")
	case "D":
		if h, ok := m.selected(); ok && len(h.Current()) > 0 {
			m.asking = agreeRetire
		}
	case "r":
		return nil, m.Read()
	case "esc", "q", "ctrl+c":
		if m.find != "" {
			m.find = ""
			m.narrow()
			return nil, m.look()
		}
		return Left{}, nil
	}
	return nil, m.look()
}

func (m *Model) ask(what asking, proposed string) {
	m.asking = what
	m.input.SetValue(proposed)
	m.input.CursorEnd()
	m.input.Focus()
}

// paste takes several lines for an import, and one for whatever is asked.
func (m *Model) paste(text string) tea.Cmd {
	switch {
	case m.asking == nothing || m.asking == importing && strings.Contains(strings.TrimSpace(text), "\n"):
		m.takeImport(text)
	case m.asking != agreeImport && m.asking != agreeRetire:
		m.input, _ = m.input.Update(tea.PasteMsg{Content: text})
	}
	return nil
}

func (m *Model) answer(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	asked := m.asking
	if key == "esc" || key == "ctrl+c" {
		m.asking, m.expected = nothing, nil
		if asked == finding {
			m.find = ""
			m.narrow()
		}
		return m.look()
	}
	if asked == agreeImport || asked == agreeRetire {
		m.asking = nothing
		if key != "enter" {
			m.note = "nothing was changed"
			return nil
		}
		if asked == agreeRetire {
			return m.retire()
		}
		return m.doImport()
	}
	if key != "enter" {
		m.input, _ = m.input.Update(msg)
		if asked == finding {
			m.find = m.input.Value()
			m.narrow()
			return m.look()
		}
		return nil
	}
	m.asking = nothing
	text := strings.TrimSpace(m.input.Value())
	switch {
	case asked == importing:
		m.takeImport(text)
	case asked == pattern && text != "":
		m.pattern = text
		m.ask(signingKey, "")
	case asked == signingKey:
		record, like := m.record, m.pattern
		return func() tea.Msg {
			s, err := record.Trust(like, text, time.Now())
			return done{fmt.Sprintf("%s is trusted to sign for hosts like %s", s.SHA256, like), err}
		}
	case asked == exporting && text != "":
		return m.export(text)
	}
	return nil
}

// takeImport reads fingerprints from a text, or from the file it names, and asks
// for a yes.
func (m *Model) takeImport(text string) {
	if info, err := os.Stat(text); err == nil && info.Mode().IsRegular() && info.Size() < 4<<20 {
		if read, err := os.ReadFile(text); err == nil {
			text = string(read)
		}
	}
	h, _ := m.selected()
	list, unread := vouch.ReadExpected(text, h.Name, h.Port)
	if len(list) == 0 {
		m.note = "no fingerprint was found"
		if len(unread) > 0 {
			m.note += ": " + unread[0]
		}
		return
	}
	m.expected, m.asking = list, agreeImport
	m.note = fmt.Sprintf("%d fingerprints", len(list))
	if len(unread) > 0 {
		m.note += fmt.Sprintf(", %d lines not understood: %s", len(unread), unread[0])
	}
}

func (m *Model) doImport() tea.Cmd {
	record, list := m.record, m.expected
	m.expected = nil
	return func() tea.Msg {
		n, err := record.Expect(list, time.Now())
		return done{fmt.Sprintf("%d fingerprints are expected now; a first visit compares them", n), err}
	}
}

func (m *Model) retire() tea.Cmd {
	h, _ := m.selected()
	record := m.record
	return func() tea.Msg {
		err := record.Retire(h.Name, h.Port, time.Now(), "retired by a person")
		return done{h.Name + " is history; the next visit is a first one", err}
	}
}

func (m *Model) export(path string) tea.Cmd {
	var all []vouch.Vouch
	for _, h := range m.hosts {
		all = append(all, h.Keys...)
	}
	return func() tea.Msg {
		text := vouch.SSHFP(all)
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err == nil {
			_, err = f.WriteString(text)
			f.Close()
		}
		where, _ := filepath.Abs(path)
		return done{fmt.Sprintf("%d records are in %s; hosts known by address alone have none", strings.Count(text, "\n"), workspace.Short(where)), err}
	}
}

func (m *Model) narrow() {
	m.shown = m.shown[:0]
	for i, h := range m.hosts {
		text := h.Name + " " + strings.Join(m.sessions[at(h.Name, h.Port)], " ")
		for _, k := range h.Keys {
			text += " " + k.SHA256
		}
		if strings.Contains(strings.ToLower(text), strings.ToLower(m.find)) {
			m.shown = append(m.shown, i)
		}
	}
	m.move(0)
}

// room is how many hosts fit.
func (m *Model) room() int { return max(m.height*45/100-2, 3) }

func (m *Model) move(by int) { m.at.Move(by, len(m.shown), m.room()) }

// View draws the place.
func (m *Model) View() []string {
	t := m.theme
	title := t.Accent.Render("hosts")
	if m.find != "" && m.asking != finding {
		title += t.Accent.Render(" / ") + t.Strong.Render(m.find)
	}
	lines := []string{t.Title(title, t.Faint.Render(fmt.Sprintf("%d known · %d signing keys", len(m.hosts), len(m.signers))), m.width, fit.Spread)}
	if word, ok := askings[m.asking]; ok {
		lines = append(lines, "   "+t.Accent.Render(word)+m.input.View())
	}
	switch {
	case m.err != nil:
		for _, l := range fit.Wrap(m.err.Error(), m.width-8) {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(l))
		}
	case len(m.hosts) == 0:
		lines = append(lines, "", "   "+t.Faint.Render("No host is vouched for yet: that happens on a first visit."))
	}
	for i := m.at.Top; i < min(m.at.Top+m.room(), len(m.shown)); i++ {
		lines = append(lines, m.row(m.hosts[m.shown[i]], i == m.at.At))
	}
	for len(lines) < m.room()+2 {
		lines = append(lines, "")
	}
	h, ok := m.selected()
	name := ""
	if ok {
		name = t.Strong.Render(at(h.Name, h.Port))
	}
	lines = append(lines, t.Title(name, "", m.width, fit.Spread))
	if ok {
		lines = append(lines, m.detail(h)...)
	}
	foot := fit.Spread(t.Rule.Render("─ ")+t.Keys(m.hints()...)+" ", "", m.width, t.Rule.Render("─"))
	if m.note != "" && m.asking != agreeImport {
		foot = " " + t.Accent.Render(fit.Cut(m.note, m.width-2))
	}
	for len(lines) < m.height-1 {
		lines = append(lines, "")
	}
	return append(lines[:max(m.height-1, 0)], foot)
}

func (m *Model) row(h vouch.Host, selected bool) string {
	t := m.theme
	pointer, name := "  ", fit.Pad(at(h.Name, h.Port), min(28, m.width/3))
	if selected {
		pointer, name = t.Accent.Render("❯ "), t.Strong.Render(name)
	}
	current := h.Current()
	mark, say := t.Mark(gate.Untried), t.Faint.Render("history only")
	if n := len(current); n > 0 {
		last := current[n-1]
		mark = t.Mark(gate.Open)
		say = t.Faint.Render(fit.Pad("vouched "+day(last.When), 22))
		if n > 1 {
			say += fmt.Sprintf("%d keys  ", n)
		} else {
			say += last.Algorithm + "  "
		}
	}
	if before := len(h.Keys) - len(current); before > 0 {
		say += t.Verdict(gate.Ajar).Render(fmt.Sprintf("%d before  ", before))
	}
	sessions := fit.Pad(strings.Join(m.sessions[at(h.Name, h.Port)], ", "), min(24, m.width/5))
	return fit.Cut(" "+pointer+mark+" "+name+" "+sessions+" "+say, m.width)
}

func day(when time.Time) string { return when.Local().Format("2 Jan 2006") }

// detail is everything known about a host.
func (m *Model) detail(h vouch.Host) []string {
	t := m.theme
	var lines []string
	say := func(format string, args ...any) {
		lines = append(lines, fit.Cut("   "+fmt.Sprintf(format, args...), m.width))
	}
	for i := len(h.Keys) - 1; i >= 0; i-- {
		k := h.Keys[i]
		word, style := "now", t.Text
		end := ""
		if !k.Current() {
			word, style = "before", t.Faint
			end = fmt.Sprintf(", until %s: %s", day(k.Until), sanitize.Line(k.Ended, 60))
		}
		say("%s %s", t.Faint.Render(fit.Pad(word, 7)), style.Render(k.SHA256))
		how := "by " + sanitize.Line(k.By, 30)
		if k.How != "" {
			how = k.How
		}
		say("        %s", t.Faint.Render(fmt.Sprintf("%s, vouched %s %s, at %s%s", k.Algorithm, k.When.Local().Format("2 Jan 2006 15:04"), how, sanitize.Line(k.Address, 60), end)))
	}
	if key, err := lastKey(h); err == nil && m.height > 30 {
		for _, n := range vouch.Notations[1:] {
			say("%s %s", t.Faint.Render(fit.Pad(n.Name, 11)), t.Faint.Render(n.Write(key)))
		}
	}
	if m.seen.of == at(h.Name, h.Port) {
		for _, s := range m.seen.sightings {
			say("%s %s %s", t.Faint.Render(fit.Pad("seen", 7)), s.Address, t.Faint.Render(fmt.Sprintf("from %s to %s", day(s.First), day(s.Last))))
		}
		for _, e := range m.seen.expected {
			verdict := "not compared"
			if key, err := lastKey(h); err == nil {
				if match, ok := vouch.Compare(e.Print, key); ok {
					verdict = map[bool]string{true: t.Mark(gate.Open) + " the same", false: t.Mark(gate.Ajar) + " another key's"}[match.Same]
				}
			}
			say("%s %s %s", t.Faint.Render(fit.Pad("expect", 7)), fit.Cut(e.Print, 60), t.Faint.Render("from "+e.Source+" ")+verdict)
		}
	}
	for _, s := range m.signers {
		say("%s %s for %s, vouched %s by %s", t.Faint.Render(fit.Pad("signer", 7)), s.SHA256, t.Strong.Render(sanitize.Line(s.Pattern, 40)), day(s.When), sanitize.Line(s.By, 30))
	}
	switch m.asking {
	case agreeRetire:
		lines = append([]string{"   " + t.Accent.Render(fmt.Sprintf("Make what is vouched for %s history? enter does, any other key does not", h.Name))}, lines...)
	case agreeImport:
		ahead := []string{"   " + t.Accent.Render(m.note+". Expect them? enter does, any other key does not")}
		for i, e := range m.expected {
			if i == 6 {
				ahead = append(ahead, "     "+t.Faint.Render(fmt.Sprintf("and %d more", len(m.expected)-6)))
				break
			}
			ahead = append(ahead, fit.Cut(fmt.Sprintf("     %s  %s", fit.Pad(at(e.Host, e.Port), 28), e.Print), m.width))
		}
		lines = append(ahead, lines...)
	}
	return lines
}

// lastKey is the newest key that is accepted.
func lastKey(h vouch.Host) (ssh.PublicKey, error) {
	current := h.Current()
	if len(current) == 0 {
		return nil, errors.New("it has none")
	}
	return current[len(current)-1].PublicKey()
}

// hints are the keys of the place.
func (m *Model) hints() []theme.Hint {
	switch m.asking {
	case nothing:
		return []theme.Hint{{Key: "esc", Does: "to Routes"}, {Key: "/", Does: "find"}, {Key: "p", Does: "expect fingerprints"}, {Key: "t", Does: "trust a signer"}, {Key: "D", Does: "retire"}, {Key: "x", Does: "export SSHFP"}}
	case agreeImport, agreeRetire:
		return []theme.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "do not"}}
	}
	return []theme.Hint{{Key: "enter", Does: "go on"}, {Key: "esc", Does: "leave it"}}
}
