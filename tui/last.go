package tui

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/core/statefile"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/shells"
)

// lastShells are the shells that were live when the program was left: those that showed, in
// their order, and the others.
type lastShells struct {
	Shown       []string `json:"shown"`
	Others      []string `json:"others,omitempty"`
	Arrangement int      `json:"arrangement,omitempty"`
}

func (l lastShells) all() []string { return append(slices.Clone(l.Shown), l.Others...) }

func lastShellsFile(w *workspace.Workspace) string {
	return filepath.Join(w.Dir, workspace.StateDir, "shells.json")
}

// readLast reads which shells were live last time. They are offered on Routes, and opened by
// nothing but a key.
func (a *App) readLast() {
	var last lastShells
	if err := statefile.Read(lastShellsFile(a.engine.Workspace()), &last); err != nil {
		a.notice = err.Error()
		return
	}
	b := a.engine.Workspace().Book
	gone := func(name string) bool { return b.Session(name) == nil }
	last.Shown, last.Others = slices.DeleteFunc(last.Shown, gone), slices.DeleteFunc(last.Others, gone)
	a.last = last
	a.home.SetLast(last.all(), a.openLast)
	if n := len(last.all()); n > 0 && a.notice == "" {
		a.notice = fmt.Sprintf("%s open last time; %s last, then enter, opens %s again", words.Plural(n, "shell was", "shells were"), a.keymap.Press("actions"), map[bool]string{true: "it", false: "them"}[n == 1])
	}
}

// rememberShells writes which shells are live now.
func (a *App) rememberShells() error {
	now := lastShells{Arrangement: a.shell.Arrangement()}
	var live []*shells.Shell
	for _, s := range a.open {
		if s.Live() {
			live = append(live, s)
		}
	}
	for _, s := range a.shell.Shown() {
		if slices.Contains(live, s) {
			now.Shown = append(now.Shown, s.Route.Session)
		}
	}
	for _, s := range live {
		if !slices.Contains(a.shell.Shown(), s) {
			now.Others = append(now.Others, s.Route.Session)
		}
	}
	var file lastShells
	if err := statefile.Change(lastShellsFile(a.engine.Workspace()), &file, func() { file = now }); err != nil {
		return fmt.Errorf("remembering which shells were open: %w", err)
	}
	return nil
}

// openLast walks to the shells of last time again, each by its gates.
func (a *App) openLast() tea.Cmd {
	last := a.last
	a.last = lastShells{}
	a.home.SetLast(nil, nil)
	a.shell.SetArrangement(last.Arrangement)
	a.restoring = map[string]bool{}
	var cmds []tea.Cmd
	for _, name := range last.all() {
		if r, err := a.engine.Workspace().Planner().Plan(name); err == nil {
			a.restoring[name] = slices.Contains(last.Shown, name)
			cmds = append(cmds, a.walk(r, false))
		}
	}
	return tea.Batch(cmds...)
}

// restored puts a shell of last time where it was. It tells whether the shell was one.
func (a *App) restored(s *shells.Shell) bool {
	shown, was := a.restoring[s.Route.Session]
	if !was {
		return false
	}
	delete(a.restoring, s.Route.Session)
	switch {
	case !shown:
	case a.shell.Shell() == nil:
		a.shell.Show(s)
	default:
		a.shell.PutBeside(s)
	}
	if len(a.restoring) == 0 && a.shell.Shell() != nil && !a.ask.Waiting() && a.task() == nil {
		a.goTo(a.shell.Shell())
	}
	return true
}

// remember writes what the next start is to know.
func (a *App) remember() error { return errors.Join(a.home.Remember(), a.rememberShells()) }
