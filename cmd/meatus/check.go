package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/trail"
	"meatus/core/walk"
	"meatus/core/workspace"
)

func checkCommand(open opener) *cobra.Command {
	var asJSON, touch bool
	var far string
	var depth walk.Depth
	var identities []string
	c := &cobra.Command{
		Use:   "check [NAME...]",
		Short: "judge the gates of sessions as far as you say; status 3 where one is shut",
		Args:  cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, names []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			if touch {
				far = walk.Identity.String()
			}
			at := slices.Index(walk.DepthWords[:], far)
			if at < 0 {
				return &statusError{statusWrongUse, fmt.Errorf("%q is no depth; there are %s", far, strings.Join(walk.DepthWords[:], ", "))}
			}
			depth = walk.Depth(at)
			if t, err := trail.Open(w.Dir); err == nil { // without it less is known, and nothing is wrong
				w.Logins = t
				defer t.Close()
			}
			each := len(names) > 0
			if !each {
				names = w.Book.Names()
			}
			for _, p := range w.Book.Problems {
				fmt.Fprintln(cmd.ErrOrStderr(), p.Error())
			}
			reports := []gate.Report{}
			shut := len(w.Book.Problems) > 0
			seen := route.KeySheets{}
			var routes []route.Route
			for _, name := range names {
				r, report := w.Check(name, seen)
				reports = append(reports, report)
				routes = append(routes, r)
			}
			if depth > walk.Here {
				touchAll(cmd.Context(), w, routes, reports, identities, depth)
			}
			for _, report := range reports {
				shut = shut || report.Verdict() == gate.Shut
			}
			if asJSON {
				encoder := json.NewEncoder(cmd.OutOrStdout())
				encoder.SetIndent("", "  ")
				encoder.SetEscapeHTML(false)
				err = encoder.Encode(reports)
			} else {
				err = printReports(cmd.OutOrStdout(), reports, each)
			}
			if err != nil {
				return err
			}
			if shut {
				return &statusError{status: statusShut}
			}
			return nil
		},
	}
	c.Flags().StringVar(&far, "as-far-as", "here", "here (no packet leaves), knock (does it answer, with what) or identity (its host key); hops before a machine are logged in to")
	c.Flags().BoolVar(&touch, "touch", false, "the same as --as-far-as identity")
	c.Flags().StringArrayVar(&identities, "yes-identity", nil, "accept a first visit to a hop that shows exactly this SHA256: fingerprint (repeatable)")
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of reports")
	return c
}

// touchAll makes the reports of routes truer by looking at their machines.
func touchAll(ctx context.Context, w *workspace.Workspace, routes []route.Route, reports []gate.Report, identities []string, depth walk.Depth) {
	walker := walk.New(walk.Config{Vouched: w.Vouched, Asker: newTTYAsker(identities), Logins: w.Logins})
	defer walker.Close()
	defer keepTrail(w.Dir, walker)()
	var whole []route.Route
	var at []int
	for i, r := range routes {
		if reports[i].Broken == "" {
			whole, at = append(whole, r), append(at, i)
		}
	}
	walker.TouchAll(ctx, whole, walk.Look{Depth: depth}, func(i int, report gate.Report) { reports[at[i]] = report })
}

// printReports prints a line for each report, and with all of them every gate.
func printReports(out io.Writer, reports []gate.Report, all bool) error {
	width := 4
	for _, r := range reports {
		width = max(width, len([]rune(r.Session)))
	}
	for _, r := range reports {
		say := r.Broken
		worst, at := r.Worst()
		if at >= 0 && worst.Verdict >= gate.Ajar {
			say = fmt.Sprintf("%s: %s: %s", r.Hops[at].Name, worst.Kind, worst.Reason)
			if !worst.Remedy.IsZero() {
				say += "; " + worst.Remedy.Say
			}
		}
		if _, err := fmt.Fprintf(out, "%-*s  %-7s  %s\n", width, r.Session, r.Verdict(), say); err != nil {
			return err
		}
		if !all {
			continue
		}
		for i, h := range r.Hops {
			fmt.Fprintf(out, "  %d %s  %s@%s\n", i+1, h.Name, h.User, h.Address)
			for _, g := range h.Gates {
				fmt.Fprintf(out, "    %-8s  %-7s  %s\n", g.Kind, g.Verdict, g.Seen)
			}
		}
	}
	return nil
}
