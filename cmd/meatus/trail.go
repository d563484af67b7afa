package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/meter"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
)

func trailCommand(open opener) *cobra.Command {
	var f trail.Filter
	var asJSON, asCSV bool
	c := &cobra.Command{
		Use:   "trail [TEXT]",
		Short: "what was done, by whom, when: the newest first, or those that hold TEXT",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			if len(args) > 0 {
				f.Text = args[0]
			}
			t, err := trail.Open(w.Dir)
			if err != nil {
				return &statusError{statusWorkspace, err}
			}
			defer t.Close()
			entries, err := t.Read(cmd.Context(), f)
			if err != nil {
				return err
			}
			switch {
			case asJSON:
				return trail.WriteJSON(cmd.OutOrStdout(), entries)
			case asCSV:
				return trail.WriteCSV(cmd.OutOrStdout(), entries)
			}
			for _, e := range entries {
				fmt.Fprintf(cmd.OutOrStdout(), "%s  %-10s  %-8s  %-14s  %s", e.At.Local().Format("2006-01-02 15:04:05"), e.Who, e.Kind, e.Session, e.Say)
				if e.Failed != "" {
					fmt.Fprintf(cmd.OutOrStdout(), ": %s", e.Failed)
				}
				fmt.Fprintln(cmd.OutOrStdout())
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON lines")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	c.Flags().BoolVar(&f.Failed, "failed", false, "only what failed")
	c.Flags().StringVar(&f.Session, "session", "", "only of this session")
	c.Flags().IntVarP(&f.Limit, "number", "n", 50, "at most so many; 0 for all")
	c.MarkFlagsMutuallyExclusive("json", "csv")
	return c
}

// keepTrail writes what a walker does to the workspace's trail, until stopped. A
// trail that cannot be kept is said, and is no reason to stop.
func keepTrail(dir string, walker *walk.Walker) (stop func()) {
	_, _, stop = keepTrailOf(dir, walker)
	return stop
}

// keepSeries keeps what links carry in a trail, nil where there is none, until stopped.
func keepSeries(walker *walk.Walker, set *tunnel.Set, t *trail.Trail) (stop func()) {
	if t == nil {
		return func() {}
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	keeper := meter.NewKeeper(tunnel.Readings(walker, set), t)
	go func() {
		defer close(done)
		keeper.Run(ctx, func(err error) { fmt.Fprintln(os.Stderr, "meatus: "+err.Error()) })
	}()
	return func() {
		cancel()
		<-done
	}
}

// keepTrailOf is keepTrail, with the trail, nil where there is none, and a way to
// write entries of one's own.
func keepTrailOf(dir string, walker *walk.Walker) (t *trail.Trail, record func(trail.Entry), stop func()) {
	t, err := trail.Open(dir)
	if err != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
		return nil, func(trail.Entry) {}, func() {}
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	inbox := walker.Events.Subscribe()
	go func() {
		defer close(done)
		t.Follow(ctx, inbox, func(err error) {
			if err == nil {
				err = errors.New("the trail is written again")
			}
			fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
		})
	}()
	return t, func(e trail.Entry) {
			if err := t.Add(e); err != nil {
				fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
			}
		}, func() {
			time.AfterFunc(20*time.Millisecond, cancel) // what has just happened is still written
			<-done
			t.Close()
		}
}
