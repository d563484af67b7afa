package engine

import (
	"cmp"
	"context"
	"io"
	"maps"
	"slices"
	"time"

	"meatus/core/line"
	"meatus/core/record"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/trail"
)

// Joined is a machine of a gateway, as the gateway told it last.
type Joined struct {
	Gateway string
	line.Listed
	Told time.Time
}

// ListGateway asks a gateway for the machines that may be reached through it, which is remembered for [Engine.JoinedAs].
func (e *Engine) ListGateway(ctx context.Context, name string) ([]Joined, error) {
	stream, err := e.atGateway(ctx, name, line.List{})
	if err != nil {
		return nil, err
	}
	defer stream.Close()
	list, err := line.Told[line.Listed](stream)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	e.listed.Store(name, now)
	all := make([]Joined, len(list))
	for i, m := range list {
		m.Name, m.Instance = sanitize.Line(m.Name, 64), sanitize.Line(m.Instance, 200)
		all[i] = Joined{name, m, now}
	}
	e.changing.Lock()
	defer e.changing.Unlock()
	told := map[string][]Joined{}
	if before := e.joined.Load(); before != nil {
		told = maps.Clone(*before)
	}
	told[name] = all
	e.joined.Store(&told)
	return all, nil
}

// JoinedAs are the machines of gateways that an instance is, by its id, as they were told last.
func (e *Engine) JoinedAs(instance string) (as []Joined) {
	told := e.joined.Load()
	if told == nil || instance == "" {
		return nil
	}
	for _, gateway := range slices.Sorted(maps.Keys(*told)) {
		for _, m := range (*told)[gateway] {
			if m.Instance == instance {
				as = append(as, m)
			}
		}
	}
	return as
}

// ListGateways asks every gateway of the workspace. The error is that of the first that could not be asked.
func (e *Engine) ListGateways() (err error) {
	for _, g := range e.Workspace().Book.Gateways {
		_, one := e.ListGateway(e.ctx, g.Name)
		err = cmp.Or(err, one)
	}
	return err
}

// GatewayRecord reads those of the last entries of a gateway's record that a filter wants, the newest first, where
// one may.
func (e *Engine) GatewayRecord(name string, f trail.Filter) ([]trail.Entry, error) {
	stream, err := e.atGateway(e.ctx, name, line.Entries{Most: line.MaxEntries})
	if err != nil {
		return nil, err
	}
	return entriesOf(stream, name, f)
}

// recorded is an entry of a gateway's record as one of a trail.
func recorded(gateway string, number int64, d record.Done) trail.Entry {
	e := trail.Entry{ID: number, At: d.At, Who: sanitize.Line(d.Person, 64), Kind: trail.Record, Session: sanitize.Line(d.Machine, 64), Hop: gateway, Say: sanitize.Line(d.Say(), 400), Took: time.Duration(d.Seconds * float64(time.Second)), Event: sanitize.Line(d.What, 20)}
	if d.What == "refused" {
		e.Failed = "refused"
	}
	return e
}

// askTime is how long a gateway may take to tell something, with the way to it.
const askTime = 30 * time.Second

// atGateway asks a gateway of the workspace something.
func (e *Engine) atGateway(ctx context.Context, name string, ask line.Message) (*asked, error) {
	r, err := e.Workspace().Planner().Gateway(name)
	if err != nil {
		return nil, err
	}
	return e.ask(ctx, r, ask)
}

// ask asks a service something.
func (e *Engine) ask(ctx context.Context, r route.Route, ask line.Message) (*asked, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	told, err := e.Walker.AtGateway(ctx, r, ask)
	if err != nil {
		cancel()
		return nil, err
	}
	a := &asked{ReadCloser: told}
	stop := context.AfterFunc(ctx, func() { told.Close() })
	a.end = func() { stop(); cancel() }
	return a, nil
}

// followGateways asks gateways for their machines whenever a link to one comes up, and every so often while it lasts.
func (e *Engine) followGateways() {
	tick := time.NewTicker(listEvery)
	defer tick.Stop()
	linked := map[string]bool{}
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		now := map[string]bool{}
		for _, l := range e.Walker.Links() {
			if l.Gateway && e.Workspace().Book.Gateway(l.Hop) != nil {
				now[l.Hop] = true
			}
		}
		for name := range now {
			if !linked[name] || e.stale(name) {
				_, _ = e.ListGateway(e.ctx, name) // what cannot be asked now is asked the next time
			}
		}
		linked = now
	}
}

// How often links to gateways are looked for, and how old what one told may be while its link lasts.
const (
	listEvery = time.Second
	listAge   = 30 * time.Second
)

func (e *Engine) stale(gateway string) bool {
	at, told := e.listed.Load(gateway) // also of one that told of no machine
	return !told || time.Since(at.(time.Time)) > listAge
}

// asked is what a gateway tells, with the end of its time.
type asked struct {
	io.ReadCloser
	end func()
}

func (a *asked) Close() error {
	defer a.end()
	return a.ReadCloser.Close()
}
