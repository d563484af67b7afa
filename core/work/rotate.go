package work

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/workspace"
)

// Rotate puts one key in the place of another, at some sessions' machines or at all
// that use it, and in the sessions.
type Rotate struct {
	Tools
	Old, New string   // key files by absolute path
	Sessions []string // all that use Old where empty

	routes []route.Route
	names  []string
}

// Plan finds the machines. It fails where a session cannot be planned or does not use
// the key. Call it before the job is begun.
func (j *Rotate) Plan() (err error) {
	j.routes, j.names, err = rotation(j.Workspace(), j.Old, j.Sessions)
	return err
}

// Names are the sessions that the rotation touches, once it is planned.
func (j *Rotate) Names() []string { return j.names }

// Title says what the job is.
func (j *Rotate) Title() Title {
	t := Title{What: "rotate", Of: sanitize.Name(j.Old) + " → " + sanitize.Name(j.New), Record: "carried"}
	if len(j.names) > 0 {
		t.Session = j.names[0]
	}
	return t
}

// Run does it.
func (j *Rotate) Run(ctx context.Context, tell func(Step)) error {
	old, err := keyfile.Read(j.Old)
	if err != nil {
		return err
	}
	defer old.Forget()
	fresh, err := keyfile.Read(j.New)
	if err != nil {
		return fmt.Errorf("%w; make the new key first, in Keys or by key make", err)
	}
	defer fresh.Forget()
	return install.Rotation{
		Walker: j.Walker, Routes: j.routes, Old: old, New: fresh,
		Rename: func() error {
			b, err := replaceKey(j.Workspace(), j.Old, j.New, j.names)
			if err != nil {
				return err
			}
			j.Adopt(b)
			tell(Step{Verdict: gate.Open, Where: "sessions", Say: strings.Join(j.names, ", ") + " use " + sanitize.Name(j.New) + " from now on"})
			for _, g := range slices.Concat(b.Gateways, b.Issuers) {
				if slices.ContainsFunc(g.Keys.V, func(written string) bool { return j.Workspace().Planner().KeyPath(written) == j.Old }) {
					tell(Step{Verdict: gate.Ajar, Where: g.Name, Say: "it knows you by " + sanitize.Name(j.Old) + " still: have the new key added to its policy, then name it in its table, and keep the old file until then"})
				}
			}
			return nil
		},
		Tell: func(s install.Step) {
			v := gate.Open
			if s.Err != nil {
				v = gate.Shut
			}
			tell(Step{Verdict: v, Where: s.Session, Session: s.Session, Say: s.Say, Err: s.Err})
		},
	}.Run(ctx)
}

// rotation is the routes that a rotation of the key at path goes, and the sessions it
// renames: those named, or where none is all that use the key, and with them all that
// end at the same accounts with it.
func rotation(w *workspace.Workspace, path string, sessions []string) (routes []route.Route, renamed []string, err error) {
	using := w.Using(path)
	if len(sessions) == 0 {
		sessions = using
	}
	if len(sessions) == 0 {
		return nil, nil, fmt.Errorf("no session uses %s", sanitize.Name(path))
	}
	var chosen, all []route.Route
	for _, name := range using {
		if r, err := w.Planner().Plan(name); err == nil {
			all = append(all, r)
		}
	}
	for _, name := range sessions {
		r, err := w.Planner().Plan(name)
		if err != nil {
			return nil, nil, err
		}
		if !slices.Contains(using, name) {
			return nil, nil, fmt.Errorf("%s does not use %s", name, sanitize.Name(path))
		}
		chosen = append(chosen, r)
	}
	renamed = slices.Clone(sessions)
	for _, r := range install.Sharing(chosen, all) {
		renamed = append(renamed, r.Session)
	}
	return install.Accounts(chosen), renamed, nil
}

// replaceKey has sessions use another key file in the place of one, as one edit.
// Where they are all that use it, every table that names it is changed; else each
// of them gets a line of its own.
func replaceKey(w *workspace.Workspace, path, by string, sessions []string) (*book.Book, error) {
	planner := w.Planner()
	change := func(written string) string {
		if planner.KeyPath(written) == path {
			return w.Written(by)
		}
		return written
	}
	what := fmt.Sprintf("%s in the place of %s", sanitize.Name(by), sanitize.Name(path))
	if len(sessions) >= len(w.Using(path)) {
		return book.ReplaceKey(w.SessionsPath(), what, change)
	}
	keys := map[string][]string{}
	for _, name := range sessions {
		if s := w.Book.Session(name); s != nil {
			for _, written := range s.Keys.V {
				keys[name] = append(keys[name], change(written))
			}
		}
	}
	return book.SetKeys(w.SessionsPath(), what, keys)
}
