package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/sweep"
	"meatus/core/trail"
	"meatus/core/walk"
	"meatus/core/workspace"
)

func keyInstall(open opener) *cobra.Command {
	var o install.Options
	var identities []string
	c := &cobra.Command{
		Use:   "install PATH SESSION",
		Short: "put a key's public half into the list of keys at a session's machine, and prove it by a login",
		Long: `install logs in to a session's machine by any way the session has, puts the
public half of the key at PATH into the account's list of keys where it does not
stand there, says what would make the server pass the list over, and proves it by
a fresh login with that key alone.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			if file.Public == nil {
				return errors.New("the public half of that key is locked away; derive it first with key public")
			}
			r, err := w.Planner().Plan(args[1])
			if err != nil {
				return err
			}
			line, err := install.Line(file.Public, file.Comment, o)
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			walker, passage, record, done, err := walkThere(cmd, w, r, identities)
			if err != nil {
				return err
			}
			defer done()
			report, err := install.Add(cmd.Context(), passage, file.Public, line)
			passage.Close()
			for _, d := range report.Doubts {
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+d)
			}
			if err != nil {
				return err
			}
			word := "stood in the list already"
			if report.Added {
				word = "is in the list now"
			}
			asJSON := cmd.Flag("json").Value.String() == "true"
			step := func(say string) {
				if asJSON {
					sayStep(cmd.OutOrStdout(), true, install.Step{Session: r.Session, Say: say})
				} else {
					fmt.Fprintln(cmd.OutOrStdout(), say)
				}
			}
			step(file.SHA256 + " " + word)
			record(trail.Entry{Kind: trail.Carry, Session: r.Session, Say: filepath.Base(file.Path) + " " + word})
			if o.Command != "" || o.From != "" {
				step("not proven: a line with from or command lets in less than a login")
				return nil
			}
			passage, err = install.Prove(cmd.Context(), walker, r, file)
			e := trail.Entry{Kind: trail.Carry, Session: r.Session, Say: "a login with " + filepath.Base(file.Path) + " alone"}
			if err != nil {
				e.Failed = err.Error()
			} else {
				passage.Close()
				step("proven: a login with that key alone got in")
			}
			record(e)
			return err
		},
	}
	c.Flags().StringVar(&o.From, "from", "", "addresses the key may be used from")
	c.Flags().StringVar(&o.Command, "command", "", "the one command the key may run")
	c.Flags().BoolVar(&o.Bare, "restrict", false, "no terminal and no forwarding with this key")
	c.Flags().StringArrayVar(&identities, "yes-identity", nil, "accept a first visit that shows exactly this SHA256: fingerprint (repeatable)")
	return c
}

// walkThere walks to a session's machine, with the trail kept until done.
func walkThere(cmd *cobra.Command, w *workspace.Workspace, r route.Route, identities []string) (*walk.Walker, *walk.Passage, func(trail.Entry), func(), error) {
	walker, err := newWalker(cmd.Context(), w, identities)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	_, record, stop := keepTrailOf(w.Dir, walker)
	passage, err := walker.Walk(cmd.Context(), r)
	if err != nil {
		stop()
		walker.Close()
		return nil, nil, nil, nil, interrupted(cmd.Context(), err)
	}
	return walker, passage, record, func() {
		passage.Close()
		stop()
		walker.Close()
	}, nil
}

func keyRotate(open opener) *cobra.Command {
	var asJSON bool
	var identities []string
	c := &cobra.Command{
		Use:   "rotate OLD NEW [SESSION...]",
		Short: "put the key NEW in the place of OLD at the sessions' machines, or at all that use it, and in the sessions",
		Long: `rotate puts the public half of NEW into the list of keys of each account, with the
options that OLD has there, and proves it by a fresh login with NEW alone. When
that is done everywhere, the sessions use NEW, and OLD is taken out of each list.
It stops at the first machine that cannot be proven; whenever it stops, every
account is opened by a key that its session names. OLD stays where it is.`,
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			old, err := readAbs(args[0])
			if err != nil {
				return err
			}
			fresh, err := readAbs(args[1])
			if err != nil {
				return err
			}
			routes, renamed, err := w.RotatePlan(old.Path, args[2:])
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			walker, err := newWalker(cmd.Context(), w, identities)
			if err != nil {
				return err
			}
			defer walker.Close()
			_, record, stop := keepTrailOf(w.Dir, walker)
			defer stop()
			out := cmd.OutOrStdout()
			err = install.Rotation{
				Walker: walker, Routes: routes, Old: old, New: fresh,
				Rename: func() error {
					_, err := w.ReplaceKey(old.Path, fresh.Path, renamed)
					if err == nil {
						sayStep(out, asJSON, install.Step{Say: strings.Join(renamed, ", ") + " use " + filepath.Base(fresh.Path) + " from now on"})
					}
					return err
				},
				Tell: func(s install.Step) {
					sayStep(out, asJSON, s)
					e := trail.Entry{Kind: trail.Carry, Session: s.Session, Say: s.Say}
					if s.Err != nil {
						e.Failed = s.Err.Error()
					}
					record(e)
				},
			}.Run(cmd.Context())
			return interrupted(cmd.Context(), err)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print each step as a line of JSON")
	c.Flags().StringArrayVar(&identities, "yes-identity", nil, "accept a first visit that shows exactly this SHA256: fingerprint (repeatable)")
	return c
}

// readAbs reads a key file by its absolute path.
func readAbs(name string) (*keyfile.File, error) {
	path, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	return keyfile.Read(path)
}

func sayStep(out io.Writer, asJSON bool, s install.Step) {
	if asJSON {
		line := map[string]string{"session": s.Session, "step": s.Say}
		if s.Err != nil {
			line["error"] = s.Err.Error()
		}
		text, _ := json.Marshal(line)
		fmt.Fprintln(out, string(text))
		return
	}
	if s.Err != nil {
		s.Say += ": " + s.Err.Error()
	}
	if s.Session != "" {
		s.Say = s.Session + ": " + s.Say
	}
	fmt.Fprintln(out, s.Say)
}

func keySweep(open opener) *cobra.Command {
	var asJSON bool
	var identities []string
	c := &cobra.Command{
		Use:   "sweep SESSION",
		Short: "look at a session's account for private keys, agents' sockets and listed keys that should not be there; status 3 where there are",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			r, err := w.Planner().Plan(args[0])
			if err != nil {
				return err
			}
			_, passage, record, done, err := walkThere(cmd, w, r, identities)
			if err != nil {
				return err
			}
			defer done()
			report, err := sweep.Look(cmd.Context(), passage, w.PublicKeys())
			if err != nil {
				return err
			}
			for _, f := range append([]sweep.Finding{{Kind: "found", Say: report.Sum()}}, report.Findings()...) {
				record(trail.Entry{Kind: trail.Sweep, Session: r.Session, Say: f.Kind + ": " + f.Say})
			}
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), report)
			} else {
				printSweep(cmd.OutOrStdout(), report)
			}
			if err == nil && report.Found() > 0 {
				err = &statusError{status: statusShut}
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an object")
	c.Flags().StringArrayVar(&identities, "yes-identity", nil, "accept a first visit that shows exactly this SHA256: fingerprint (repeatable)")
	return c
}

func printSweep(out io.Writer, r sweep.Report) {
	for _, f := range r.Findings() {
		fmt.Fprintf(out, "%-13s  %s\n", f.Kind, f.Say)
	}
	fmt.Fprintln(out, r.Sum()+"; nothing was changed")
}
