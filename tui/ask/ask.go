package ask

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/ring"
	"meatus/core/sanitize"
	"meatus/core/step"
	"meatus/core/vouch"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/theme"
)

// Model shows the first of the waiting questions and takes its answer.
type Model struct {
	theme   *theme.Theme
	width   int
	waiting []*question
	inputs  []*line.Line
	at      int    // the input that has focus
	note    string // what was wrong with the last answer
	turn    int
}

// New returns a model without questions.
func New(t *theme.Theme) *Model { return &Model{theme: t} }

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// Waiting tells whether a question waits for an answer.
func (m *Model) Waiting() bool { return len(m.waiting) > 0 }

// Turn is another number for each question that comes to be the first, or for none being left.
func (m *Model) Turn() int { return m.turn }

// Count is how many questions wait.
func (m *Model) Count() int { return len(m.waiting) }

// Lend tells whether the first question is for the use of a lent key. It comes when it
// comes, while a person types something else, perhaps: it is answered by keys that no typing
// contains.
func (m *Model) Lend() bool { return m.Waiting() && m.waiting[0].lend != nil }

// Who says who asks, and for what, in a few words.
func (m *Model) Who() string {
	if !m.Waiting() {
		return ""
	}
	q := m.waiting[0]
	if q.lend != nil {
		return fmt.Sprintf("%s asks for %s", q.lend.By(), q.lend.Use.Key)
	}
	title, _ := m.words(q)
	return q.place().Session + " asks: " + title
}

// Session is the session whose walk the first question belongs to.
func (m *Model) Session() string {
	if len(m.waiting) == 0 {
		return ""
	}
	return m.waiting[0].place().Session
}

// Update takes a message. Keys come here only while the question has focus.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case Asked:
		m.waiting = append(m.waiting, msg.question)
		if len(m.waiting) == 1 {
			m.begin()
		}
	case Withdrawn:
		if at := slices.Index(m.waiting, msg.question); at >= 0 {
			m.waiting = slices.Delete(m.waiting, at, at+1)
			if at == 0 {
				m.begin()
			}
		}
	case tea.KeyPressMsg:
		return m.key(msg)
	case tea.PasteMsg:
		return m.typed(msg)
	}
	return nil
}

// begin makes the inputs for the first question.
func (m *Model) begin() {
	for _, in := range m.inputs {
		in.Wipe()
	}
	m.inputs, m.at, m.note = nil, 0, ""
	m.turn++
	if len(m.waiting) == 0 {
		return
	}
	q := m.waiting[0]
	hidden := []bool{false}
	switch {
	case q.lend != nil: // nothing is typed
		hidden = nil
	case q.passphrase != nil:
		hidden = []bool{true}
		if q.passphrase.Try > 1 {
			m.note = "that passphrase does not open the key; try again"
		}
	case q.server != nil:
		hidden = nil
		for _, each := range q.server.Questions {
			hidden = append(hidden, !each.Echo)
		}
		if q.server.Try > 1 {
			m.note = "that was not accepted; try again"
		}
	}
	for _, h := range hidden {
		in := line.New(m.theme, "› ")
		if h {
			in.Hide()
		}
		m.inputs = append(m.inputs, in)
	}
	m.focus(0)
}

// Wipe empties the inputs that are typed hidden; the question goes on waiting.
func (m *Model) Wipe() {
	for _, in := range m.inputs {
		in.Wipe()
	}
}

func (m *Model) focus(at int) {
	for i := range m.inputs {
		m.inputs[i].Blur()
	}
	if at < len(m.inputs) {
		m.at = at
		m.inputs[at].Focus()
	}
}

func (m *Model) key(msg tea.KeyPressMsg) tea.Cmd {
	if len(m.waiting) == 0 {
		return nil
	}
	if m.Lend() {
		m.lendKey(msg.String())
		return nil
	}
	switch msg.String() {
	case "esc", "ctrl+c":
		m.reply(answer{err: step.ErrDeclined})
		return nil
	case "enter":
		m.enter()
		return nil
	case "tab", "down":
		m.focus((m.at + 1) % max(len(m.inputs), 1))
		return nil
	case "shift+tab", "up":
		m.focus((m.at + len(m.inputs) - 1) % max(len(m.inputs), 1))
		return nil
	}
	return m.typed(msg)
}

// lendKey takes a key while the use of a lent key is asked for. Letters and enter, which
// somebody may go on typing, answer nothing.
func (m *Model) lendKey(key string) {
	switch key {
	case "ctrl+y":
		m.reply(answer{})
	case "ctrl+n":
		m.reply(answer{err: step.ErrDeclined})
	case "ctrl+x":
		m.reply(answer{err: ring.ErrNoMore})
	default:
		m.note = "ctrl+y allows this use; ctrl+n refuses; ctrl+x refuses this and all further ones"
	}
}

func (m *Model) typed(msg tea.Msg) tea.Cmd {
	if m.at >= len(m.inputs) {
		return nil
	}
	m.inputs[m.at].Take(msg)
	return nil
}

// enter goes to the next input, or answers after the last.
func (m *Model) enter() {
	if m.at < len(m.inputs)-1 {
		m.focus(m.at + 1)
		return
	}
	q := m.waiting[0]
	if q.passphrase != nil {
		if len(m.inputs[0].Peek()) == 0 {
			m.note = "type the passphrase, or press esc"
			return
		}
		m.reply(answer{secret: m.inputs[0].Secret()})
		return
	}
	var texts []string
	for _, in := range m.inputs {
		texts = append(texts, in.Text())
	}
	switch {
	case q.identity != nil && !m.vouchedFor(strings.TrimSpace(texts[0])):
		return
	}
	m.reply(answer{texts: texts})
}

// vouchedFor tells whether what was typed vouches for the host: the word yes, or
// the very fingerprint it shows.
func (m *Model) vouchedFor(typed string) bool {
	i := m.waiting[0].identity
	match, ok := vouch.Compare(typed, i.Key)
	same, others := i.Agreement()
	switch {
	case ok && match.Same, typed == "" && same != nil:
		return true
	case len(others) > 0 && !ok:
		if len(typed) == 6 && strings.HasSuffix(i.SHA256, typed) {
			return true
		}
		m.note = "it is not the expected key: type the last six characters of its fingerprint, or press esc"
		m.inputs[0].Begin("")
		return false
	case typed == "yes":
		return true
	case ok:
		m.note = "that is another fingerprint; the differences are marked"
		return false
	}
	m.note = "type yes to trust the key, or paste the fingerprint you expect, or press esc"
	m.inputs[0].Begin("")
	return false
}

// compared draws a fingerprint beside the one it is expected to be.
func (m *Model) compared(word, written string, key ssh.PublicKey) []string {
	t := m.theme
	match, ok := vouch.Compare(written, key)
	if !ok {
		return nil
	}
	mark := t.Mark(gate.Open) + " the same"
	if !match.Same {
		mark = t.Mark(gate.Shut) + t.Verdict(gate.Shut).Render(" differs")
	}
	return []string{"  " + t.Faint.Render(fit.Pad(word, 9)) + t.Differing(match.Expected, match.Shown) + "  " + mark}
}

func (m *Model) reply(a answer) {
	m.waiting[0].answer <- a
	m.waiting = m.waiting[1:]
	m.begin()
}

// View draws the first question in height lines. Where the keys are not the question's, to
// says how to get to it.
func (m *Model) View(height int, to string) []string {
	if len(m.waiting) == 0 {
		return nil
	}
	t, q := m.theme, m.waiting[0]
	p := q.place()
	more := ""
	if n := len(m.waiting) - 1; n > 0 {
		more = t.Faint.Render(fmt.Sprintf("%d more waiting", n))
	}
	if to != "" {
		more = t.Accent.Render(to)
	}
	title, body := m.words(q)
	lines := []string{t.Title(t.Accent.Render(title)+t.Rule.Render(" ─ ")+t.Strong.Render(p.Session), more, m.width, fit.Spread)}
	if height > 9 {
		lines = append(lines, "")
	}
	for _, l := range body {
		lines = append(lines, "   "+l)
	}
	for i := range m.inputs {
		if to != "" {
			break
		}
		if q.server != nil {
			lines = append(lines, "   "+m.questionText(q.server, i))
		}
		lines = append(lines, "   "+m.inputs[i].View(max(m.width-12, 10)))
	}
	if m.note != "" {
		lines = append(lines, "   "+t.Accent.Render(m.note))
	}
	return lines[:min(len(lines), height)]
}

func (m *Model) questionText(q *step.ServerQuestions, i int) string {
	if q.Password {
		return fmt.Sprintf("password of %s at %s", m.theme.Strong.Render(sanitize.Line(q.User, 40)), m.theme.Strong.Render(q.Hop))
	}
	return q.Questions[i].Text
}

// identityWords are what is told of a host that is visited for the first time.
func (m *Model) identityWords(i *step.IdentityQuestion) (body []string) {
	t := m.theme
	wrap := func(s string) { body = append(body, fit.Wrap(s, m.width-6)...) }
	wrap(fmt.Sprintf("First connection to %s at %s. Its host key:", i.Hop, i.Address))
	body = append(body,
		"  "+t.Faint.Render(fit.Pad("kind", 9))+i.Algorithm,
		"  "+t.Faint.Render(fit.Pad("SHA256", 9))+t.Strong.Render(strings.TrimPrefix(i.SHA256, "SHA256:")),
		"  "+t.Faint.Render(fit.Pad("MD5", 9))+i.MD5)
	for _, word := range i.Words() {
		for _, l := range fit.Wrap(word, m.width-10) {
			body = append(body, t.Mark(gate.Ajar)+" "+t.Verdict(gate.Ajar).Render(l))
		}
	}
	same, others := i.Agreement()
	switch {
	case same != nil:
		body = append(body, m.compared("expected", same.Print, i.Key)...)
	case len(others) > 0:
		for _, e := range others {
			body = append(body, m.compared("expected", e.Print, i.Key)...)
		}
	default:
		for _, e := range i.Expected {
			if e.Kind == "" { // one of another kind is about another key
				body = append(body, m.compared("expected", e.Print, i.Key)...)
			}
		}
	}
	if len(m.inputs) > 0 {
		body = append(body, m.compared("pasted", m.inputs[0].Text(), i.Key)...)
	}
	switch {
	case same != nil:
		wrap(fmt.Sprintf("It is the one announced by %s. Enter trusts it:", sanitize.Line(same.Source, 80)))
	case len(others) > 0:
		wrap("Ask its administrator before you continue. If you know the reason, type the last six characters of the SHA256 fingerprint:")
	default:
		wrap("Compare the fingerprint with the machine's console, or paste it here. If it is the same, type yes:")
	}
	return body
}

// words are a question's title and text.
func (m *Model) words(q *question) (title string, body []string) {
	t := m.theme
	wrap := func(s string) { body = append(body, fit.Wrap(s, m.width-6)...) }
	switch {
	case q.identity != nil:
		return "first visit", m.identityWords(q.identity)
	case q.lend != nil:
		u := q.lend.Use
		wrap(fmt.Sprintf("%s wants to use %s %s. It is request %d.", q.lend.By(), u.Key, u.For(), u.Count))
		if u.Host != "" {
			wrap("The host's key is " + u.Host + ".")
		}
		if len(u.Via) > 0 {
			wrap(fmt.Sprintf("The request came on through %d further machines.", len(u.Via)))
		}
		wrap("If you just started that, ctrl+y allows it. If not, someone else did: ctrl+n refuses, ctrl+x ends agent forwarding.")
		return "a lent key is asked for", body
	case q.passphrase != nil:
		k := q.passphrase
		wrap(fmt.Sprintf("%s would take %s, which has a passphrase.", k.Hop, sanitize.Name(k.Path)))
		body = append(body, "  "+t.Faint.Render(fit.Pad("file", 9))+k.Path)
		if k.Fingerprint != "" {
			body = append(body, "  "+t.Faint.Render(fit.Pad("SHA256", 9))+strings.TrimPrefix(k.Fingerprint, "SHA256:"))
		}
		wrap("It is kept in memory until the program ends.")
		return "passphrase", body
	}
	s := q.server
	if s.Banner != "" {
		for i, l := range strings.Split(s.Banner, "\n") {
			if i < 3 {
				body = append(body, t.Faint.Render("it says  ")+fit.Cut(l, m.width-16))
			}
		}
	}
	if s.After != "" {
		wrap(fmt.Sprintf("%s was accepted; one more step is wanted.", s.After))
	}
	for _, text := range []string{s.Title, s.Instruction} {
		for _, l := range strings.Split(text, "\n") {
			if l != "" {
				wrap(l)
			}
		}
	}
	for _, l := range s.Picture {
		if len(s.Picture)+len(body) < 40 && fit.Width(l) < m.width-6 {
			body = append(body, "  "+l)
		}
	}
	if s.Password {
		return "password", body
	}
	return s.Hop + " asks", body
}

// Hints are the keys of a question.
func (m *Model) Hints() []theme.Hint {
	if m.Waiting() && m.waiting[0].lend != nil {
		return []theme.Hint{{Key: "ctrl+y", Does: "let it, once"}, {Key: "ctrl+n", Does: "refuse"}, {Key: "ctrl+x", Does: "refuse all"}}
	}
	if m.Waiting() && m.waiting[0].identity != nil {
		return []theme.Hint{{Key: "yes enter", Does: "trust the key"}, {Key: "esc", Does: "cancel"}}
	}
	return []theme.Hint{{Key: "enter", Does: "answer"}, {Key: "esc", Does: "give none"}}
}
