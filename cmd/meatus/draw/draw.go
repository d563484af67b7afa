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
		Summary:  "draw a map, chart or timeline as SVG or PDF",
		Examples: []string{"meatus draw -o bay.svg", "meatus draw --site reef --private -o reef.pdf", "meatus draw --paper a1 -o wall.pdf", "meatus draw gauge-1 --chart --over 2h -o chart.svg"},
		Complete: command.Sessions,
		Details: `The map shows the routes of all sessions, of a site, or of the named sessions: hops,
addresses, user names, keys by name and fingerprint, port forwards with their direction, and
the results of the checks that need no connection.

--chart draws the traffic and round-trip times of one session, --timeline who was connected
where; both from the audit log, for the period of --over.

--estate draws networks, instances, the firewall rules between them and the ports open to
everybody, and with --way-to the route to an instance.

The file name ends with .svg or .pdf.`,
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
	c.Flags().StringVar(&o.site, "site", "", "draw the sessions of this site")
	c.Flags().BoolVar(&o.private, "private", false, "omit addresses, user names, fingerprints and accounts")
	c.Flags().BoolVar(&o.chart, "chart", false, "draw the traffic and round-trip times of one session")
	c.Flags().BoolVar(&o.timeline, "timeline", false, "draw a timeline of connections")
	c.Flags().DurationVar(&o.over, "over", 24*time.Hour, "the period of --chart and --timeline, up to now")
	c.Flags().StringVar(&o.paper, "paper", "", "the paper size of a PDF map: "+strings.Join(draw.Papers(), ", ")+", or pages (default: one sheet, or pages above A3)")
	c.Flags().BoolVar(&o.estate, "estate", false, "draw an estate, as it was read last")
	c.Flags().StringVar(&o.source, "source", "", "the estate, if there are several")
	c.Flags().StringVar(&o.wayTo, "way-to", "", "highlight the route to this instance")
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
