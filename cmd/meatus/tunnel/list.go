package tunnel

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/tunnel"
)

// Commands are "meatus hold" and "tunnels".
func Commands(open live.Opener) []*command.Command {
	return []*command.Command{holdCommand(open), list(open)}
}

func list(open live.Opener) *command.Command {
	var flows string
	c := &command.Command{
		Use:      "tunnels",
		Summary:  "list the running port forwards of this workspace",
		Examples: []string{"meatus tunnels", "meatus tunnels --json", "meatus tunnels --flows csv > flows.csv"},
		JSON:     "print an array of programs",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if flows != "" {
				seen, err := tunnel.See(w.Dir)
				if err != nil {
					return err
				}
				if err := tunnel.WriteFlows(cmd.OutOrStdout(), tunnel.Export(seen), flows); err != nil {
					return command.Fail(command.WrongUse, err)
				}
				return nil
			}
			programs, err := tunnel.Programs(w.Dir)
			if err != nil {
				return err
			}
			table := &command.Table{}
			for _, p := range programs {
				for _, l := range p.Lines {
					table.Row(l.Session, l.Kind, l.Drawn(), fmt.Sprintf("%d flows, %d live, %d bytes in, %d out", l.Flows, l.Live, l.In, l.Out), stateOf(l), fmt.Sprintf("(process %d, %s)", p.PID, p.What))
				}
			}
			return cmd.AnswerTable(append([]tunnel.Program{}, programs...), table)
		},
	}
	c.Flags().StringVar(&flows, "flows", "", "print the open connections through the forwards, as csv or json")
	c.Value("flows", "FORMAT", command.Words("csv", "json"))
	return c
}

// stateOf is how a tunnel is, in words.
func stateOf(l tunnel.Line) string {
	state := "up"
	switch {
	case l.Error != "":
		state = l.Error
	case !l.Up && !l.Lost.IsZero():
		state = "lost for " + time.Since(l.Lost).Round(time.Second).String()
	case !l.Up:
		state = "waits for a knock"
	}
	if l.Proof != "" && l.Answers != "open" {
		state += ", " + l.Proof
	}
	if l.Beyond {
		state += ", OPEN TO OTHER MACHINES"
	}
	return state
}
