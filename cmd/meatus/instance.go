package main

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/work"
)

// estateActs are the commands that do something to an instance.
func estateActs(open opener) []*cobra.Command {
	return []*cobra.Command{
		estateAct(open, estate.Start, "start an instance, and wait until it runs"),
		estateAct(open, estate.Stop, "stop an instance, and wait until it has stopped"),
		estateAct(open, estate.Restart, "restart an instance, and wait until it runs again"),
		estateAct(open, estate.End, "end an instance for good, and wait until it is gone"),
	}
}

func estateAct(open opener, act estate.Act, short string) *cobra.Command {
	var yes, asJSON bool
	c := &cobra.Command{
		Use:   string(act) + " NAME",
		Short: short,
		Long: short + `.

NAME is a name, an id, or a query that fits one instance. What it does to addresses and
to sessions is said first, and asked about; with --yes it is done without asking.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := estates(cmd, open, "", false); err != nil {
				return err
			}
			w, err := open.workspace() // as it is now that the sources are read
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
			e, err := open.engine(cmd, w, nil, engine.Options{}, nil)
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
			if err := e.do(cmd, job, func(s work.Step) { sayStep(cmd.OutOrStdout(), asJSON, s) }); err != nil {
				return err
			}
			_, err = estates(cmd, open, m.Kept.Source, false)
			return err
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	c.Flags().BoolVar(&asJSON, "json", false, "print each step as a line of JSON")
	return c
}

// agreedTo says what an act does, and asks whether it is to be done: by a yes, or where it is for good by
// the instance's name.
func agreedTo(cmd *cobra.Command, act estate.Act, i *estate.Instance, does []string, yes bool) error {
	for _, say := range does {
		fmt.Fprintf(cmd.ErrOrStderr(), "meatus: %s\n", say)
	}
	if act != estate.End {
		return sure(cmd, string(act)+" "+called(i), yes)
	}
	if yes {
		return nil
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return &statusError{statusWrongUse, fmt.Errorf("there is nobody to ask whether to end %s; pass --yes", called(i))}
	}
	defer tty.Close()
	answer, err := ask(cmd.Context(), tty, fmt.Sprintf("End %s for good? Type its name: ", called(i)), true)
	if err != nil {
		return err
	}
	if answer != called(i) {
		return errors.New("nothing was done")
	}
	return nil
}
