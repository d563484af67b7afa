package tunnel

import (
	"context"
	"fmt"
	"sync"
	"time"

	"meatus/core/meter"
	"meatus/core/remote"
)

// Key names a flow among all of a program's.
func (t *Tunnel) Key(f Flow) string { return flowKey(t.Session, t.What(), f.ID) }

func flowKey(session, what string, id int64) string {
	return fmt.Sprintf("%s %s %d", session, what, id)
}

// ProgramKey names a shell or command among all of a walker's.
func ProgramKey(p remote.State) string { return fmt.Sprint("program ", p.ID) }

// Others are what other programs of a workspace show of themselves. It is safe to use
// from many goroutines.
type Others struct {
	mu   sync.Mutex
	seen []Seen
	at   time.Time
}

// Watch looks at them once a second until the context ends.
func (o *Others) Watch(ctx context.Context, workspace string) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if seen, err := See(workspace); err == nil { // where there is no such folder there are none
			o.Put(seen)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// Put puts what was seen in the place of what was seen before.
func (o *Others) Put(seen []Seen) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.seen, o.at = seen, time.Now()
}

// Seen is what was seen last.
func (o *Others) Seen() []Seen {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.seen
}

// Key names a link, flow or shell of another program, by its key there.
func (s Seen) Key(of string) string { return fmt.Sprintf("%d %s: %s", s.PID, s.What, of) }

// FlowKey names a flow of another program.
func (s Seen) FlowKey(f SeenFlow) string {
	return s.Key(fmt.Sprint(f.Session, " ", f.Listener, " ", f.ID))
}

// Readings are what links and flows of other programs have carried. The series are
// brief: the programs keep their own.
func (o *Others) Readings() []meter.Reading {
	var all []meter.Reading
	seen := o.Seen()
	o.mu.Lock()
	at := o.at
	o.mu.Unlock()
	for _, s := range seen {
		for _, l := range s.Links {
			all = append(all, meter.Reading{Key: s.Key(l.Key.String()), Name: l.Hop, ID: int64(l.ID), In: l.In, Out: l.Out, RoundTrip: l.RoundTrip, At: at, Brief: true})
		}
		for _, p := range s.Shells {
			all = append(all, meter.Reading{Key: s.Key(ProgramKey(p)), Name: p.Session, ID: int64(p.ID), In: p.In, Out: p.Out, At: at, Brief: true})
		}
		for _, l := range s.Lines {
			all = append(all, meter.Reading{Key: s.Key(ListenerKey(l.Session, l.Listener)), Name: l.Session, In: l.In, Out: l.Out, At: at, Brief: true})
		}
		for _, f := range s.Flows {
			all = append(all, meter.Reading{Key: s.FlowKey(f), Name: f.Session, ID: f.ID, In: f.In, Out: f.Out, At: at, Brief: true})
		}
	}
	return all
}

// ListenerKey names a tunnel among all of a program's.
func ListenerKey(session, listener string) string { return "door " + session + " " + listener }

// Readings tells what every link, shell, command, tunnel and flow has carried so far, for
// a [meter.Keeper]. A link is known by the way to it, in every run.
func (s *Set) Readings() []meter.Reading {
	var all []meter.Reading
	for _, l := range s.Links() {
		all = append(all, meter.Reading{Key: l.Key.String(), Name: l.Hop, ID: int64(l.ID), In: l.In, Out: l.Out, RoundTrip: l.RoundTrip})
	}
	for _, p := range s.Running() {
		all = append(all, meter.Reading{Key: ProgramKey(p), Name: p.Session, ID: int64(p.ID), In: p.In, Out: p.Out, Brief: true})
	}
	for _, t := range s.All() {
		_, in, out := t.Count()
		all = append(all, meter.Reading{Key: ListenerKey(t.Session, t.Address()), Name: t.Session, In: in, Out: out, Brief: true})
		for _, f := range t.Flows() {
			all = append(all, meter.Reading{Key: t.Key(f), Name: t.Session, ID: f.ID, In: f.In, Out: f.Out, Brief: true})
		}
	}
	return all
}
