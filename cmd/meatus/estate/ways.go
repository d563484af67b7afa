package estate

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/estate"
	"meatus/core/reach"
)

// waysJSON are the ways to a port, and where there is none the nearest misses, as "meatus estate ways --json"
// promises them.
type waysJSON struct {
	Here   netip.Addr  `json:"here,omitzero"`
	Ways   []reach.Way `json:"ways"`
	Misses []reach.Way `json:"misses"`
}

func ways(open live.Opener) *command.Command {
	var f estateFlags
	var from string
	c := f.of(&command.Command{
		Use:      "ways TO[:PORT]",
		Summary:  "list routes to an instance or service, best first",
		Examples: []string{"meatus estate ways tide-db:5432", "meatus estate ways gauge-1 --from 198.51.100.7"},
		Status:   "3 if there is no route",
		Complete: command.Instances,
		Details: `List the routes from this machine to a port of an instance (22 by default): the machines on the
way, the key for each, and the firewall rules that allow each hop. Routes through the fewest
machines come first, then the least exposed ones, then those used last. If there is none, the
nearest misses are listed, with the missing rule of each.

Machines that you cannot log in to are not used: those without a session or a key file.`,
		Args: cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			name, port := args[0], reach.Port{Protocol: "tcp", Number: 22}
			if strings.Contains(name, ":") {
				var err error
				if name, port, err = reach.ReadPort(name); err != nil {
					return command.Fail(command.WrongUse, err)
				}
			}
			var here netip.Addr
			if from != "" {
				var err error
				if here, err = netip.ParseAddr(from); err != nil {
					return command.Fail(command.WrongUse, fmt.Errorf("--from: %w", err))
				}
			}
			all, w, err := readAnew(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			if !here.IsValid() {
				here = w.Seen()
			}
			to, why := estate.NewIndex(all).One(name)
			if why != "" {
				return errors.New(why)
			}
			found := waysJSON{Here: here}
			found.Ways, found.Misses = reach.NewJudge(&to.Kept.Snapshot).Ways(reach.Finding{Here: here, To: to.Instance, Port: port, Means: w.MeansOf(to.Kept, live.Visits(w))})
			found.Ways, found.Misses = append([]reach.Way{}, found.Ways...), append([]reach.Way{}, found.Misses...)
			if err := cmd.Answer(found, found.String()); err != nil {
				return err
			}
			if len(found.Ways) == 0 {
				return command.Exit(command.Blocked)
			}
			return nil
		},
	})
	c.Flags().StringVar(&from, "from", "", "the public address of this machine, if it differs from its own")
	c.Value("from", "ADDRESS", nil)
	return c
}

// String is the ways in words, or the misses where there is none.
func (found waysJSON) String() string {
	var out strings.Builder
	ways := found.Ways
	if len(ways) == 0 {
		fmt.Fprintln(&out, "there is no way; the nearest misses are")
		ways = found.Misses
	}
	for _, w := range ways {
		say := "here"
		for _, h := range w.Hops {
			say += " ── " + h.Name
		}
		last := w.Hops[len(w.Hops)-1]
		fmt.Fprintf(&out, "%s  %s\n", say, last.Port)
		for _, h := range w.Hops {
			fmt.Fprintf(&out, "  %s%s\n", h.Name, meansWords(h.Means))
			for line := range strings.Lines(h.Answer.String()) {
				fmt.Fprint(&out, "    "+line)
			}
		}
	}
	return out.String()
}

// meansWords say what one would log in with.
func meansWords(m reach.Means) string {
	say := ""
	if m.Session != "" {
		say = ", session " + m.Session
	}
	if m.Login != "" && m.Key != "" {
		say += ", as " + m.Login + " with " + m.Key
	}
	return say
}
