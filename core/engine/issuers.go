package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/record"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/walk"
)

// LeaseWanted says that somebody waits for a person's yes to a lease.
type LeaseWanted struct {
	Issuer string
	lease.Waiting
}

func (LeaseWanted) IsEvent() {}

// Say says it in a line.
func (w LeaseWanted) Say() string {
	return fmt.Sprintf("%s asks to be %s at %s, and waits for your yes: Leases", sanitize.Line(w.Person, 64), sanitize.Line(w.Login, 64), sanitize.Line(w.Machine, 64))
}

// AttendIssuer holds a way to an issuer for as long as the program runs, so that what waits for one's yes is told. It
// does so once; what keeps it from there is returned.
func (e *Engine) AttendIssuer(name string) error {
	r, err := e.Workspace().Planner().Issuer(name)
	if err != nil {
		return err
	}
	e.changing.Lock()
	held := e.attended[name]
	e.changing.Unlock()
	if held != nil {
		select {
		case <-held.Done():
		default:
			return nil
		}
	}
	ctx, cancel := context.WithTimeout(e.ctx, attendTime)
	defer cancel()
	p, err := e.Walker.Walk(ctx, r)
	if err != nil {
		return err
	}
	e.changing.Lock()
	if e.attended == nil {
		e.attended = map[string]*walk.Passage{}
	}
	before := e.attended[name]
	e.attended[name] = p
	e.changing.Unlock()
	if before != nil {
		before.Close()
	}
	return nil
}

// attendTime is how long the way to an issuer may take, with the questions on it.
const attendTime = 5 * time.Minute

// followIssuers tells what waits for one's yes at issuers that a link leads to.
func (e *Engine) followIssuers() {
	tick := time.NewTicker(wantedEvery)
	defer tick.Stop()
	seen, asked := map[string]bool{}, map[string]time.Time{}
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		up := map[string]bool{}
		for _, l := range e.Walker.Links() {
			up[l.Hop] = l.Gateway
		}
		for _, i := range e.Workspace().Book.Issuers {
			r, err := e.Workspace().Planner().Issuer(i.Name)
			if err != nil || !up[r.Session] {
				continue
			}
			if time.Since(asked[i.Name]) > rightsEvery {
				asked[i.Name] = time.Now()
				e.learnRights(i.Name, r)
			}
			list, err := lease.Told(e.ctx, e.Leases, r, lease.Waits{})
			if err != nil {
				continue // what cannot be asked now is asked the next time
			}
			for _, w := range list {
				if !w.Mine && w.State == "waiting" && !seen[w.ID] {
					seen[w.ID] = true
					e.Events.Tell(LeaseWanted{i.Name, w})
				}
			}
		}
	}
}

// How often issuers are asked what waits, and what one may.
const (
	wantedEvery = 2 * time.Second
	rightsEvery = 30 * time.Second
)

// learnRights asks an issuer what one may, by which sessions are judged before a lease is asked for.
func (e *Engine) learnRights(name string, r route.Route) {
	rights, err := lease.Told(e.ctx, e.Leases, r, lease.Rights{})
	if err == nil && e.Leases.Remember(name, rights) {
		e.Board.SetWorkspace(e.Workspace())
	}
}

// IssuerRecord reads those of the last entries of an issuer's record that a filter wants, the newest first, where one may.
func (e *Engine) IssuerRecord(name string, f trail.Filter) ([]trail.Entry, error) {
	r, err := e.Workspace().Planner().Issuer(name)
	if err != nil {
		return nil, err
	}
	stream, err := e.ask(e.ctx, r, line.Entries{Most: line.MaxEntries})
	if err != nil {
		return nil, err
	}
	return entriesOf(stream, name, f)
}

// entriesOf reads the entries of a service's record.
func entriesOf(stream *asked, name string, f trail.Filter) ([]trail.Entry, error) {
	defer stream.Close()
	list, err := line.Told[line.Entry](stream)
	if err != nil {
		return nil, err
	}
	entries := make([]trail.Entry, 0, len(list))
	for _, l := range slices.Backward(list) {
		var d record.Done
		if err := json.Unmarshal([]byte(l.Body), &d); err != nil {
			return nil, fmt.Errorf("entry %d of the record of %s cannot be read: %w", l.Number, name, err)
		}
		entries = append(entries, recorded(name, l.Number, d))
	}
	return f.Choose(entries), nil
}
