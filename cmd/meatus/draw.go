package main

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/atomicfile"
	"meatus/core/draw"
	"meatus/core/meter"
	"meatus/core/trail"
	"meatus/core/workspace"
)

// drawOptions are the flags of "meatus draw".
type drawOptions struct {
	out, site       string
	private         bool
	chart, timeline bool
	over            time.Duration
}

func drawCommand(open opener) *cobra.Command {
	var o drawOptions
	c := &cobra.Command{
		Use:   "draw [SESSION...] -o FILE",
		Short: "draw the map of routes, what a link carried, or who was connected where, as SVG or PDF",
		Long: `draw makes a map of routes to hand on, of all sessions, a site's, or those named: hops,
addresses, logins, keys by name and fingerprint, tunnels with their direction, and the
verdicts that this machine alone can give, now.

With --chart it draws what the link to one session carried, and its round trips; with
--timeline who was connected where; both out of the trail, as far back as --over says.

The ending of FILE says whether it is SVG or PDF. --private leaves addresses, logins,
fingerprints and accounts out.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			var d draw.Drawing
			switch {
			case o.chart && o.timeline:
				return &statusError{statusWrongUse, fmt.Errorf("--chart and --timeline are two drawings; make one after the other")}
			case o.over <= 0:
				return &statusError{statusWrongUse, fmt.Errorf("--over has to be a time ahead of nothing, as 1h")}
			case o.chart:
				d, err = o.chartOf(w, args)
			case o.timeline:
				d, err = o.timelineOf(cmd, w, args)
			default:
				d, err = o.mapOf(w, args)
			}
			if err != nil {
				return err
			}
			var text bytes.Buffer
			if err := d.Write(&text, draw.Format(strings.TrimPrefix(filepath.Ext(o.out), "."))); err != nil {
				return &statusError{statusWrongUse, err}
			}
			return atomicfile.Write(o.out, text.Bytes())
		},
	}
	c.Flags().StringVarP(&o.out, "output", "o", "", "the file to write, .svg or .pdf")
	c.Flags().StringVar(&o.site, "site", "", "the sessions of a site")
	c.Flags().BoolVar(&o.private, "private", false, "leave addresses, logins, fingerprints and accounts out")
	c.Flags().BoolVar(&o.chart, "chart", false, "what the link to the session carried")
	c.Flags().BoolVar(&o.timeline, "timeline", false, "who was connected where")
	c.Flags().DurationVar(&o.over, "over", 24*time.Hour, "how far back --chart and --timeline reach")
	c.MarkFlagRequired("output")
	return c
}

// names are the sessions that are meant, and what they are together.
func (o drawOptions) names(w *workspace.Workspace, args []string) (names []string, title string, err error) {
	if o.site == "" && len(args) == 0 {
		return w.Book.Names(), filepath.Base(w.Dir), nil
	}
	if o.site == "" {
		return args, strings.Join(args, ", "), nil
	}
	for _, s := range w.Book.Sessions {
		if s.Site.V == o.site {
			names = append(names, s.Name)
		}
	}
	if len(names) == 0 {
		return nil, "", &statusError{statusWrongUse, fmt.Errorf("no session stands in a site %q", o.site)}
	}
	return names, "site " + o.site, nil
}

func (o drawOptions) mapOf(w *workspace.Workspace, args []string) (m draw.Map, err error) {
	names, title, err := o.names(w, args)
	if err != nil {
		return m, err
	}
	if m, err = w.Map(names, title, time.Now()); err != nil {
		return m, &statusError{statusWrongUse, err}
	}
	m.Private = o.private
	return m, nil
}

// chartOf is what the link to a session carried, out of the trail.
func (o drawOptions) chartOf(w *workspace.Workspace, args []string) (c draw.Chart, err error) {
	if len(args) != 1 {
		return c, &statusError{statusWrongUse, fmt.Errorf("--chart is of one session; name it")}
	}
	t, err := trail.Open(w.Dir)
	if err != nil {
		return c, &statusError{statusWorkspace, err}
	}
	defer t.Close()
	links, err := t.Metered()
	if err != nil {
		return c, err
	}
	var names []string
	for _, l := range links {
		if l.Name != args[0] {
			names = append(names, l.Name)
			continue
		}
		c = draw.Chart{Title: l.Name, To: time.Now()}
		if o.private {
			c.Title = "a link"
		}
		c.From = c.To.Add(-o.over)
		past, err := meter.Past(t, l.Key, c.To)
		c.Samples = past.Span(c.From, c.To, min(600, max(int(o.over/time.Second), 1)))
		return c, err
	}
	slices.Sort(names)
	return c, &statusError{statusWrongUse, fmt.Errorf("nothing is known of a link to %q; there were links to: %s", args[0], strings.Join(slices.Compact(names), ", "))}
}

// timelineOf is who was connected where, out of the trail.
func (o drawOptions) timelineOf(cmd *cobra.Command, w *workspace.Workspace, args []string) (l draw.Timeline, err error) {
	names, title, err := o.names(w, args)
	if err != nil {
		return l, err
	}
	t, err := trail.Open(w.Dir)
	if err != nil {
		return l, &statusError{statusWorkspace, err}
	}
	defer t.Close()
	l = draw.Timeline{Title: title, To: time.Now(), Private: o.private}
	l.From = l.To.Add(-o.over)
	if l.Stays, err = t.Stays(cmd.Context(), l.From, l.To); err != nil {
		return l, err
	}
	if o.site != "" || len(args) > 0 {
		l.Stays = slices.DeleteFunc(l.Stays, func(s trail.Stay) bool { return !slices.Contains(names, s.Where) })
	}
	return l, nil
}
