// Package session has the commands that change and list the sessions of a workspace.
package session

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/book"
	"meatus/core/posix"
	"meatus/core/route"
	"meatus/core/routeline"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/workspace"
)

// Commands are "meatus session", "export" and "import".
func Commands(open live.Opener) []*command.Command {
	return []*command.Command{{
		Use:     "session",
		Summary: "list, show, add, change and delete sessions",
		Details: `session edits sessions.toml as the full screen does: with the same checks, one edit at a
time that can be undone there, and everything else in the file unchanged.`,
		Examples: []string{"meatus session add tide-db = keeper@10.61.4.20 via quay", "meatus session set gauge-1 gauge-2 keepalive=1m"},
		Commands: []*command.Command{list(open), show(open), add(open), set(open), remove(open)},
	}, exportAll(open), importFile(open)}
}

// noteEdit adds an edit to the audit log, and prints it.
func noteEdit(cmd *command.Call, w *workspace.Workspace, session, say string) {
	live.Record(cmd, w, trail.Entry{Kind: trail.Edit, Session: session, Say: say})
	fmt.Fprintln(cmd.OutOrStdout(), say)
}

func add(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "add LINE",
		Summary:  "add a session, written in one line",
		Verbatim: true,
		Examples: []string{"meatus session add ssh -i tide.pem -J warden@203.0.113.10 keeper@10.61.4.20", "meatus session add 'tide-db = keeper@10.61.4.20 via quay with tide.pem bring 15432 from db.internal:5432'"},
		Details: `The line is NAME = USER@HOST:PORT via BASTION with KEY, and more: docs/route-line.md. It can be
one argument or several. A connect command of a console or a colleague is read, too, and never
run: its keys, bastions, forwards and options become values, others are listed as left out.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			text, known := strings.Join(args, " "), w.Known(w.Elsewhere())
			if c, ok := routeline.ReadCommand(posix.Command(args), known); ok {
				text = c.Line
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: the command as a line: "+c.Line)
				for _, left := range c.Left {
					fmt.Fprintln(cmd.ErrOrStderr(), "meatus: left out: "+left)
				}
			}
			line := routeline.Parse(text, known)
			if len(line.Mistakes) > 0 {
				m := line.Mistakes[0]
				return command.Fail(command.WrongUse, fmt.Errorf("column %d: %s", m.From+1, m.Say))
			}
			drafts := append(line.Hops, line.Draft)
			if _, err := book.Add(w.SessionsPath(), drafts...); err != nil {
				return command.Fail(command.WrongUse, err)
			}
			for _, d := range drafts {
				noteEdit(cmd, w, d.Name, "the new session "+d.Name)
			}
			return nil
		},
	}
}

func set(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "set NAME... KEY=VALUE...",
		Summary:  "set values of sessions",
		Examples: []string{"meatus session set tide-db port=2022 user=pilot", "meatus session set gauge-1 gauge-2 keepalive=1m", "meatus session set tide-db user="},
		Complete: command.Settings,
		Details: `Change values of one or more sessions in one edit. An argument with = is a value, one without is
a session. The keys are those of sessions.toml; KEY= restores inheritance.
Lists are separated by commas, port forwards are written as in a route line.`,
		Args: cobra.MinimumNArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
				return command.Fail(command.WrongUse, errors.New("name a session, and what to set as KEY=VALUE; see meatus session set --help"))
			}
			if err := writtenAll(w, names); err != nil {
				return err
			}
			if _, err := book.SetAll(w.SessionsPath(), names, values); err != nil {
				return command.Fail(command.WrongUse, err)
			}
			var keys []string
			for _, v := range values {
				keys = append(keys, v.Key)
			}
			session := ""
			if len(names) == 1 {
				session = names[0]
			}
			noteEdit(cmd, w, session, strings.Join(keys, ", ")+" of "+strings.Join(names, ", "))
			return nil
		},
	}
}

// writtenAll fails for the first of some sessions that a fleet makes, and that is written nowhere.
func writtenAll(w *workspace.Workspace, names []string) error {
	for _, name := range names {
		if s := w.Book.Session(name); s != nil {
			if err := s.Written(); err != nil {
				return command.Fail(command.WrongUse, err)
			}
		}
	}
	return nil
}

func remove(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "remove NAME...",
		Summary:  "delete sessions that are no jump host of another",
		Examples: []string{"meatus session remove tide-db"},
		Complete: command.Sessions,
		Args:     cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
					return command.Fail(command.WrongUse, fmt.Errorf("%s is not removed: %w", name, err))
				}
				noteEdit(cmd, w, name, "removed "+name)
			}
			return nil
		},
	}
}

func show(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "show NAME",
		Summary:  "show all values of a session and their origin",
		Examples: []string{"meatus session show tide-db", "meatus session show tide-db --json"},
		JSON:     "print an object",
		Complete: command.First(1, command.Sessions, nil),
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
			table := &command.Table{}
			for _, v := range values {
				table.Row(v.Key, sanitize.Line(v.Value, 300), v.From)
			}
			return cmd.AnswerTable(map[string]any{"name": s.Name, "values": values}, table)
		},
	}
}

// listedJSON is a session as "meatus session list --json" promises it.
type listedJSON struct {
	Name string   `json:"name"`
	Site string   `json:"site,omitempty"`
	Host string   `json:"host"`
	Port string   `json:"port"`
	User string   `json:"user,omitempty"`
	Via  []string `json:"via,omitempty"`
	Key  string   `json:"key,omitempty"`
}

func list(open live.Opener) *command.Command {
	var via, site string
	c := &command.Command{
		Use:      "list",
		Summary:  "list sessions with host, user, port, bastions and key",
		Examples: []string{"meatus session list", "meatus session list --via quay", "meatus session list --site reef --json"},
		JSON:     "print an array of objects",
		Details: `--via lists the sessions with a route through a bastion, also through alternative routes: they
lose that route when the machine stops.`,
		Args: cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			names := w.Book.Names()
			if via != "" {
				if w.Book.Session(via) == nil {
					return fmt.Errorf("%w %q", route.ErrNoSession, sanitize.Line(via, 60))
				}
				names = w.Book.Behind(via)
			}
			if site != "" && !slices.Contains(w.Book.Sites(), site) {
				return command.Fail(command.WrongUse, fmt.Errorf("there is no site %q", sanitize.Line(site, 60)))
			}
			all, table := []listedJSON{}, &command.Table{}
			for _, name := range names {
				s := w.Book.Session(name)
				if site != "" && s.Site.V != site {
					continue
				}
				l := listedJSON{Name: name, Site: s.Site.V, Host: s.Host.V, Via: s.Via.V}
				l.Port, _ = s.Text("port")
				l.User, _ = s.Text("user")
				l.Key, _ = s.Text("key")
				all = append(all, l)
				table.Row(name, sanitize.Line(login(l), 200), strings.Join(l.Via, ", "), sanitize.Line(l.Key, 200))
			}
			return cmd.AnswerTable(all, table)
		},
	}
	c.Flags().StringVar(&via, "via", "", "list only sessions with a route through this session")
	c.Flags().StringVar(&site, "site", "", "list only sessions of this site")
	c.Value("via", "SESSION", command.Sessions)
	c.Value("site", "SITE", command.Sites)
	return c
}

// login is where a session logs in, as user@host:port; port 22 is left out.
func login(l listedJSON) string {
	at := l.Host
	if l.Port != "" && l.Port != "22" {
		at = net.JoinHostPort(l.Host, l.Port)
	}
	if l.User != "" {
		at = l.User + "@" + at
	}
	return at
}
