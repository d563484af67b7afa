package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/workspace"
)

func estateCommand(open opener) *cobra.Command {
	c := &cobra.Command{Use: "estate", Short: "what is known of the instances that sessions lead to"}
	c.AddCommand(estateList(open), estateShow(open), estateChanges(open), estateSources(open), estateCheck(), estateOffer(open), estateLaunch(open), estatePairs(open), estatePassword(open), estateUnused(open), estateReach(open), estateExposure(open), estateExpect(open), estateWays(open), estateOpen(open), estateClose(open), estateWhatIf(open))
	c.AddCommand(estateActs(open)...)
	return c
}

// estates are the workspace's sources, read anew unless kept is wanted, those of a name alone where
// that is not "". What goes wrong with one is told, and what was known of it stays.
func estates(cmd *cobra.Command, open opener, source string, kept bool) ([]estate.Kept, error) {
	w, err := open.workspace()
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
func readAnew(cmd *cobra.Command, open opener, source string, kept bool) ([]estate.Kept, *workspace.Workspace, error) {
	all, err := estates(cmd, open, source, kept)
	if err != nil {
		return nil, nil, err
	}
	w, err := open.workspace()
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
	source       string
	kept, asJSON bool
}

func (f *estateFlags) of(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&f.source, "source", "", "one source alone, by its name")
	c.Flags().BoolVar(&f.kept, "kept", false, "what is known already; nothing is read anew")
	c.Flags().BoolVar(&f.asJSON, "json", false, "print JSON")
	return c
}

// chosen reads the query that arguments are, and the sources it is to choose from.
func chosen(cmd *cobra.Command, open opener, f estateFlags, args []string) (estate.Query, []estate.Kept, error) {
	q, err := estate.ParseQuery(strings.Join(args, " "))
	if err != nil {
		return q, nil, &statusError{statusWrongUse, fmt.Errorf("the query: %w", err)}
	}
	all, err := estates(cmd, open, f.source, f.kept)
	return q, all, err
}

func estateList(open opener) *cobra.Command {
	var f estateFlags
	return f.of(&cobra.Command{
		Use:   "list [QUERY]",
		Short: "instances: name, state, checks, addresses; QUERY chooses among them",
		Args:  cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			q, all, err := chosen(cmd, open, f, args)
			if err != nil {
				return err
			}
			list := []listedInstance{}
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, k := range all {
				for _, i := range q.Find(k.Source, &k.Snapshot) {
					list = append(list, listedOf(i, k.Source))
					fmt.Fprintf(out, "%s\t%s\t%s\t%s\t%s\t%s\n", called(i), i.State, checksWord(i), addresses(&k.Snapshot, i), i.KeyPair, k.Source)
				}
			}
			if f.asJSON {
				return printJSON(cmd.OutOrStdout(), list)
			}
			return out.Flush()
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

func estateShow(open opener) *cobra.Command {
	var f estateFlags
	return f.of(&cobra.Command{
		Use:   "show NAME",
		Short: "everything known of the instance that a name, an id or a query fits; it has to be one",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
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
			case f.asJSON:
				return printJSON(cmd.OutOrStdout(), listedOf(found, of.Source))
			}
			return showInstance(cmd.OutOrStdout(), &of.Snapshot, found, of)
		},
	})
}

// showInstance prints what is known of an instance, its rules as sentences.
func showInstance(out io.Writer, s *estate.Snapshot, i *estate.Instance, of estate.Kept) error {
	t := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	line := func(word, value string) {
		if value != "" {
			fmt.Fprintf(t, "%s\t%s\n", word, value)
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
	return t.Flush()
}

func estateChanges(open opener) *cobra.Command {
	var f estateFlags
	return f.of(&cobra.Command{
		Use:   "changes",
		Short: "what has become another since the sources are read, the oldest first",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := estates(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			changes := []estate.Change{}
			for _, k := range all {
				changes = append(changes, k.Changes...)
			}
			slices.SortStableFunc(changes, func(a, b estate.Change) int { return a.Seen.Compare(b.Seen) })
			if f.asJSON {
				return printJSON(cmd.OutOrStdout(), changes)
			}
			for _, c := range changes {
				if _, err := fmt.Fprintf(cmd.OutOrStdout(), "%s  %s: %s\n", c.Seen.Local().Format("2006-01-02 15:04:05"), c.Source, c.Say); err != nil {
					return err
				}
			}
			return nil
		},
	})
}

func estateCheck() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "look through a document: what is wrong with it, and where; status 3 where something is",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			s, problems, err := estate.Parse(text)
			var p estate.Problem
			if errors.As(err, &p) {
				problems = []estate.Problem{p}
			}
			if asJSON {
				type at struct {
					At  string `json:"at"`
					Say string `json:"say"`
				}
				list := []at{}
				for _, p := range problems {
					list = append(list, at{p.At, p.Say})
				}
				if err := json.NewEncoder(cmd.OutOrStdout()).Encode(list); err != nil {
					return err
				}
			} else {
				for _, p := range problems {
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %v\n", args[0], p)
				}
				if len(problems) == 0 {
					fmt.Fprintf(cmd.OutOrStdout(), "%s: nothing is wrong: %s, %s, %s\n", args[0], words.Count(len(s.Instances), "instance"), words.Count(len(s.Networks), "network"), words.Count(len(s.Groups), "group"))
				}
			}
			if len(problems) > 0 {
				return &statusError{status: statusShut}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of {at, say}")
	return c
}
