// Package hosts is the place of host identities: for each host its keys, when and
// by whom they were vouched for, where they were seen, and what they were before.
package hosts

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/crypto/ssh"

	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/vouch"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The messages of the place's own: the record, what is known of one host besides its
// keys, what an import would add, and what became of something that was done.
type (
	read struct {
		n        int // which of the readings it is
		hosts    []vouch.Host
		sessions map[string][]string
		signers  []vouch.Signer
		err      error
	}
	seen struct {
		of        string
		sightings []trail.Sighting
		expected  []vouch.Expected
	}
	toImport struct {
		list   []vouch.Expected
		unread []string
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
	importing    // fingerprints, pasted or a file's name
	pattern      // of hosts to trust a signing key for
	signingKey   // the key itself
	exporting    // a file's name
	agreeImport  // a yes to what an import would add
	agreeRetire  // a yes to retiring a host
	agreeConfirm // a yes to vouching for announced keys
)

var askings = map[asking]string{
	finding: "/ ", importing: "fingerprints, SSHFP records, or a file with them: ", pattern: "trust a signing key for hosts like: ",
	signingKey: "its public key, one line: ", exporting: "write SSHFP records to: ",
}

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	showing       bool
	sessions      map[string][]string // by their host as at writes it
	width, height int
	list          *list.List[vouch.At, vouch.Host]
	about         vouch.Host // the host that is asked about
	signers       []vouch.Signer
	seen          seen
	err           error
	asking        asking
	line          *line.Line
	find          string
	pattern       string
	expected      []vouch.Expected
	note          string
	wanted        vouch.At // the host to go to when the record is read
	reads         int      // how often it was: only the last reading counts
	known         bool     // the record was read once
}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, line: line.New(s.Theme, ""), list: list.New(vouch.Host.At)}
}

// sessionsOf are the sessions of each host that is vouched for.
func sessionsOf(hosts []vouch.Host, ws *workspace.Workspace) map[string][]string {
	of := make(map[string][]string, len(hosts))
	known := make(map[string]bool, len(hosts))
	for _, h := range hosts {
		known[at(h.Name, h.Port)] = true
	}
	for _, s := range ws.Book.Sessions {
		where := at(s.Host.V, s.Port.V)
		if s.Bound != nil {
			where = at(s.Bound.ID, s.Port.V)
		}
		if !known[where] {
			continue
		}
		if r, err := ws.Planner().Plan(s.Name); err == nil {
			where += r.Target().At().Way
		}
		of[where] = append(of[where], s.Name)
	}
	return of
}

// sessionsAt are the sessions of a host, also where it was vouched for before there were
// ways.
func (m *Model) sessionsAt(h vouch.Host) []string {
	if h.Way != "" {
		return m.sessions[at(h.Name, h.Port)+h.Way]
	}
	var names []string
	for where, of := range m.sessions {
		if strings.HasPrefix(where, at(h.Name, h.Port)) {
			names = append(names, of...)
		}
	}
	slices.Sort(names)
	return names
}

func at(host string, port int) string {
	return net.JoinHostPort(strings.ToLower(host), strconv.Itoa(port))
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.list.SetRoom(m.room())
}

// Show reads the record anew.
func (m *Model) Show() tea.Cmd {
	m.showing = true
	return m.read()
}

// Close is called when the place is left.
func (m *Model) Close() { m.showing = false }

// Typing tells whether keys go into what is asked for.
func (m *Model) Typing() bool { return m.asking != nothing }

// Note is what is to be said at the foot.
func (m *Model) Note() string {
	if m.asking == agreeImport {
		return ""
	}
	return m.note
}

// read reads the record anew.
func (m *Model) read() tea.Cmd {
	ws := m.s.Workspace()
	m.reads++
	n := m.reads
	return m.s.Run(func() tea.Msg {
		hosts, err := ws.Vouched.Hosts()
		signers, _ := ws.Vouched.Signers()
		return read{n, hosts, sessionsOf(hosts, ws), signers, err}
	})
}

// look reads what is known about the selected host besides its keys.
func (m *Model) look() tea.Cmd {
	h, ok := m.selected()
	if !ok {
		return nil
	}
	t, record := m.s.Trail, m.s.Workspace().Vouched
	return m.s.Run(func() tea.Msg {
		s := seen{of: at(h.Name, h.Port)}
		if t != nil {
			s.sightings, _ = t.Sightings(h.Name, h.Port)
		}
		s.expected, _ = record.ExpectedOf(h.Name, h.Port)
		return s
	})
}

func (m *Model) selected() (vouch.Host, bool) { return m.list.Selected() }

// Select moves to the host of a session, also when the record is next read.
func (m *Model) Select(session string) {
	if r, ok := m.s.Plan(session); ok {
		t := r.Target()
		m.wanted = t.At()
		m.moveTo(t.At())
	}
}

// moveTo chooses a host as a session comes to it, or else by another way.
func (m *Model) moveTo(wanted vouch.At) {
	found := false
	for _, h := range m.list.Shown() {
		if at(h.Name, h.Port) == at(wanted.Host, wanted.Port) && (!found || h.Way == wanted.Way) {
			found = m.list.Select(h.At())
		}
	}
}

// Subject is the host that is chosen.
func (m *Model) Subject() string {
	h, ok := m.selected()
	if !ok {
		return ""
	}
	return at(h.Name, h.Port)
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	switch m.asking {
	case nothing:
		h, ok := m.selected()
		return action.Table{
			action.On("esc q ctrl+c", "to Routes", m.leave),
			action.On("/", "find", func() tea.Cmd { return m.ask(finding, m.find) }).Whole().Also("search narrow"),
			action.On("i", "import fingerprints", func() tea.Cmd { return m.ask(importing, "") }).Whole().Also("expect known hosts sshfp vouch"),
			action.On("n", "new signing key", m.askSigner).Whole().Also("trust certificate authority ca host certificates"),
			action.On("D", "end the trust", func() tea.Cmd { m.asking, m.about = agreeRetire, h; return nil }).If(func() bool { return ok && len(h.Current()) > 0 }, "it has no trusted key").Also("remove forget identity host key"),
			action.On("m", "trust the announced key", func() tea.Cmd { m.asking, m.about = agreeConfirm, h; return nil }).If(func() bool { return ok && len(announced(h)) > 0 }, "no key was announced").Also("new host keys rotation"),
			action.On("X", "write SSHFP", func() tea.Cmd { return m.ask(exporting, "hosts.sshfp") }).Whole().Also("export dns"),
			action.On("r", "read again", m.read).Whole().Ranked(action.InHelp).Also("reload refresh"),
		}
	case agreeImport, agreeRetire, agreeConfirm:
		return action.Table{action.On("enter", "confirm", m.agreed), action.On("esc ctrl+c", "cancel", m.refused)}
	}
	return action.Table{action.On("enter", "continue", m.answered), action.On("esc ctrl+c", "cancel", m.refused)}
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
		m.sessions, m.signers, m.err, m.known = msg.sessions, msg.signers, msg.err, true
		m.list.Set(msg.hosts)
		if m.wanted.Host != "" {
			m.moveTo(m.wanted)
			m.wanted = vouch.At{}
		}
		return m.look()
	case seen:
		m.seen = msg
	case toImport:
		m.offer(msg)
	case done:
		m.note = msg.say
		if msg.err != nil {
			m.note = msg.err.Error()
		}
		return m.read()
	case place.Heard:
		if _, ok := msg.Event.(engine.Changed); ok && m.showing {
			return m.read()
		}
	case tea.PasteMsg:
		return m.paste(msg)
	case tea.KeyPressMsg:
		return m.typed(msg)
	}
	return nil
}

// mouse moves with the wheel.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	if m.list.Take(msg) {
		return m.look()
	}
	return nil
}

// typed takes a key that is no action.
func (m *Model) typed(msg tea.KeyPressMsg) tea.Cmd {
	switch m.asking {
	case nothing:
		m.note = ""
		if m.list.Take(msg) {
			return m.look()
		}
	case agreeImport, agreeRetire, agreeConfirm:
		return m.refused()
	default:
		m.line.Take(msg)
		if m.asking == finding {
			m.find = m.line.Text()
			m.narrow()
			return m.look()
		}
	}
	return nil
}

func (m *Model) leave() tea.Cmd {
	if m.find != "" {
		m.find = ""
		m.narrow()
		return m.look()
	}
	return m.s.Go("0", "")
}

func (m *Model) ask(what asking, proposed string) tea.Cmd {
	m.asking, m.note = what, ""
	m.line.Begin(proposed)
	return nil
}

func (m *Model) askSigner() tea.Cmd {
	h, _ := m.selected()
	_, domain, dotted := strings.Cut(h.Name, ".")
	if !dotted || net.ParseIP(h.Name) != nil {
		domain = "example"
	}
	return m.ask(pattern, "*."+domain)
}

// paste takes several lines for an import, and one for whatever is asked.
func (m *Model) paste(msg tea.PasteMsg) tea.Cmd {
	switch {
	case m.asking == nothing || m.asking == importing && strings.Contains(strings.TrimSpace(msg.Content), "\n"):
		return m.readImport(msg.Content)
	case m.asking != agreeImport && m.asking != agreeRetire && m.asking != agreeConfirm:
		m.line.Take(msg)
	}
	return nil
}

// refused gives up what is asked for.
func (m *Model) refused() tea.Cmd {
	was := m.asking
	m.asking, m.expected = nothing, nil
	switch was {
	case finding:
		m.find = ""
		m.narrow()
	case agreeImport, agreeRetire, agreeConfirm:
		m.note = "nothing was changed"
	}
	return m.look()
}

// agreed does what was agreed to.
func (m *Model) agreed() tea.Cmd {
	was := m.asking
	m.asking = nothing
	if was == agreeImport {
		return m.doImport()
	}
	if now, ok := m.list.Find(m.about.At()); !ok || !slices.Equal(fingerprints(now), fingerprints(m.about)) {
		m.note = m.about.Name + " has other keys by now, and nothing was changed: look again"
		return nil
	}
	if was == agreeRetire {
		return m.retire(m.about)
	}
	return m.confirm(m.about)
}

// fingerprints are those of all keys of a host that are not history.
func fingerprints(h vouch.Host) (all []string) {
	for _, k := range h.Current() {
		all = append(all, k.SHA256)
	}
	return all
}

// answered takes what was typed.
func (m *Model) answered() tea.Cmd {
	was, text := m.asking, strings.TrimSpace(m.line.Text())
	m.asking = nothing
	switch {
	case was == importing:
		return m.readImport(text)
	case was == pattern && text != "":
		m.pattern = text
		return m.ask(signingKey, "")
	case was == signingKey:
		record, like := m.s.Workspace().Vouched, m.pattern
		return m.change(func() (string, error) {
			s, err := record.Trust(like, text, time.Now())
			return fmt.Sprintf("%s is trusted to sign for hosts like %s", s.SHA256, like), err
		})
	case was == exporting && text != "":
		return m.export(text)
	}
	return nil
}

// change changes the record off the interface's goroutine. Everything that rests on it
// is judged anew, and the trail has it.
func (m *Model) change(do func() (say string, err error)) tea.Cmd {
	b, record := m.s.Board, m.s.Record
	return m.s.Run(func() tea.Msg {
		say, err := do()
		if err == nil {
			b.Rejudge()
			record(trail.Entry{Kind: trail.Vouch, Say: say})
		}
		return done{say, err}
	})
}

// maxImport is how long a file of fingerprints is read, in bytes.
const maxImport = 4 << 20

// readImport reads fingerprints from a text, or from the file it names.
func (m *Model) readImport(text string) tea.Cmd {
	h, _ := m.selected()
	return m.s.Run(func() tea.Msg {
		if info, err := os.Stat(text); err == nil && info.Mode().IsRegular() && info.Size() < maxImport {
			if read, err := os.ReadFile(text); err == nil {
				text = string(read)
			}
		}
		list, unread := vouch.ReadExpected(text, h.Name, h.Port)
		return toImport{list, unread}
	})
}

// offer asks for a yes to an import.
func (m *Model) offer(msg toImport) {
	if len(msg.list) == 0 {
		m.note = "no fingerprint was found"
		if len(msg.unread) > 0 {
			m.note += ": " + msg.unread[0]
		}
		return
	}
	m.expected, m.asking = msg.list, agreeImport
	m.note = words.Count(len(msg.list), "fingerprint")
	if len(msg.unread) > 0 {
		m.note += fmt.Sprintf(", %s not understood: %s", words.Count(len(msg.unread), "line"), msg.unread[0])
	}
}

func (m *Model) doImport() tea.Cmd {
	record, list := m.s.Workspace().Vouched, m.expected
	m.expected = nil
	return m.change(func() (string, error) {
		n, err := record.Expect(list, time.Now())
		return words.Count(n, "fingerprint") + " expected now; a first visit compares", err
	})
}

func (m *Model) retire(h vouch.Host) tea.Cmd {
	record := m.s.Workspace().Vouched
	return m.change(func() (string, error) {
		err := record.Retire(h.At(), time.Now(), "retired by a person")
		return h.Name + " is history; the next visit is a first one", err
	})
}

// announced are the keys of a host that it announced itself and nobody compared.
func announced(h vouch.Host) []vouch.Vouch {
	return slices.DeleteFunc(h.Current(), func(v vouch.Vouch) bool { return v.How != vouch.Announced })
}

func (m *Model) confirm(h vouch.Host) tea.Cmd {
	record := m.s.Workspace().Vouched
	return m.change(func() (string, error) {
		for _, k := range announced(h) {
			if err := record.Confirm(h.At(), k.SHA256, time.Now()); err != nil {
				return "", err
			}
		}
		return "trusted by you", nil
	})
}

func (m *Model) export(path string) tea.Cmd {
	var all []vouch.Vouch
	for _, h := range m.list.All() {
		all = append(all, h.Keys...)
	}
	return m.s.Run(func() tea.Msg {
		text := vouch.SSHFP(all)
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err == nil {
			_, err = f.WriteString(text)
			f.Close()
		}
		where, _ := filepath.Abs(path)
		return done{fmt.Sprintf("%d records are in %s; hosts known by address alone have none", strings.Count(text, "\n"), workspace.Short(where)), err}
	})
}

// narrow lists the hosts with what is looked for.
func (m *Model) narrow() {
	find := strings.ToLower(m.find)
	if find == "" {
		m.list.Filter(nil)
		return
	}
	m.list.Filter(func(h vouch.Host) bool {
		text := h.Name + " " + h.Way + " " + strings.Join(m.sessionsAt(h), " ")
		for _, k := range h.Keys {
			text += " " + k.SHA256
		}
		return strings.Contains(strings.ToLower(text), find)
	})
}

// room is how many hosts fit.
func (m *Model) room() int {
	if _, _, beside := place.Halves(m.width); beside {
		return max(m.height-2, 3)
	}
	return max((m.height+1)*45/100-2, 3)
}

// in is the place as it is drawn in so many columns.
func (m *Model) in(width int) *Model {
	c := *m
	c.width = width
	return &c
}

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	title := t.Accent.Render("hosts")
	if m.find != "" && m.asking != finding {
		title += t.Accent.Render(" / ") + t.Strong.Render(m.find)
	}
	lines := []string{t.Title(title, t.Faint.Render(fmt.Sprintf("%d known · %d signing keys", len(m.list.All()), len(m.signers))), m.width, fit.Spread)}
	if word, ok := askings[m.asking]; ok {
		lines = append(lines, "   "+t.Accent.Render(word)+m.line.View(max(m.width-50, 20)))
	}
	switch {
	case m.err != nil:
		for _, l := range fit.Wrap(m.err.Error(), m.width-8) {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(l))
		}
	case !m.known:
		lines = append(lines, "", "   "+t.Faint.Render("Reading the trusted host keys …"))
	case len(m.list.All()) == 0:
		lines = append(lines, "", "   "+t.Faint.Render("No host key is trusted yet: the first connection to a host asks."))
	}
	room := m.room()
	columns, pane, beside := place.Halves(m.width)
	rows := m.list.Lines(m.in(columns).row)
	told := m.in(pane).chosen()
	if beside {
		return append(lines, place.Joined(t, rows, told, columns, max(m.height-len(lines), 0))...)
	}
	lines = append(lines, rows...)
	for len(lines) < room+2 {
		lines = append(lines, "")
	}
	return append(lines, told...)
}

// chosen is everything that is told of the chosen host.
func (m *Model) chosen() []string {
	t := m.s.Theme
	h, ok := m.selected()
	if m.asking == agreeRetire || m.asking == agreeConfirm {
		h, ok = m.about, true
	}
	if !ok {
		return []string{t.Title("", "", m.width, fit.Spread)}
	}
	return append([]string{t.Title(t.Strong.Render(sanitize.Line(h.At().String(), 200)), "", m.width, fit.Spread)}, m.detail(h)...)
}

func (m *Model) row(h vouch.Host, selected bool) string {
	t := m.s.Theme
	pointer, name := "  ", fit.Pad(sanitize.Line(h.At().String(), 200), min(40, m.width/3))
	if selected {
		pointer, name = t.Accent.Render(theme.Chosen+" "), t.Strong.Render(name)
	}
	current := h.Current()
	mark, say := t.Mark(gate.Untried), t.Faint.Render("history only")
	if n := len(current); n > 0 {
		last := current[n-1]
		mark = t.Mark(gate.Open)
		say = t.Faint.Render(fit.Pad("vouched "+day(last.When), 21))
		if a := len(announced(h)); a > 0 {
			mark = t.Mark(gate.Ajar)
			say += t.Verdict(gate.Ajar).Render(fmt.Sprintf("%d announced  ", a))
		}
		if n > 1 {
			say += words.Count(n, "key") + "  "
		} else {
			say += strings.TrimPrefix(last.Algorithm, "ssh-") + "  "
		}
	}
	if before := len(h.Keys) - len(current); before > 0 {
		say += t.Verdict(gate.Ajar).Render(fmt.Sprintf("%d before  ", before))
	}
	sessions := fit.Pad(strings.Join(m.sessionsAt(h), ", "), min(24, m.width/5))
	return fit.Cut(" "+pointer+mark+" "+name+" "+sessions+" "+say, m.width)
}

func day(when time.Time) string { return when.Local().Format("2 Jan 2006") }

// detail is everything known about a host.
func (m *Model) detail(h vouch.Host) []string {
	t := m.s.Theme
	var lines []string
	say := func(format string, args ...any) {
		for i, l := range fit.Wrap(fmt.Sprintf(format, args...), max(m.width-16, 20)) {
			if i > 0 {
				l = strings.Repeat(" ", 12) + l
			}
			lines = append(lines, fit.Cut("   "+l, m.width))
		}
	}
	for i := len(h.Keys) - 1; i >= 0; i-- {
		k := h.Keys[i]
		word, style := "now", t.Text
		end := ""
		if !k.Current() {
			word, style = "before", t.Faint
			when, why := k.End()
			end = fmt.Sprintf(", until %s: %s", day(when), sanitize.Line(why, 60))
		} else if k.How == vouch.Announced {
			when, _ := k.End()
			style, end = t.Verdict(gate.Ajar), fmt.Sprintf(", not compared: until %s, or %s confirms it", day(when), m.s.Press("mend"))
		}
		say("%s %s", t.Faint.Render(fit.Pad(word, 7)), style.Render(k.SHA256))
		say("        %s", t.Faint.Render(fmt.Sprintf("%s, vouched %s %s, at %s%s", k.Algorithm, k.When.Local().Format("2 Jan 2006 15:04"), k.Source(), sanitize.Line(k.Address, 60), end)))
	}
	if key, err := lastKey(h); err == nil && m.height > 29 {
		for _, n := range vouch.Notations[1:] {
			name := n.Name
			for _, l := range strings.Split(ansi.Hardwrap(n.Write(key), max(m.width-17, 20), false), "\n") {
				lines = append(lines, "   "+t.Faint.Render(fit.Pad(name, 12)+l))
				name = ""
			}
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
	return append(m.agreement(h), lines...)
}

// agreement is what is asked about the chosen host, or about what was read in, with what it would
// be done to; nothing where nothing is asked.
func (m *Model) agreement(h vouch.Host) []string {
	t := m.s.Theme
	var lines []string
	ask := func(what string) {
		for _, l := range fit.Wrap(what+"? enter does, any other key does not", m.width-6) {
			lines = append(lines, "   "+t.Accent.Render(l))
		}
	}
	switch m.asking {
	case agreeConfirm:
		ask("Compare with the machine's console. Trust these keys yourself")
		for _, k := range announced(h) {
			lines = append(lines, fmt.Sprintf("     %s  %s", fit.Pad(k.Algorithm, 20), t.Strong.Render(k.SHA256)))
		}
	case agreeRetire:
		ask(fmt.Sprintf("End the trust in the keys of %s", h.Name))
	case agreeImport:
		ask(m.note + ". Expect them")
		for i, e := range m.expected {
			if i == 6 {
				lines = append(lines, "     "+t.Faint.Render(fmt.Sprintf("and %d more", len(m.expected)-6)))
				break
			}
			lines = append(lines, fit.Cut(fmt.Sprintf("     %s  %s", fit.Pad(at(e.Host, e.Port), 28), e.Print), m.width))
		}
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
