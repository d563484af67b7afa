package workspace

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"meatus/core/book"
	"meatus/core/install"
	"meatus/core/route"
)

// Written is a path as the sessions file says it: inside the workspace from there.
func (w *Workspace) Written(path string) string {
	if inside, err := filepath.Rel(w.Dir, path); err == nil && !strings.HasPrefix(inside, "..") {
		return inside
	}
	return path
}

// Using are the sessions that offer the key at path.
func (w *Workspace) Using(path string) []string {
	planner := w.Planner()
	var names []string
	for _, s := range w.Book.Sessions {
		if slices.ContainsFunc(s.Keys.V, func(k string) bool { return planner.KeyPath(k) == path }) {
			names = append(names, s.Name)
		}
	}
	return names
}

// RotatePlan are the routes that a rotation of the key at path goes, and the
// sessions it renames: those named, or where none is all that use the key, and
// with them all that end at the same accounts with it. It fails where one of them
// cannot be planned or does not use the key.
func (w *Workspace) RotatePlan(path string, sessions []string) (routes []route.Route, renamed []string, err error) {
	using := w.Using(path)
	if len(sessions) == 0 {
		sessions = using
	}
	if len(sessions) == 0 {
		return nil, nil, fmt.Errorf("no session uses %s", filepath.Base(path))
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
			return nil, nil, fmt.Errorf("%s does not use %s", name, filepath.Base(path))
		}
		chosen = append(chosen, r)
	}
	renamed = slices.Clone(sessions)
	for _, r := range install.Sharing(chosen, all) {
		renamed = append(renamed, r.Session)
	}
	return install.Accounts(chosen), renamed, nil
}

// ReplaceKey has sessions use another key file in the place of one, as one edit.
// Where they are all that use it, every table that names it is changed; else each
// of them gets a line of its own.
func (w *Workspace) ReplaceKey(path, by string, sessions []string) (*book.Book, error) {
	planner := w.Planner()
	change := func(written string) string {
		if planner.KeyPath(written) == path {
			return w.Written(by)
		}
		return written
	}
	what := fmt.Sprintf("%s in the place of %s", filepath.Base(by), filepath.Base(path))
	if len(sessions) >= len(w.Using(path)) {
		return book.MoveKey(w.SessionsPath(), what, change)
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
