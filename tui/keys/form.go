package keys

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/tui/form"
)

func (m *Model) ask(what string, steps ...form.Step) tea.Cmd {
	m.about, _ = m.list.Selected()
	m.form = form.New(m.s.Theme, what, steps...)
	return nil
}

// aboutNothing are the forms that are about no key that is there.
var aboutNothing = map[string]bool{"which": true, "folder": true, "split": true, "make": true, "find": true, "careful": true}

// subject is the key that the form was shown about, whatever is chosen by now. It fails where the file has gone or holds
// another key.
func (m *Model) subject(what string) (workspace.Key, error) {
	now, there := m.list.Find(m.about.Path)
	switch {
	case aboutNothing[what]:
		return m.about.Key, nil
	case !there:
		return m.about.Key, errors.New(sanitize.Name(m.about.Path) + " is not there any more, and nothing was done")
	case now.Sheet.SHA256 != m.about.Sheet.SHA256:
		return m.about.Key, errors.New(sanitize.Name(m.about.Path) + " holds another key by now, and nothing was done: look again")
	}
	return m.about.Key, nil
}

// typed gives a key, or what was pasted, to the form.
func (m *Model) typed(msg tea.Msg) {
	m.form.Take(msg)
	if m.form.What == "find" {
		m.find = m.form.Typed()
		m.narrow()
	}
}

// left gives the form up.
func (m *Model) left() {
	if m.form.What == "find" {
		m.find = ""
		m.narrow()
	}
	m.form = nil
}

// answered does what was asked for.
func (m *Model) answered(what string, values []string) tea.Cmd {
	secrets := m.form.Secrets()
	m.form = nil
	k, err := m.subject(what)
	if err != nil {
		for _, secret := range secrets {
			clear(secret)
		}
		m.note = err.Error()
		return nil
	}
	ws := m.ws
	last := strings.TrimSpace(values[len(values)-1])
	old := secrets[0] // nil where the key has no passphrase
	switch what {
	case "which":
		return m.whichKey(last)
	case "folder":
		return m.change(func() done { return addFolder(ws, last) })
	case "split":
		return m.change(func() done { return splitFile(ws, last) })
	case "rename":
		return m.moveKey(k, "rename", last)
	case "retire":
		return m.moveKey(k, "retire", "")
	case "make", "passphrase", "container", "public":
		return m.written(what, k, values, secrets)
	case "hold":
		return m.hold(k, old)
	case "install":
		o, err := install.ParseOptions(last)
		if err != nil {
			m.note = err.Error()
			return nil
		}
		return m.install(k, strings.TrimSpace(values[0]), o)
	case "rotate":
		return m.rotate(k, keyAt(ws, values[0]), strings.FieldsFunc(last, func(r rune) bool { return r == ',' || r == ' ' }))
	case "careful":
		return m.rotateCarefully(last)
	case "bind":
		return m.bind(k, values)
	case "unseal":
		return m.s.Run(func() tea.Msg {
			file, err := keyfile.Read(k.Path)
			if err != nil {
				return unsealed{err: err}
			}
			defer file.Forget()
			defer clear(old)
			text, err := file.Unseal(last, old)
			return unsealed{text, err}
		})
	}
	return nil
}

// written writes a key file anew, or a new one, as it was asked for.
func (m *Model) written(what string, k workspace.Key, values []string, secrets [][]byte) tea.Cmd {
	ws, last, old := m.ws, strings.TrimSpace(values[len(values)-1]), secrets[0]
	job := func(say, show string, do func() error) tea.Cmd {
		return m.change(func() done {
			for _, secret := range secrets {
				defer clear(secret)
			}
			if err := do(); err != nil {
				return done{err: err}
			}
			return done{say: say, show: show}
		})
	}
	switch what {
	case "make":
		return job(values[0]+" is made, its public half beside it", keyAt(ws, values[0]), func() error { return ws.MakeKey(values[0], values[1], secrets[2]) })
	case "passphrase":
		if !k.Sheet.Passphrase {
			old = nil
		}
		return job(sanitize.Name(k.Path)+" has another passphrase", "", func() error {
			return keyfile.Rewrap(k.Path, old, keyfile.Wrapping{Container: k.Sheet.Container, Passphrase: secrets[len(secrets)-2]})
		})
	case "container":
		form, ok := map[string]keyfile.Container{"bcrypt": keyfile.Bcrypt, "pkcs8": keyfile.PKCS8, "pkcs1": keyfile.PKCS1, "sec1": keyfile.SEC1}[strings.ToLower(last)]
		if !ok {
			m.note = fmt.Sprintf("unknown file format %q", last)
			return nil
		}
		return job(sanitize.Name(k.Path)+" is in "+string(form)+" now", "", func() error {
			return keyfile.Rewrap(k.Path, old, keyfile.Wrapping{Container: form, Passphrase: old})
		})
	case "public":
		return job("the public half is in "+last, "", func() error { return writePublic(ws, k, old, last) })
	}
	return nil
}

// addFolder has a folder looked through for keys, or no more where it was.
func addFolder(ws *workspace.Workspace, folder string) done {
	on := true
	for _, dir := range ws.KeyFolders() {
		on = on && dir != ws.Planner().KeyPath(folder)
	}
	if err := ws.AddKeyFolder(folder, on); err != nil {
		return done{err: err}
	}
	return done{say: map[bool]string{true: "looked through: ", false: "no more looked through: "}[on] + folder}
}

// splitFile puts the keys of an archive, or of a file of several, into keys/.
func splitFile(ws *workspace.Workspace, file string) done {
	written, err := keyfile.SplitFile(ws.Planner().KeyPath(file), filepath.Join(ws.Dir, "keys"))
	d := done{err: err}
	if len(written) > 0 {
		d.show = written[0]
	}
	for i, path := range written {
		if i > 0 {
			d.say += ", "
		}
		d.say += sanitize.Name(path)
	}
	if d.say != "" {
		d.say += " came out of " + sanitize.Name(file)
	}
	return d
}

// keyAt is the path of a key that is named: a file of keys/, or a path.
func keyAt(ws *workspace.Workspace, name string) string {
	name = strings.TrimSpace(name)
	if name == filepath.Base(name) {
		return filepath.Join(ws.Dir, "keys", name)
	}
	return ws.Planner().KeyPath(name)
}

// bind says in the sessions file what a key is meant for.
func (m *Model) bind(k workspace.Key, values []string) tea.Cmd {
	ws := m.ws
	return m.change(func() done {
		var d done
		for i, field := range []string{"hosts", "stay", "confirm"} {
			value := strings.TrimSpace(values[i])
			if field == "confirm" {
				value = map[bool]string{true: "true"}[strings.HasPrefix(strings.ToLower(value), "y")]
			}
			said := false
			for _, terms := range ws.Book.Keys {
				said = said || ws.Planner().KeyPath(terms.Path) == k.Path
			}
			if value == "" && !said {
				continue
			}
			b, err := book.SetKey(ws.SessionsPath(), ws.Written(k.Path), field, value)
			if err != nil {
				return done{err: err}
			}
			ws = ws.With(b)
			d.moved.Book, d.say = b, "the limits of "+sanitize.Name(k.Path)+" are saved"
		}
		return d
	})
}

// writePublic writes the public half of a key to a new file.
func writePublic(ws *workspace.Workspace, k workspace.Key, pass []byte, to string) error {
	file, err := keyfile.Read(k.Path)
	if err != nil {
		return err
	}
	defer file.Forget()
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
