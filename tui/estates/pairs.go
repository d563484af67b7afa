package estates

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// shownFor is how long a first password is shown.
const shownFor = time.Minute

// askTime is how long a source is waited for.
const askTime = time.Minute

// These are what became of what was begun.
type (
	usesFound struct{ uses []estate.Use }
	pairSent  struct {
		say string
		err error
	}
	passwordIs struct {
		of   string
		text []byte
		err  error
	}
	passwordLocked struct{ of, sealed, file string }
	forgetPassword struct{ n int }
)

// showPairs shows the key pairs in place of the networks, or the networks again.
func (m *Model) showPairs() tea.Cmd {
	if m.pairs = !m.pairs; !m.pairs {
		return nil
	}
	return m.findUses()
}

func (m *Model) findUses() tea.Cmd {
	ws := m.s.Workspace()
	return m.s.Run(func() tea.Msg { return usesFound{estate.Uses(ws.Estates, ws.KeyOf)} })
}

// pairKey is what a key pair is told apart by.
type pairKey struct{ source, name string }

func pairKeyOf(u estate.Use) pairKey { return pairKey{u.Source, u.Name} }

// use is the chosen key pair.
func (m *Model) use() (estate.Use, bool) {
	return m.uses.Selected()
}

// pairsTable is what can be done with key pairs.
func (m *Model) pairsTable() action.Table {
	_, some := m.use()
	any := func() bool { return some }
	acts := func() bool { _, ok := m.launchable(); return ok }
	return action.Table{
		action.On("a", "ask colleagues for the key file", m.askAround).If(any, "there is none").Suits(func() bool { u, ok := m.use(); return ok && u.Missing() }).Also("who has copy message"),
		action.On("n", "create a key pair, upload its public key", func() tea.Cmd {
			return m.ask("make",
				form.Step{Prompt: "its name: "}, form.Step{Prompt: "kind: ", Value: "Ed25519"},
				form.Step{Prompt: "passphrase, or nothing: ", Hidden: true, Judge: true}, form.Step{Prompt: "the same again: ", Hidden: true, Again: true})
		}).If(acts, "the estates only tell").Whole().Also("new key pair create"),
		action.On("I", "upload the public key of a key file", func() tea.Cmd {
			return m.ask("send", form.Step{Prompt: "which key file: ", Value: "keys/"}, form.Step{Prompt: "what it is called there, or nothing for the file's name: "})
		}).If(acts, "the estates only tell").Whole().Also("import upload public key"),
		action.On("up down", "choose", nil).Ranked(action.Movement),
		action.On("v esc q ctrl+c", "to the instances", m.showPairs),
	}
}

func (m *Model) ask(what string, steps ...form.Step) tea.Cmd {
	m.form = form.New(m.s.Theme, what, steps...)
	return nil
}

// formTable is what can be done while something is asked for.
func (m *Model) formTable() action.Table {
	return m.form.Table(m.answered, func() { m.form = nil })
}

// answered does what was asked for.
func (m *Model) answered(what string, values []string) tea.Cmd {
	secrets := m.form.Secrets()
	m.form = nil
	ws := m.s.Workspace()
	source, _ := m.launchable()
	switch what {
	case "make":
		return m.s.Run(func() tea.Msg {
			defer clear(secrets[2])
			name := strings.TrimSpace(values[0])
			if err := ws.MakeKey(name, values[1], secrets[2]); err != nil {
				return pairSent{err: err}
			}
			return sendPair(ws, source, filepath.Join("keys", name), "")
		})
	case "send":
		return m.s.Run(func() tea.Msg {
			return sendPair(ws, source, strings.TrimSpace(values[0]), strings.TrimSpace(values[1]))
		})
	case "port":
		_, port, err := reach.ReadPort("it:" + strings.TrimSpace(values[0]))
		if err != nil {
			m.s.Tell(err.Error())
			return nil
		}
		return m.findAt(false, port)
	case "passphrase":
		locked := m.locked
		return m.s.Run(func() tea.Msg {
			defer clear(secrets[0])
			return unseal(ws, locked, secrets[0])
		})
	}
	return nil
}

// sendPair sends the public half of a key file to a source.
func sendPair(ws *workspace.Workspace, source book.EstateSource, file, name string) pairSent {
	path := ws.Planner().KeyPath(file)
	key, err := keyfile.Read(path)
	if err != nil {
		return pairSent{err: err}
	}
	defer key.Forget()
	if key.Public == nil {
		return pairSent{err: fmt.Errorf("%s does not show its public half: write that first, on Keys", sanitize.Path(file))}
	}
	if name == "" {
		name = workspace.PairName(path)
	}
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	err = (&estate.Source{Dir: ws.Dir, EstateSource: source}).SendKeyPair(ctx, name, keyfile.PublicLine(key.Public, ""))
	return pairSent{"key pair " + name + " is at estate " + source.Name, err}
}

// askAround copies the request for a key pair's file.
func (m *Model) askAround() tea.Cmd {
	u, _ := m.use()
	var known []string
	if m.s.Trail != nil && u.Fingerprint != "" {
		known = m.s.Trail.UsersOf(u.Fingerprint)
	}
	m.s.Tell("the request for " + sanitize.Line(u.Name, 40) + " is copied")
	return m.s.Copy(u.Ask(known))
}

// pairsView draws the key pairs, and what is known of the chosen one.
func (m *Model) pairsView() []string {
	t := m.s.Theme
	missing := 0
	for _, u := range m.uses.All() {
		if u.Missing() {
			missing++
		}
	}
	right := strconv.Itoa(m.uses.Len()) + " key pairs"
	if missing > 0 {
		right += fmt.Sprintf(", %d without a key file here", missing)
	}
	lines := []string{t.Title(t.Accent.Render("estate / key pairs"), t.Faint.Render(right), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	if m.uses.Len() == 0 {
		return append(lines, "", "   "+t.Faint.Render("The estates tell of no key pair."))
	}
	left, pane, beside := place.Halves(m.width)
	drawn, _ := m.uses.Rows(m.pairRoom(), func(u estate.Use, chosen bool) fit.Row {
		pointer, mark := "  ", t.Mark(gate.Open)
		if chosen {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		file := sanitize.Path(u.File)
		switch {
		case u.Missing():
			mark, file = t.Mark(gate.Shut), t.Verdict(gate.Shut).Render("no file here")
		case u.File == "":
			mark, file = t.Mark(gate.Untried), t.Faint.Render("no file here")
		}
		made := ""
		if n := len(u.Instances); n > 0 {
			made = t.Faint.Render(fmt.Sprintf("  %s", strings.Join(u.Instances[:min(n, 3)], ", ")))
			if n > 3 {
				made += t.Faint.Render(fmt.Sprintf(" and %d more", n-3))
			}
		}
		line := " " + pointer + mark + " " + t.Strong.Render(fit.Pad(sanitize.Line(u.Name, 24), 16)) + " " + fit.Pad(file, 20) + made
		return fit.Hang(line, 44, left-1)
	})
	told := m.pairCard(pane)
	if beside {
		return append(lines, place.Joined(t, drawn, told, left, max(m.height-len(lines), 0))...)
	}
	lines = append(append(lines, drawn...), "")
	return append(lines, told[:max(min(len(told), m.height-len(lines)), 0)]...)
}

// pairRoom is how many rows of key pairs show at once.
func (m *Model) pairRoom() int {
	if _, _, beside := place.Halves(m.width); beside {
		return max(m.height-2, 3)
	}
	return max(m.height/2-1, 3)
}

// pairCard is what is known of the chosen key pair.
func (m *Model) pairCard(width int) []string {
	t := m.s.Theme
	u, ok := m.use()
	if !ok {
		return nil
	}
	lines := []string{t.Title(t.Strong.Render(sanitize.Line(u.Name, 60)), t.Faint.Render("of "+sanitize.Line(u.Source, 20)), width, fit.Spread)}
	say := func(word, text string) {
		if text != "" {
			lines = append(lines, fit.Hang("   "+t.Faint.Render(fit.Pad(word, 11))+" "+text, 15, width-1).Whole...)
		}
	}
	say("kind", sanitize.Line(u.Kind, 40))
	say("fingerprint", sanitize.Line(u.Fingerprint, 100))
	if u.File != "" {
		say("file here", sanitize.Path(u.File))
	} else {
		say("file here", t.Faint.Render("none"))
	}
	say("instances", sanitize.Line(strings.Join(u.Instances, ", "), 2000))
	if u.Missing() {
		lines = append(lines, "")
		lines = append(lines, fit.Hang("   "+t.Accent.Render(theme.Remedy+" ")+"no key file here: nobody can log in to instances made with it; "+t.Key.Render(m.s.Press("ask"))+" copies a request for it", 5, width-1).Whole...)
	}
	return lines
}

// password fetches the first password of the chosen instance, and opens it with the file of its key pair.
func (m *Model) password() tea.Cmd {
	s := m.chosen()
	source, _ := m.source()
	ws, id, of := m.s.Workspace(), s.Instance.ID, called(s.Instance)
	file := m.files[s.Source.Snapshot.KeyPairOf(s.Instance)]
	m.s.Tell("asking for the first password of " + of + " …")
	return m.s.Run(func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), askTime)
		defer cancel()
		sealed, err := (&estate.Source{Dir: ws.Dir, EstateSource: source}).SealedPassword(ctx, id)
		if err != nil {
			return passwordIs{of: of, err: err}
		}
		locked := passwordLocked{of, sealed, file}
		key, err := keyfile.Read(ws.Planner().KeyPath(file))
		if err != nil {
			return passwordIs{of: of, err: err}
		}
		defer key.Forget()
		if key.Passphrase {
			return locked
		}
		return unseal(ws, locked, nil)
	})
}

// unseal opens a first password.
func unseal(ws *workspace.Workspace, l passwordLocked, passphrase []byte) passwordIs {
	key, err := keyfile.Read(ws.Planner().KeyPath(l.file))
	if err != nil {
		return passwordIs{of: l.of, err: err}
	}
	defer key.Forget()
	text, err := key.Unseal(l.sealed, passphrase)
	return passwordIs{l.of, text, err}
}

// passwordCan tells whether a first password of the chosen instance could be opened here.
func (m *Model) passwordCan() bool {
	s := m.chosen()
	source, ok := m.source()
	return ok && (&estate.Source{EstateSource: source}).Acts() && s.Instance.KeyPair != "" && m.files[s.Source.Snapshot.KeyPairOf(s.Instance)] != ""
}

// showPassword shows a first password for a minute.
func (m *Model) showPassword(p passwordIs) tea.Cmd {
	if p.err != nil {
		m.s.Tell(p.of + ": " + p.err.Error())
		return nil
	}
	m.forget()
	m.opened, m.openedOf = p.text, p.of
	m.opening++
	m.s.Tell("")
	return m.s.After(shownFor, forgetPassword{m.opening})
}

// forget wipes the first password that is shown.
func (m *Model) forget() {
	clear(m.opened)
	m.opened = nil
}

// copyPassword copies the first password that is shown.
func (m *Model) copyPassword() tea.Cmd {
	m.s.Tell("the first password of " + m.openedOf + " is copied")
	return m.s.Copy(string(m.opened))
}
