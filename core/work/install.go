package work

import (
	"context"
	"errors"
	"slices"
	"strings"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
)

// Install puts the public half of a key into the list of keys at a session's machine,
// and proves it by a login with that key alone.
type Install struct {
	Tools
	Path, Session string
	Options       install.Options

	proven bool // a login with the key got in
}

// Title says what the job is.
func (j *Install) Title() Title {
	return Title{What: "install", Of: sanitize.Name(j.Path), Session: j.Session, Record: "carried"}
}

// Run does it.
func (j *Install) Run(ctx context.Context, tell func(Step)) error {
	r, err := j.Workspace().Planner().Plan(j.Session)
	if err != nil {
		return err
	}
	file, err := keyfile.Read(j.Path)
	if err != nil {
		return err
	}
	defer file.Forget()
	if file.Public == nil {
		return errors.New("the public half of that key is locked away; derive it first, in Keys or by key public")
	}
	line, err := install.Line(file.Public, file.Comment, j.Options)
	if err != nil {
		return err
	}
	p, err := j.Walker.Walk(ctx, r)
	if err != nil {
		return err
	}
	report, err := install.Add(ctx, p, file.Public, line)
	p.Close()
	say := func(v gate.Verdict, text string) {
		tell(Step{Verdict: v, Where: j.Session, Session: j.Session, Say: text})
	}
	for _, d := range report.Doubts {
		say(gate.Ajar, d)
	}
	if err != nil {
		return err
	}
	named := sanitize.Name(j.Path) + " (" + file.SHA256 + ")"
	if report.Already {
		say(gate.Open, named+" stood in the list already, of "+r.Target().User)
	} else {
		say(gate.Open, named+" is in the list now, of "+r.Target().User)
	}
	if j.Options.From != "" || j.Options.Command != "" {
		say(gate.Untried, "not proven: a line with from or command lets in less than a login")
		return nil
	}
	if p, err = install.Prove(ctx, j.Walker, r, file); err != nil {
		return err
	}
	p.Close()
	say(gate.Open, "proven: a login with that key alone got in")
	j.proven = true
	return nil
}

// Follow is to use the key in the session, before the keys that it names already.
func (j *Install) Follow() (f Follow, ok bool) {
	ws := j.Workspace()
	s := ws.Book.Session(j.Session)
	if !j.proven || s == nil || slices.Contains(ws.Using(j.Path), j.Session) {
		return f, false
	}
	keys := append([]string{ws.Written(j.Path)}, s.Keys.V...)
	name := sanitize.Name(j.Path)
	return Follow{
		Session: j.Session, Say: "use " + name + " in " + j.Session, Done: j.Session + " uses " + name + " now",
		Edit: func() (*book.Book, error) {
			return book.Set(ws.SessionsPath(), j.Session, "key", strings.Join(keys, ", "))
		},
	}, true
}
