package main

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/route"
	"meatus/core/routeline"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/workspace"
)

func sessionCommand(open opener) *cobra.Command {
	c := &cobra.Command{
		Use:   "session",
		Short: "sessions for scripts: add, set, remove, show, and what goes through one",
		Long: `session edits sessions.toml as the full screen does: with the same checks, one edit at a
time that can be undone there, and everything else in the file left as it stands.`,
	}
	c.AddCommand(sessionAdd(open), sessionSet(open), sessionRemove(open), sessionShow(open), sessionThrough(open))
	return c
}

// noteEdit writes what was edited to the trail.
func noteEdit(cmd *cobra.Command, w *workspace.Workspace, session, say string) error {
	t, err := trail.Open(w.Dir)
	if err == nil {
		err = t.Add(trail.Entry{Kind: trail.Edit, Session: session, Say: say})
		t.Close()
	}
	if err != nil {
		fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
	}
	fmt.Fprintln(cmd.OutOrStdout(), say)
	return nil
}

func sessionAdd(open opener) *cobra.Command {
	return &cobra.Command{
		Use:   "add LINE",
		Short: "add a session, written in one line",
		Long: `add takes the line that n on Routes takes: NAME = USER@HOST:PORT via HOP with KEY, and more.
It may come as one argument or as several.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			text := strings.Join(args, " ")
			line := routeline.Parse(text, w.Known(nil))
			if len(line.Mistakes) > 0 {
				m := line.Mistakes[0]
				return &statusError{statusWrongUse, fmt.Errorf("column %d: %s", m.From+1, m.Say)}
			}
			if _, err := book.Add(w.SessionsPath(), line.Draft); err != nil {
				return &statusError{statusWrongUse, err}
			}
			return noteEdit(cmd, w, line.Draft.Name, "the new session "+line.Draft.Name)
		},
	}
}

func sessionSet(open opener) *cobra.Command {
	return &cobra.Command{
		Use:   "set NAME... KEY=VALUE...",
		Short: "set values of sessions; KEY= has them inherited",
		Long: `set writes values of one session or several, as one edit. What has no = is the name of a
session, what has one a value. The keys are those of sessions.toml; lists are parted by
commas, tunnels written as in a route line.`,
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			var names []string
			var values []book.Setting
			for _, arg := range args {
				key, value, is := strings.Cut(arg, "=")
				if is {
					values = append(values, book.Setting{Key: key, Value: value})
				} else {
					names = append(names, arg)
				}
			}
			if len(names) == 0 || len(values) == 0 {
				return &statusError{statusWrongUse, errors.New("name a session, and what to set as KEY=VALUE; see meatus session set --help")}
			}
			if err := writtenAll(w, names); err != nil {
				return err
			}
			if _, err := book.SetAll(w.SessionsPath(), names, values); err != nil {
				return &statusError{statusWrongUse, err}
			}
			var keys []string
			for _, v := range values {
				keys = append(keys, v.Key)
			}
			session := ""
			if len(names) == 1 {
				session = names[0]
			}
			return noteEdit(cmd, w, session, strings.Join(keys, ", ")+" of "+strings.Join(names, ", "))
		},
	}
}

// writtenAll fails for the first of some sessions that a fleet makes, and that is written nowhere.
func writtenAll(w *workspace.Workspace, names []string) error {
	for _, name := range names {
		if s := w.Book.Session(name); s != nil {
			if err := s.Written(); err != nil {
				return &statusError{statusWrongUse, err}
			}
		}
	}
	return nil
}

func sessionRemove(open opener) *cobra.Command {
	return &cobra.Command{
		Use:   "remove NAME...",
		Short: "remove sessions that no other goes through",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			for _, name := range args {
				if w.Book.Session(name) == nil {
					return fmt.Errorf("%w %q", route.ErrNoSession, sanitize.Line(name, 60))
				}
			}
			if err := writtenAll(w, args); err != nil {
				return err
			}
			for _, name := range args {
				if _, err := book.Remove(w.SessionsPath(), name); err != nil {
					return &statusError{statusWrongUse, fmt.Errorf("%s is not removed: %w", name, err)}
				}
				if err := noteEdit(cmd, w, name, "removed "+name); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

func sessionShow(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "every value of a session, and where it comes from",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			s := w.Book.Session(args[0])
			if s == nil {
				return fmt.Errorf("%w %q", route.ErrNoSession, sanitize.Line(args[0], 60))
			}
			type value struct {
				Key   string `json:"key"`
				Value string `json:"value"`
				From  string `json:"from"`
			}
			values := []value{}
			for _, key := range book.Fields {
				if text, origin := s.Text(key); text != "" {
					values = append(values, value{key, text, origin.String()})
				}
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), map[string]any{"name": s.Name, "values": values})
			}
			for _, v := range values {
				fmt.Fprintf(cmd.OutOrStdout(), "%-10s %-40s %s\n", v.Key, sanitize.Line(v.Value, 300), v.From)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an object")
	return c
}

func sessionThrough(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "through NAME",
		Short: "the sessions whose way goes through one",
		Long: `through lists the sessions whose way goes through a session, on whichever of their ways: what
stops with it when it is stopped.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			if w.Book.Session(args[0]) == nil {
				return fmt.Errorf("%w %q", route.ErrNoSession, sanitize.Line(args[0], 60))
			}
			names := append([]string{}, w.Book.Behind(args[0])...)
			if asJSON {
				return printJSON(cmd.OutOrStdout(), names)
			}
			for _, name := range names {
				fmt.Fprintln(cmd.OutOrStdout(), name)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of names")
	return c
}
