package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"meatus/core/atomicfile"
	"meatus/core/draw"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/meter"
	"meatus/core/reach"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/workspace"
)

// Draw makes a drawing and writes it to files, each in the format that its ending says.
type Draw struct {
	Of    string // what it is of, in words
	Make  func(ctx context.Context) (draw.Drawing, error)
	Files []string
}

// Title says what the job is.
func (j *Draw) Title() Title { return Title{What: "draw", Of: j.Of} }

// Run does it. A file is written whole or not at all.
func (j *Draw) Run(ctx context.Context, tell func(Step)) error {
	d, err := j.Make(ctx)
	if err != nil {
		return err
	}
	for _, path := range j.Files {
		var text bytes.Buffer
		if err := d.Write(&text, draw.Format(strings.TrimPrefix(filepath.Ext(path), "."))); err != nil {
			return fmt.Errorf("drawing %s: %w", j.Of, err)
		}
		if err := atomicfile.Write(path, text.Bytes()); err != nil {
			return err
		}
		tell(Step{Verdict: gate.Open, Where: "drawn", Say: workspace.Short(path)})
	}
	return nil
}

// DrawingFiles are a new SVG and PDF file among a workspace's drawings, whose folder is
// made where there is none.
func DrawingFiles(dir, kind string, now time.Time) (stem string, files []string, err error) {
	stem = filepath.Join(dir, "drawings", kind+"-"+now.Format("2006-01-02-150405"))
	if err := os.MkdirAll(filepath.Dir(stem), 0o700); err != nil {
		return "", nil, err
	}
	return stem, []string{stem + "." + string(draw.SVG), stem + "." + string(draw.PDF)}, nil
}

// WriteFlows writes the live flows of programs into a CSV and a JSON file among a workspace's
// drawings, and returns what they are called but for the ending.
func WriteFlows(dir string, seen []tunnel.Seen, now time.Time) (stem string, err error) {
	stem, _, err = DrawingFiles(dir, "flows", now)
	if err != nil {
		return "", err
	}
	for _, format := range []string{"csv", "json"} {
		var text bytes.Buffer
		if err := tunnel.WriteFlows(&text, tunnel.Export(seen), format); err != nil {
			return "", err
		}
		if err := atomicfile.Write(stem+"."+format, text.Bytes()); err != nil {
			return "", err
		}
	}
	return stem, nil
}

// Map is the map of some sessions' routes. reports, by session, are truer than what this
// machine alone can judge. It fails where a session cannot be planned.
func Map(w *workspace.Workspace, sessions []string, title string, reports map[string]gate.Report, at time.Time) (draw.Map, error) {
	m := draw.Map{Title: title, At: at}
	known := w.Knowledge()
	for _, name := range sessions {
		r, err := w.Planner().Plan(name)
		if err != nil {
			return m, err
		}
		one := draw.Routed{Route: r, Report: r.Check(known), Prints: map[string]string{}}
		if truer, ok := reports[name]; ok {
			one.Report = truer
		}
		if s := w.Book.Session(name); s != nil {
			one.Site = s.Site.V
		}
		for path, sheet := range known.Keys {
			one.Prints[path] = sheet.Sheet.SHA256
		}
		m.Routes = append(m.Routes, one)
	}
	return m, nil
}

// Estate is the drawing of a source's estate, with the best way to an instance highlighted where one is named.
func Estate(w *workspace.Workspace, source, wayTo string, visits map[string]time.Time) (draw.Estate, error) {
	i := slices.IndexFunc(w.Estates, func(k estate.Kept) bool { return k.Source == source })
	j := w.Judge(source)
	if j == nil || i < 0 {
		return draw.Estate{}, fmt.Errorf("nothing is known of estate %s", source)
	}
	kept := &w.Estates[i]
	d := draw.Estate{Title: "estate " + source, At: kept.Read.Local(), Snapshot: &kept.Snapshot, Arrows: j.Arrows()}
	if wayTo == "" {
		return d, nil
	}
	m, why := estate.NewIndex([]estate.Kept{*kept}).One(wayTo)
	if why != "" {
		return d, errors.New(why)
	}
	ways, _ := w.WaysTo(source, m.Instance, reach.Port{Protocol: "tcp", Number: 22}, visits)
	if len(ways) == 0 {
		return d, fmt.Errorf("there is no way to %s, by what is known of estate %s", wayTo, source)
	}
	d.Ways, d.Title = ways[:1], d.Title+", "+ways[0].String()
	return d, nil
}

// Chart is what the link to a session carried over the last time, out of the trail. It
// fails where nothing is known of such a link.
func Chart(t *trail.Trail, session string, over time.Duration, now time.Time) (c draw.Chart, err error) {
	links, err := t.Metered()
	if err != nil {
		return c, err
	}
	var names []string
	for _, l := range links {
		if l.Name != session {
			names = append(names, l.Name)
			continue
		}
		c = draw.Chart{Title: l.Name, From: now.Add(-over), To: now}
		past, err := meter.Past(t, l.Key, c.To)
		c.Samples = past.Span(c.From, c.To, min(600, max(int(over/time.Second), 1)))
		return c, err
	}
	slices.Sort(names)
	return c, fmt.Errorf("nothing is known of a link to %q; there were links to: %s", session, strings.Join(slices.Compact(names), ", "))
}

// Timeline is who was connected where over the last time, out of the trail; at some
// sessions' machines, or where none is named at all.
func Timeline(ctx context.Context, t *trail.Trail, title string, only []string, over time.Duration, now time.Time) (l draw.Timeline, err error) {
	l = draw.Timeline{Title: title, From: now.Add(-over), To: now}
	if l.Stays, err = t.Stays(ctx, l.From, l.To); err != nil {
		return l, err
	}
	if len(only) > 0 {
		l.Stays = slices.DeleteFunc(l.Stays, func(s trail.Stay) bool { return !slices.Contains(only, s.Where) })
	}
	return l, nil
}

// RecordTimeline is who reached what, or had leases where, over the last time, out of the entries of a service's record:
// a stream through a gateway from its beginning to its end, a lease for as long as it was given.
func RecordTimeline(entries []trail.Entry, title string, over time.Duration, now time.Time) draw.Timeline {
	l := draw.Timeline{Title: title, From: now.Add(-over), To: now}
	for _, e := range entries {
		s := trail.Stay{What: "shell", Where: e.Session, Who: e.Who, From: e.At, To: e.At.Add(e.Took)}
		switch e.Event {
		case "granted":
		case "closed":
			s.From, s.To = e.At.Add(-e.Took), e.At
		default:
			continue
		}
		if s.To.After(l.From) && s.From.Before(l.To) {
			s.From, s.To = later(s.From, l.From), earlier(s.To, l.To)
			l.Stays = append(l.Stays, s)
		}
	}
	return l
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
