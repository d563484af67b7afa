package keys

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/core/keyfile"
	"meatus/core/workspace"
	"meatus/tui/theme"
)

// step is one thing that is asked for.
type step struct {
	prompt string
	value  string // proposed
	hidden bool
	judge  bool // a new passphrase: say how strong it is
	bare   bool // nothing is typed, only agreed to
}

// form asks for one thing after another. What is typed hidden is wiped with it.
type form struct {
	what   string
	steps  []step
	at     int
	values []string
	input  textinput.Model
	theme  *theme.Theme
}

func (m *Model) ask(what string, steps ...step) {
	m.form = &form{what: what, steps: steps, theme: m.theme}
	m.form.begin()
}

func (f *form) begin() {
	s := f.steps[f.at]
	f.input = textinput.New()
	f.input.Prompt = ""
	f.input.SetVirtualCursor(true)
	if s.hidden {
		f.input.EchoMode, f.input.EchoCharacter = textinput.EchoPassword, '•'
	}
	f.theme.Input(&f.input)
	f.input.SetValue(s.value)
	f.input.CursorEnd()
	f.input.Focus()
}

func (f *form) setTheme(t *theme.Theme) {
	f.theme = t
	t.Input(&f.input)
}

func (f *form) update(msg tea.Msg) (cmd tea.Cmd) {
	if !f.steps[f.at].bare {
		f.input, cmd = f.input.Update(msg)
	}
	return cmd
}

func (f *form) view(width int) []string {
	s := f.steps[f.at]
	f.input.SetWidth(max(width-len(s.prompt)-8, 12))
	line := "   " + f.theme.Accent.Render(s.prompt)
	if !s.bare {
		line += f.input.View()
	}
	lines := []string{line}
	if s.judge {
		say := "a good one"
		if weak := keyfile.JudgePassphrase([]byte(f.input.Value())); weak != "" {
			say = weak
		}
		lines = append(lines, "   "+f.theme.Faint.Render("  "+say))
	}
	return lines
}

// formKey gives a key to what is asked for.
func (m *Model) formKey(msg tea.KeyPressMsg) tea.Cmd {
	f := m.form
	switch msg.String() {
	case "esc", "ctrl+c":
		m.form = nil
		if f.what == "find" {
			m.find = ""
			m.narrow()
		}
		return nil
	case "enter":
		f.values = append(f.values, f.input.Value())
		if f.at++; f.at < len(f.steps) {
			f.begin()
			return nil
		}
		m.form = nil
		return m.answered(f.what, f.values)
	}
	cmd := f.update(msg)
	if f.what == "find" {
		m.find = f.input.Value()
		m.narrow()
	}
	return cmd
}

var errTwice = errors.New("the two passphrases are not the same; nothing was done")

// answered does what was asked for.
func (m *Model) answered(what string, values []string) tea.Cmd {
	k, _ := m.selected()
	ws := m.ws
	last := strings.TrimSpace(values[len(values)-1])
	var old []byte
	if k.Sheet.Passphrase && len(values) > 0 {
		old = []byte(values[0])
	}
	job := func(say string, do func() error) tea.Cmd {
		return func() tea.Msg {
			if err := do(); err != nil {
				return done{err: err}
			}
			return done{say: say}
		}
	}
	switch what {
	case "which":
		m.whichKey(last)
	case "folder":
		on := true
		for _, dir := range ws.KeyFolders() {
			on = on && dir != ws.Planner().KeyPath(last)
		}
		return job(map[bool]string{true: "looked through: ", false: "no more looked through: "}[on]+last, func() error { return ws.AddKeyFolder(last, on) })
	case "rename":
		return m.moveKey(k, "rename", last)
	case "retire":
		return m.moveKey(k, "retire", "")
	case "make":
		return job(values[0]+" is made, its public half beside it", func() error { return makeKey(ws, values) })
	case "passphrase":
		pass := values[len(values)-2]
		return job(filepath.Base(k.Path)+" has another passphrase", func() error {
			if pass != values[len(values)-1] {
				return errTwice
			}
			return keyfile.Rewrap(k.Path, old, keyfile.Wrapping{Container: k.Sheet.Container, Passphrase: []byte(pass)})
		})
	case "container":
		form, ok := map[string]keyfile.Container{"bcrypt": keyfile.Bcrypt, "pkcs8": keyfile.PKCS8, "pkcs1": keyfile.PKCS1, "sec1": keyfile.SEC1}[strings.ToLower(last)]
		if !ok {
			m.note = fmt.Sprintf("%q is no container that is written here", last)
			return nil
		}
		return job(filepath.Base(k.Path)+" is in "+string(form)+" now", func() error {
			return keyfile.Rewrap(k.Path, old, keyfile.Wrapping{Container: form, Passphrase: old})
		})
	case "public":
		return job("the public half is in "+last, func() error { return writePublic(ws, k, old, last) })
	case "unseal":
		return func() tea.Msg {
			file, err := keyfile.Read(k.Path)
			if err != nil {
				return unsealed{err: err}
			}
			text, err := file.Unseal(last, old)
			return unsealed{text, err}
		}
	}
	return nil
}

// makeKey makes a key pair in keys/ of what was typed: name, kind, passphrase and
// the same again.
func makeKey(ws *workspace.Workspace, values []string) error {
	name := strings.TrimSpace(values[0])
	if name == "" || name != filepath.Base(name) {
		return fmt.Errorf("%q is no name for a file in keys/", name)
	}
	if values[2] != values[3] {
		return errTwice
	}
	words := strings.Fields(values[1])
	bits := 0
	if len(words) > 1 {
		bits, _ = strconv.Atoi(words[1])
	}
	if len(words) == 0 {
		words = []string{"Ed25519"}
	}
	key, err := keyfile.Make(words[0], bits)
	if err != nil {
		return err
	}
	dir := filepath.Join(ws.Dir, "keys")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return keyfile.Write(filepath.Join(dir, name), key, keyfile.Wrapping{Passphrase: []byte(values[2])})
}

// writePublic writes the public half of a key to a new file.
func writePublic(ws *workspace.Workspace, k workspace.Key, pass []byte, to string) error {
	file, err := keyfile.Read(k.Path)
	if err != nil {
		return err
	}
	public := file.Public
	if public == nil {
		signer, err := file.Signer(pass)
		if err != nil {
			return err
		}
		public = signer.PublicKey()
	}
	f, err := os.OpenFile(ws.Planner().KeyPath(to), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteString(keyfile.PublicLine(public, file.Comment))
	return errors.Join(err, f.Close())
}
