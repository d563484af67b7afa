package main

import (
	"io"
	"os"

	"golang.org/x/term"

	"meatus/cmd/meatus/command"
	"meatus/docs"
	"meatus/tui/pager"
)

// topics are the pages of help that are about no command: documents, and sections of them.
func topics() []command.Topic {
	list := []command.Topic{{Name: "exit-status", Summary: "what the exit statuses mean", Show: func(c *command.Call) error { return page(c, "exit-status", command.Statuses) }}}
	for _, t := range []struct{ name, summary, file, heading string }{
		{"concepts", "sessions, routes, gates and the other words of Meatus", "concepts.md", ""},
		{"sessions", "all settings of sessions.toml", "workspace.md", "sessions.toml"},
		{"route-line", "a session in one line, and pasted connect commands", "route-line.md", ""},
		{"keys", "the keys of the keyboard in each place", "keys.md", ""},
		{"files", "copying, mirroring and editing files", "cargo.md", ""},
		{"forwards", "keeping port forwards open for services and scripts", "holding.md", ""},
		{"queries", "queries for instances of an estate", "estate.md", "Queries"},
		{"rules", "firewall rules: routes, exposure, expectations", "reach.md", ""},
		{"policy", "the policy of an issuer of certificates", "leases.md", "The policy"},
		{"gateways", "machines without an open port", "gateway.md", ""},
		{"leases", "short-lived SSH certificates", "leases.md", ""},
		{"security", "what Meatus protects from, and what not", "security.md", ""},
	} {
		list = append(list, command.Topic{Name: t.name, Summary: t.summary, Show: func(c *command.Call) error {
			text, err := docs.Text(t.file, t.heading)
			if err != nil {
				return err
			}
			return page(c, t.name, text)
		}})
	}
	return list
}

// page shows a text: in a pager on a terminal, else as it is.
func page(c *command.Call, title, text string) error {
	if out, ok := c.OutOrStdout().(*os.File); ok && term.IsTerminal(int(out.Fd())) && term.IsTerminal(int(os.Stdin.Fd())) && os.Getenv("TERM") != "dumb" {
		return pager.Show(c.Context(), title, text)
	}
	_, err := io.WriteString(c.OutOrStdout(), text)
	return err
}
