// Package draw has the command that writes drawings.
package draw

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/estate"
	"meatus/cmd/meatus/live"
	"meatus/core/draw"
	"meatus/core/trail"
	"meatus/core/work"
	"meatus/core/workspace"
)

// drawOptions are the flags of "meatus draw".
type drawOptions struct {
	out, site       string
	private         bool
	chart, timeline bool
	over            time.Duration
	paper           string
	estate          bool
	source, wayTo   string
}

// Command is "meatus draw".
func Command(open live.Opener) *command.Command {
	var o drawOptions
	c := &command.Command{
		Use:      "draw [SESSION...] -o FILE",
		Summary:  "draw a map of connections, a traffic chart or a timeline as SVG or PDF",
		Examples: []string{"meatus draw -o bay.svg", "meatus draw --site reef --private -o reef.pdf", "meatus draw --paper a1 -o wall.pdf", "meatus draw gauge-1 --chart --over 2h -o chart.svg"},
		Complete: command.Sessions,
		Details: `draw makes a map of routes to hand on, of all sessions, a site's, or those named: hops,
addresses, logins, keys by name and fingerprint, tunnels with their direction, and the
verdicts that this machine alone can give, now.

With --chart it draws what the link to one session carried, and its round trips; with
--timeline who was connected where; both out of the trail, as far back as --over says.

With --estate it draws an estate: networks as areas, instances, who is let in where by
which rule, what is open to everybody, and with --way-to the way to an instance.

The ending of FILE says whether it is SVG or PDF. --private leaves addresses, logins,
fingerprints and accounts out.`,
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			switch {
			case o.chart && o.timeline:
				return command.Fail(command.WrongUse, fmt.Errorf("--chart and --timeline are two drawings; make one after the other"))
			case o.estate && (o.chart || o.timeline || len(args) > 0 || o.site != ""), !o.estate && o.source+o.wayTo != "":
				return command.Fail(command.WrongUse, fmt.Errorf("--estate draws an estate and no sessions; --source and --way-to go with it alone"))
			case o.over <= 0:
				return command.Fail(command.WrongUse, fmt.Errorf("--over has to be a time ahead of nothing, as 1h"))
			}
			d, err := o.drawing(cmd.Context(), w, args)
			if err != nil {
				return err
			}
			format := draw.Format(strings.TrimPrefix(filepath.Ext(o.out), "."))
			if err := d.Write(io.Discard, format); err != nil {
				return command.Fail(command.WrongUse, err)
			}
			job := &work.Draw{Of: o.out, Files: []string{o.out}, Make: func(context.Context) (draw.Drawing, error) { return d, nil }}
			return job.Run(cmd.Context(), func(work.Step) {})
		},
	}
	c.Flags().StringVarP(&o.out, "output", "o", "", "the file to write, .svg or .pdf")
	c.Flags().StringVar(&o.site, "site", "", "the sessions of a site")
	c.Flags().BoolVar(&o.private, "private", false, "leave addresses, logins, fingerprints and accounts out")
	c.Flags().BoolVar(&o.chart, "chart", false, "what the link to the session carried")
	c.Flags().BoolVar(&o.timeline, "timeline", false, "who was connected where")
	c.Flags().DurationVar(&o.over, "over", 24*time.Hour, "how far back --chart and --timeline reach")
	c.Flags().StringVar(&o.paper, "paper", "", "of a map as PDF: one sheet of this size ("+strings.Join(draw.Papers(), ", ")+"), or pages; pages where it would be larger than A3, if nothing is said")
	c.Flags().BoolVar(&o.estate, "estate", false, "an estate, as it was read last")
	c.Flags().StringVar(&o.source, "source", "", "which estate, where there are several")
	c.Flags().StringVar(&o.wayTo, "way-to", "", "an instance whose way from here is highlighted")
	c.Require("output")
	c.Value("output", "FILE", nil)
	c.Value("site", "SITE", command.Sites)
	c.Value("paper", "SIZE", command.Words(draw.Papers()...))
	c.Value("source", "NAME", nil)
	c.Value("way-to", "INSTANCE", command.Instances)
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
		return nil, "", command.Fail(command.WrongUse, fmt.Errorf("no session stands in a site %q", o.site))
	}
	return names, "site " + o.site, nil
}

// drawing is what is wanted.
func (o drawOptions) drawing(ctx context.Context, w *workspace.Workspace, args []string) (draw.Drawing, error) {
	if o.estate {
		source, err := estate.OneSource(w, o.source)
		if err != nil {
			return nil, err
		}
		e, err := work.Estate(w, source.Name, o.wayTo, live.Visits(w))
		e.Private = o.private
		return e, err
	}
	if !o.chart && !o.timeline {
		names, title, err := o.names(w, args)
		if err != nil {
			return nil, err
		}
		m, err := work.Map(w, names, title, nil, time.Now())
		if err != nil {
			return nil, command.Fail(command.WrongUse, err)
		}
		m.Private, m.Paper = o.private, o.paper
		return m, nil
	}
	t, err := trail.Open(w.Dir)
	if err != nil {
		return nil, command.Fail(command.Workspace, err)
	}
	defer t.Close()
	if o.chart {
		return o.chartOf(t, args)
	}
	names, title, err := o.names(w, args)
	if err != nil {
		return nil, err
	}
	if o.site == "" && len(args) == 0 {
		names = nil // of all, also of sessions that are no more
	}
	l, err := work.Timeline(ctx, t, title, names, o.over, time.Now())
	l.Private = o.private
	return l, err
}

// chartOf is what the link to a session carried.
func (o drawOptions) chartOf(t *trail.Trail, args []string) (draw.Drawing, error) {
	if len(args) != 1 {
		return nil, command.Fail(command.WrongUse, fmt.Errorf("--chart is of one session; name it"))
	}
	c, err := work.Chart(t, args[0], o.over, time.Now())
	if err != nil {
		return nil, command.Fail(command.WrongUse, err)
	}
	if o.private {
		c.Title = "a link"
	}
	return c, nil
}
