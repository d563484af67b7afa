package workspace

import (
	"path/filepath"
	"slices"
	"strings"
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
