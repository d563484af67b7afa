package estate

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/estate"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/core/workspace"
)

// reachJSON is an answer as "meatus estate reach --json" promises it.
type reachJSON struct {
	reach.Answer
	From string     `json:"from"`
	To   string     `json:"to"`
	Port reach.Port `json:"port"`
}

func reachCommand(open live.Opener) *command.Command {
	var f estateFlags
	return f.of(&command.Command{
		Use:      "reach FROM TO:PORT",
		Summary:  "check whether firewall rules allow a connection between two machines",
		Examples: []string{"meatus estate reach quay tide-db:5432", "meatus estate reach 198.51.100.7 quay:22"},
		Status:   "3 if the port is blocked",
		Complete: command.Instances,
		Details: `The answer follows from the networks and firewall rules of the estate, with the reason for each
step; if the port is blocked, with the smallest change that opens it.

FROM is an instance (a name, an id or a query that matches one) or an outside address. TO is
an instance. PORT is a TCP port, or a port with a protocol, as udp/53.`,
		Args: cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			name, port, err := reach.ReadPort(args[1])
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			all, err := estates(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			index := estate.NewIndex(all)
			to, why := index.One(name)
			if why != "" {
				return errors.New(why)
			}
			from := reach.From{}
			if from.Address, err = netip.ParseAddr(args[0]); err != nil {
				m, why := index.One(args[0])
				if why != "" {
					return errors.New(why)
				}
				if m.Kept.Source != to.Kept.Source {
					return fmt.Errorf("%s is of estate %s and %s of %s: what is between them is not known", called(m.Instance), m.Kept.Source, called(to.Instance), to.Kept.Source)
				}
				from.Instance = m.Instance
			}
			a := reach.NewJudge(&to.Kept.Snapshot).Ask(from, to.Instance, port)
			if err := cmd.Answer(reachJSON{a, sanitize.Line(args[0], 60), called(to.Instance), port}, a.String()); err != nil {
				return err
			}
			if !a.Open {
				return command.Exit(command.Blocked)
			}
			return nil
		},
	})
}

// brokenJSON is an expectation that does not hold, as "meatus estate test --json" promises it.
type brokenJSON struct {
	Line  int          `json:"line"`
	Text  string       `json:"text"`
	Why   string       `json:"why"`
	Proof []reach.Line `json:"proof"`
}

func expect(open live.Opener) *command.Command {
	var f estateFlags
	return f.of(&command.Command{
		Use:      "test FILE",
		Summary:  "test firewall rules against a file of expectations",
		Examples: []string{"meatus estate test bay.expect"},
		Status:   "3 if an expectation fails",
		Details: `Each line of FILE is one of

  quay reaches tide-db:5432
  tag:role=gauge does not reach tide-db:5432
  only quay reaches tide-db:5432
  outside does not reach tide-db:5432

Queries choose instances; # begins a comment. Failed expectations are printed with the
reason.`,
		Args: cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			expected, err := reach.ReadExpectations(string(text))
			if err != nil {
				return command.Fail(command.WrongUse, fmt.Errorf("%s: %w", args[0], err))
			}
			all, err := estates(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			if len(all) != 1 {
				return command.Fail(command.WrongUse, fmt.Errorf("there are several estates; pass --source %s, or another", all[0].Source))
			}
			if all[0].Read.IsZero() {
				return fmt.Errorf("nothing is known of estate %s", all[0].Source)
			}
			j := reach.NewJudge(&all[0].Snapshot)
			broken, say := []brokenJSON{}, ""
			for _, e := range expected {
				why, proof := e.Broken(all[0].Source, j)
				if why == "" {
					continue
				}
				broken = append(broken, brokenJSON{e.Line, e.Text, why, append([]reach.Line{}, proof.Proof...)})
				say += fmt.Sprintf("%s:%d: %s\n  %s\n", args[0], e.Line, e.Text, why)
				for _, l := range proof.Proof {
					say += fmt.Sprintf("    %s\n", l.Say)
				}
			}
			if len(broken) == 0 {
				say = fmt.Sprintf("%s: all %d hold\n", args[0], len(expected))
			}
			if err := cmd.Answer(broken, say); err != nil {
				return err
			}
			if len(broken) > 0 {
				return command.Exit(command.Blocked)
			}
			return nil
		},
	})
}

// exposedJSON is a range of ports as "meatus estate exposure --json" promises it.
type exposedJSON struct {
	Source    string   `json:"source"`
	ID        string   `json:"id"`
	Name      string   `json:"name"`
	Protocol  string   `json:"protocol"`
	From      uint16   `json:"from"`
	To        uint16   `json:"to"`
	Who       []string `json:"who"`
	More      int      `json:"more"` // ranges that are not listed
	Everybody bool     `json:"everybody"`
	Outside   bool     `json:"outside"`
	By        []string `json:"by"`
}

// unusedJSON is a rule that nobody here used, as "meatus estate exposure --unused --json" promises it.
type unusedJSON struct {
	Source string     `json:"source"`
	Group  string     `json:"group"`
	Rule   string     `json:"rule"`
	Who    string     `json:"who"`
	Ports  string     `json:"ports"`
	To     []string   `json:"to"`
	Used   *time.Time `json:"used"` // null for never from here
}

// unused lists the rules that let somebody in and that nobody here used for a week, the oldest first.
func unused(cmd *command.Call, w *workspace.Workspace, sources []string, q estate.Query) error {
	list := []unusedJSON{}
	meant := func(k *estate.Kept, i *estate.Instance) bool {
		return slices.Contains(sources, k.Source) && q.Holds(k.Source, &k.Snapshot, i)
	}
	for _, l := range w.LetIn(live.Visits(w), meant, true, time.Now()) {
		one := unusedJSON{Source: l.Source, Group: l.Called, Rule: l.Say, Who: l.Who, Ports: l.Ports}
		for _, i := range l.To {
			one.To = append(one.To, called(i))
		}
		if !l.Used.IsZero() {
			one.Used = &l.Used
		}
		list = append(list, one)
	}
	t := &command.Table{}
	for _, u := range list {
		when := "never from here"
		if u.Used != nil {
			when = u.Used.Local().Format("2 Jan 2006")
		}
		to := strings.Join(u.To[:min(len(u.To), 4)], ", ")
		if more := len(u.To) - 4; more > 0 {
			to += fmt.Sprintf(" and %d more", more)
		}
		t.Row(when, fmt.Sprintf("%s: %s", u.Group, u.Rule), to, u.Source)
	}
	return cmd.AnswerTable(list, t)
}

// mostWho is how many ranges of addresses are listed of a range of ports.
const mostWho = 20

func exposure(open live.Opener) *command.Command {
	var f estateFlags
	var idle bool
	c := f.of(&command.Command{
		Use:      "exposure [QUERY]",
		Summary:  "list open ports by how many can reach them",
		Examples: []string{"meatus estate exposure", "meatus estate exposure network=reef --json", "meatus estate exposure --unused"},
		Complete: command.Instances,
		Args:     cobra.ArbitraryArgs,
		Run: func(cmd *command.Call, args []string) error {
			q, all, err := chosen(cmd, open, f, args)
			if err != nil {
				return err
			}
			if idle {
				w, err := open.Workspace() // as it is now that the sources are read
				if err != nil {
					return err
				}
				var sources []string
				for _, k := range all {
					sources = append(sources, k.Source)
				}
				return unused(cmd, w, sources, q)
			}
			list := []exposedJSON{}
			for k := range all {
				for _, e := range reach.NewJudge(&all[k].Snapshot).Exposure() {
					if !q.Holds(all[k].Source, &all[k].Snapshot, e.Instance) {
						continue
					}
					who, more := e.Who(mostWho)
					list = append(list, exposedJSON{all[k].Source, e.Instance.ID, called(e.Instance), e.Protocol, e.From, e.To, who, more, e.Everybody, e.Outside, e.By})
				}
			}
			t := &command.Table{}
			for _, e := range list {
				who := strings.Join(e.Who[:min(len(e.Who), 4)], ", ")
				if more := e.More + len(e.Who) - min(len(e.Who), 4); more > 0 {
					who += fmt.Sprintf(" and %d more", more)
				}
				mark := " "
				switch {
				case e.Everybody && e.Outside:
					mark, who = "!", "everybody, from outside"
				case e.Everybody:
					who = "everybody who can come to its network"
				}
				t.Row(fmt.Sprintf("%s %s", mark, e.Name), (&reach.Opening{Protocol: e.Protocol, From: e.From, To: e.To}).Ports(), who, e.Source)
			}
			return cmd.AnswerTable(list, t)
		},
	})
	c.Flags().BoolVar(&idle, "unused", false, "list rules that nobody here used for a week, oldest first")
	return c
}
