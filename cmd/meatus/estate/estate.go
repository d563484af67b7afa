// Package estate has the commands for the instances of clouds and their firewall rules.
package estate

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/workspace"
)

// Command is "meatus estate".
func Command(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "estate",
		Summary:  "manage cloud instances and check their firewall rules",
		Examples: []string{"meatus estate list", "meatus estate show gauge-2"},
		Commands: slices.Concat([]*command.Command{list(open), show(open), console(open), changes(open), sources(open), check(), offer(open), launchCommand(open), pairs(open), password(open), unusedInstances(open),
			reachCommand(open), exposure(open), expect(open), ways(open), openPort(open), closePort(open), whatIf(open)}, acts(open)),
	}
}

// estates are the workspace's sources, read anew unless kept is wanted, those of a name alone where
// that is not "". What goes wrong with one is told, and what was known of it stays.
func estates(cmd *command.Call, open live.Opener, source string, kept bool) ([]estate.Kept, error) {
	w, err := open.Workspace()
	if err != nil {
		return nil, err
	}
	sources := w.Book.Estates
	if source != "" {
		sources = slices.DeleteFunc(slices.Clone(sources), func(e book.EstateSource) bool { return e.Name != source })
		if len(sources) == 0 {
			return nil, fmt.Errorf("there is no [estate.%s] in %s", sanitize.Line(source, 40), w.SessionsPath())
		}
	}
	if len(sources) == 0 {
		return nil, fmt.Errorf("%s names no estate; docs/estate.md says how to write one", w.SessionsPath())
	}
	var all []estate.Kept
	for _, e := range sources {
		k, err := estate.Recall(w.Dir, e.Name)
		if !kept && err == nil {
			k, err = (&estate.Source{Dir: w.Dir, EstateSource: e}).Renew(cmd.Context(), time.Now())
		}
		if err != nil {
			return all, err
		}
		for _, p := range k.Problems {
			fmt.Fprintf(cmd.ErrOrStderr(), "estate %s: %v\n", e.Name, p)
		}
		if k.Failed != "" {
			fmt.Fprintf(cmd.ErrOrStderr(), "estate %s: %s; %s\n", e.Name, k.Failed, age(k))
		}
		all = append(all, k)
	}
	return all, nil
}

// readAnew are the sources as [estates] reads them, and the workspace as it is then.
func readAnew(cmd *command.Call, open live.Opener, source string, kept bool) ([]estate.Kept, *workspace.Workspace, error) {
	all, err := estates(cmd, open, source, kept)
	if err != nil {
		return nil, nil, err
	}
	w, err := open.Workspace()
	return all, w, err
}

// age says how old what is known of a source is.
func age(k estate.Kept) string {
	if k.Read.IsZero() {
		return "it was never read"
	}
	return "what is known is of " + k.Read.Local().Format("2 Jan 15:04:05")
}

// listedInstance is an instance as "meatus estate list --json" promises it.
type listedInstance struct {
	ID        string            `json:"id"`
	Name      string            `json:"name"`
	State     estate.State      `json:"state"`
	Checks    estate.Checks     `json:"checks"`
	Image     string            `json:"image"`
	KeyPair   string            `json:"key_pair"`
	Addresses []estate.Address  `json:"addresses"`
	Groups    []string          `json:"groups"`
	Tags      map[string]string `json:"tags"`
	Size      string            `json:"size"`
	Launched  *time.Time        `json:"launched"`
	Source    string            `json:"source"`
}

func listedOf(i *estate.Instance, source string) listedInstance {
	l := listedInstance{i.ID, i.Name, i.State, i.Checks, i.Image, i.KeyPair, append([]estate.Address{}, i.Addresses...), append([]string{}, i.Groups...), i.Tags, i.Size, nil, source}
	if !i.Launched.IsZero() {
		l.Launched = &i.Launched
	}
	return l
}

// estateFlags are what every command that reads sources has.
type estateFlags struct {
	source string
	kept   bool
}

func (f *estateFlags) of(c *command.Command) *command.Command {
	c.JSON = "print JSON"
	c.Flags().StringVar(&f.source, "source", "", "read only this source")
	c.Flags().BoolVar(&f.kept, "kept", false, "print what was read before; read nothing again")
	c.Value("source", "NAME", nil)
	return c
}

// chosen reads the query that arguments are, and the sources it is to choose from.
func chosen(cmd *command.Call, open live.Opener, f estateFlags, args []string) (estate.Query, []estate.Kept, error) {
	q, err := estate.ParseQuery(strings.Join(args, " "))
	if err != nil {
		return q, nil, command.Fail(command.WrongUse, fmt.Errorf("the query: %w", err))
	}
	all, err := estates(cmd, open, f.source, f.kept)
	return q, all, err
}

func list(open live.Opener) *command.Command {
	var f estateFlags
	return f.of(&command.Command{
		Use:      "list [QUERY]",
		Summary:  "list instances with state, health checks and addresses",
		Examples: []string{"meatus estate list", "meatus estate list state=running tag:role=gauge --json"},
		Complete: command.Instances,
		Args:     cobra.ArbitraryArgs,
		Run: func(cmd *command.Call, args []string) error {
			q, all, err := chosen(cmd, open, f, args)
			if err != nil {
				return err
			}
			list, table := []listedInstance{}, &command.Table{}
			for _, k := range all {
				for _, i := range q.Find(k.Source, &k.Snapshot) {
					list = append(list, listedOf(i, k.Source))
					table.Row(called(i), i.State, checksWord(i), addresses(&k.Snapshot, i), i.KeyPair, k.Source)
				}
			}
			return cmd.AnswerTable(list, table)
		},
	})
}

func called(i *estate.Instance) string {
	if i.Name == "" {
		return i.ID
	}
	return i.Name
}

func checksWord(i *estate.Instance) string {
	if i.Checks == estate.None {
		return "-"
	}
	return string(i.Checks)
}

func addresses(s *estate.Snapshot, i *estate.Instance) string {
	var all []string
	for _, a := range i.Addresses {
		say := a.IP.String()
		if a.Outside {
			say += " outside"
		}
		all = append(all, say)
	}
	if len(all) == 0 {
		return "no address"
	}
	return strings.Join(all, ", ")
}

func show(open live.Opener) *command.Command {
	var f estateFlags
	return f.of(&command.Command{
		Use:      "show NAME",
		Summary:  "show everything known about one instance",
		Examples: []string{"meatus estate show gauge-2"},
		Complete: command.Instances,
		Args:     cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			q, all, err := chosen(cmd, open, f, args)
			if err != nil {
				return err
			}
			var found *estate.Instance
			var of estate.Kept
			n := 0
			for _, k := range all {
				for _, i := range q.Find(k.Source, &k.Snapshot) {
					if n++; n == 1 {
						found, of = i, k
					}
				}
			}
			switch {
			case n == 0:
				return fmt.Errorf("no instance is %s", sanitize.Line(q.String(), 60))
			case n > 1:
				return fmt.Errorf("%s fits %s; say more, as id=%s", sanitize.Line(q.String(), 60), words.Count(n, "instance"), found.ID)
			}
			return cmd.AnswerTable(listedOf(found, of.Source), instanceTable(&of.Snapshot, found, of))
		},
	})
}

// instanceTable is what is known of an instance, its rules as sentences.
func instanceTable(s *estate.Snapshot, i *estate.Instance, of estate.Kept) *command.Table {
	t := &command.Table{}
	line := func(word, value string) {
		if value != "" {
			t.Row(word, value)
		}
	}
	line("name", i.Name)
	line("id", i.ID)
	line("state", string(i.State))
	line("checks", string(i.Checks))
	line("wrong", i.Wrong)
	line("addresses", addresses(s, i))
	image := i.Image
	if m, ok := s.ImageOf(i); ok && m.Name != "" {
		image = m.Name
	}
	line("image", image)
	line("size", i.Size)
	line("key pair", i.KeyPair)
	if !i.Launched.IsZero() {
		line("launched", i.Launched.Local().Format("2 Jan 2006 15:04"))
	}
	var tags []string
	for k, v := range i.Tags {
		tags = append(tags, k+"="+v)
	}
	slices.Sort(tags)
	line("tags", strings.Join(tags, ", "))
	for _, say := range s.Sentences(i) {
		line("rule", say)
	}
	line("known by", of.Source+", "+age(of))
	return t
}

func changes(open live.Opener) *command.Command {
	var f estateFlags
	return f.of(&command.Command{
		Use:      "changes",
		Summary:  "list changes of instances and rules, oldest first",
		Examples: []string{"meatus estate changes --kept"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			all, err := estates(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			changes := []estate.Change{}
			for _, k := range all {
				changes = append(changes, k.Changes...)
			}
			slices.SortStableFunc(changes, func(a, b estate.Change) int { return a.Seen.Compare(b.Seen) })
			text := ""
			for _, c := range changes {
				text += fmt.Sprintf("%s  %s: %s\n", c.Seen.Local().Format("2006-01-02 15:04:05"), c.Source, c.Say)
			}
			return cmd.Answer(changes, text)
		},
	})
}

func check() *command.Command {
	return &command.Command{
		Use:      "check FILE",
		Summary:  "check an estate document for mistakes",
		Examples: []string{"meatus estate check bay.json"},
		Status:   "3 if the document has a mistake",
		JSON:     "print an array of {at, say}",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			s, problems, err := estate.Parse(text)
			var p estate.Problem
			if errors.As(err, &p) {
				problems = []estate.Problem{p}
			}
			type at struct {
				At  string `json:"at"`
				Say string `json:"say"`
			}
			list, say := []at{}, ""
			for _, p := range problems {
				list = append(list, at{p.At, p.Say})
				say += fmt.Sprintf("%s: %v\n", args[0], p)
			}
			if len(problems) == 0 {
				say = fmt.Sprintf("%s: no mistake: %s, %s, %s\n", args[0], words.Count(len(s.Instances), "instance"), words.Count(len(s.Networks), "network"), words.Count(len(s.Groups), "group"))
			}
			if err := cmd.Answer(list, say); err != nil {
				return err
			}
			if len(problems) > 0 {
				return command.Exit(command.Blocked)
			}
			return nil
		},
	}
}
