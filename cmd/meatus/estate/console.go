package estate

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/estate"
	"meatus/core/sanitize"
)

func console(open live.Opener) *command.Command {
	var follow bool
	c := &command.Command{
		Use:      "console INSTANCE",
		Summary:  "print the console output of an instance",
		Examples: []string{"meatus estate console gauge-2", "meatus estate console id=i-2f81 --follow"},
		Details: `The console shows boot messages and first-boot scripts, also when no login is possible.
Control characters are removed.`,
		Complete: command.Instances,
		Args:     cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Renewed(cmd)
			if err != nil {
				return err
			}
			m, why := estate.NewIndex(w.Estates).One(strings.Join(args, " "))
			if why != "" {
				return errors.New(why)
			}
			e, _, err := actingSource(w, m.Kept.Source)
			if err != nil {
				return err
			}
			s := &estate.Source{Dir: w.Dir, EstateSource: e}
			if follow {
				err := s.FollowConsole(cmd.Context(), m.Instance.ID, func(fresh string, gap bool) error {
					if gap {
						fmt.Fprintln(cmd.ErrOrStderr(), "meatus: some output before this was lost")
					}
					_, err := fmt.Fprint(cmd.OutOrStdout(), consoleText(fresh))
					return err
				})
				return live.Interrupted(cmd.Context(), err)
			}
			text, err := s.Console(cmd.Context(), m.Instance.ID)
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), consoleText(text))
			return err
		},
	}
	c.Flags().BoolVar(&follow, "follow", false, "keep printing new output until interrupted")
	return c
}

// consoleText is the output of a console as it can be shown, line by line.
func consoleText(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(sanitize.Code(strings.TrimRight(line, "\r\n"), 2000))
		if strings.HasSuffix(line, "\n") {
			b.WriteByte('\n')
		}
	}
	return b.String()
}
