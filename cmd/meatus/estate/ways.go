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
		Summary:  "list the routes to an instance or a service, best first",
		Examples: []string{"meatus estate ways tide-db:5432", "meatus estate ways gauge-1 --from 198.51.100.7"},
		Status:   "3 where there is no way",
		Complete: command.Instances,
		Details: `The ways from here to a port of an instance, 22 where none is named: through which
machines, with what one would log in there, and the proof for each hop. Those through the
fewest machines come first, then those that are open to the fewest, then what was used
last. Where there is no way, the nearest misses say what each lacks.

Machines that nothing at hand logs in to are on no way: no session leads to them, or no
file of their key pair is here.`,
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
	c.Flags().StringVar(&from, "from", "", "as which address this machine is seen outside, where that is another than its own")
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
