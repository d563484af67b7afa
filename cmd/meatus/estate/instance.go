package estate

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/work"
)

// estateActs are the commands that do something to an instance.
func acts(open live.Opener) []*command.Command {
	return []*command.Command{
		act(open, estate.Start, "start", "start an instance and wait until it runs", "gauge-2"),
		act(open, estate.Stop, "stop", "stop an instance and wait until it has stopped", "gauge-2 --yes"),
		act(open, estate.Restart, "restart", "restart an instance and wait until it runs again", "id=i-2f81"),
		act(open, estate.End, "delete", "terminate an instance, and wait until it is gone", "gauge-2"),
	}
}

func act(open live.Opener, act estate.Act, name, summary, example string) *command.Command {
	var yes bool
	c := &command.Command{
		Use:     name + " NAME",
		Summary: summary,
		Details: `NAME is a name, an id, or a query that matches one instance. The effects on addresses and
sessions are printed first, and confirmed; --yes skips the question.`,
		Examples: []string{"meatus estate " + name + " " + example},
		JSON:     "print each step as a line of JSON",
		Args:     cobra.MinimumNArgs(1),
		Complete: command.Instances,
		Run: func(cmd *command.Call, args []string) error {
			if _, err := estates(cmd, open, "", false); err != nil {
				return err
			}
			w, err := open.Workspace() // as it is now that the sources are read
			if err != nil {
				return err
			}
			m, why := estate.NewIndex(w.Estates).One(strings.Join(args, " "))
			if why != "" {
				return errors.New(why)
			}
			if why := act.Applies(m.Instance); why != "" {
				return errors.New(why)
			}
			spot := estate.SpotOf(w.Book, m)
			if err := agreedTo(cmd, act, m.Instance, work.Consequences(w, act, spot, func(string) bool { return false }), yes); err != nil {
				return err
			}
			e, err := open.Engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Instance{Tools: e.Tools(), Act: act, ID: m.Instance.ID, Name: called(m.Instance), Read: func() {}}
			for _, source := range w.Book.Estates {
				if source.Name == m.Kept.Source {
					job.Source = source
				}
			}
			if err := e.Do(cmd, job, func(s work.Step) { live.Step(cmd, s) }); err != nil {
				return err
			}
			_, err = estates(cmd, open, m.Kept.Source, false)
			return err
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// agreedTo says what an act does, and asks whether it is to be done: by a yes, or where it is for good by
// the instance's name.
func agreedTo(cmd *command.Call, act estate.Act, i *estate.Instance, does []string, yes bool) error {
	for _, say := range does {
		fmt.Fprintf(cmd.ErrOrStderr(), "meatus: %s\n", say)
	}
	if act != estate.End {
		return prompt.Sure(cmd, string(act)+" "+called(i), yes)
	}
	if yes {
		return nil
	}
	answer, err := prompt.Ask(cmd.Context(), fmt.Sprintf("Terminate %s for good? Type its name: ", called(i)), fmt.Sprintf("there is nobody to ask whether to terminate %s; pass --yes", called(i)))
	if err != nil {
		return err
	}
	if answer != called(i) {
		return errors.New("not confirmed: nothing was changed")
	}
	return nil
}
