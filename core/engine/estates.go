package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"meatus/core/book"
	"meatus/core/contain"
	"meatus/core/estate"
)

const (
	// mostNoticed is how many changes of one reading are told one by one.
	mostNoticed = 20
	// longestBackOff is how seldom a source that fails is tried again.
	longestBackOff = 15 * time.Minute
)

// follower reads one source again and again.
type follower struct {
	source string        // what is read, as values
	now    chan struct{} // has it read at once
	stop   context.CancelFunc
}

// followEstates reads the estates of the workspace while the engine lives, each by itself, and those anew
// that come or change in the file.
func (e *Engine) followEstates() {
	following := map[string]*follower{}
	for {
		listed := map[string]bool{}
		for _, source := range e.Workspace().Book.Estates {
			if source.Broken != nil {
				continue
			}
			is := fmt.Sprint(source.Kind.V, source.Cloud.V, source.Region.V, source.Hosts.V, source.File.V, source.URL.V, source.Command.V, source.TokenFile.V, source.TokenEnv.V, source.TokenCommand.V, source.Every.V)
			listed[source.Name] = true
			if old := following[source.Name]; old != nil && old.source == is {
				continue
			} else if old != nil {
				old.stop()
			}
			ctx, stop := context.WithCancel(e.ctx)
			f := &follower{is, make(chan struct{}, 1), stop}
			following[source.Name] = f
			contain.Go(&e.wg, "reading estate "+source.Name, func() { e.followEstate(ctx, source, f.now) }, nil)
		}
		for name, f := range following {
			if !listed[name] {
				f.stop()
				delete(following, name)
			}
		}
		select {
		case <-e.ctx.Done():
			for _, f := range following {
				f.stop()
			}
			return
		case <-e.edited:
		case <-e.asked:
			for _, f := range following {
				select {
				case f.now <- struct{}{}:
				default:
				}
			}
		}
	}
}

// ReadEstates has all estates read at once, and not only when it is their time.
func (e *Engine) ReadEstates() {
	select {
	case e.asked <- struct{}{}:
	default:
	}
}

// ReadEstate reads one estate and has everybody use what it gave. It is for commands, which follow none.
func (e *Engine) ReadEstate(ctx context.Context, source book.EstateSource) error {
	k, err := (&estate.Source{Dir: e.Workspace().Dir, EstateSource: source}).Renew(ctx, time.Now())
	if err != nil {
		return err
	}
	e.know(k)
	return nil
}

// followEstate reads a source as often as it is to be: at once where that was longer ago, later and later
// where it fails, and not before it wants to be asked again.
func (e *Engine) followEstate(ctx context.Context, source book.EstateSource, now <-chan struct{}) {
	reader := estate.Source{Dir: e.Workspace().Dir, EstateSource: source}
	left := estate.CutShort(reader.Dir, source.Name)
	failures, looked := 0, map[string]int{}
	for {
		due := e.due(source, failures)
		timer := time.NewTimer(time.Until(due))
		if due.IsZero() {
			timer.Stop()
		}
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-timer.C:
		case <-now:
			timer.Stop()
			reader.Whole = true
		}
		k, err := reader.Renew(ctx, time.Now())
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			e.Events.Tell(Notice{Say: err.Error()})
		}
		if failures++; k.Failed == "" && err == nil {
			failures = 0
		}
		e.know(k)
		if k.Failed == "" {
			for _, launch := range left {
				say := launch.Told(&k.Snapshot)
				e.Events.Tell(estate.Cut{Source: source.Name, Say: say})
				e.Events.Tell(Notice{Say: say})
				launch.End()
			}
			left = nil
		}
		e.expect(ctx, &reader, looked)
	}
}

const (
	// mostConsoles is how many consoles are looked at after a reading, and mostLooks how often at one.
	mostConsoles = 5
	mostLooks    = 5
)

// expect looks at the consoles of instances that sessions are bound to and that were never visited: the
// fingerprints that first-boot scripts print there are expected on the first visit. looked is how often
// each was looked at.
func (e *Engine) expect(ctx context.Context, s *estate.Source, looked map[string]int) {
	if !s.Acts() {
		return
	}
	ws, n := e.Workspace(), 0
	for _, session := range ws.Book.Sessions {
		b := session.Bound
		if b == nil || b.Source != s.Name || b.State != string(estate.Running) || looked[b.ID] >= mostLooks || n == mostConsoles {
			continue
		}
		if ws.Expects(b, session.Port.V) {
			continue
		}
		looked[b.ID]++
		n++
		text, err := s.Console(ctx, b.ID)
		if err != nil {
			continue // it has none yet, or hands none out
		}
		if _, err := ws.ExpectConsole(b, session.Port.V, text, time.Now()); err != nil {
			e.Events.Tell(Notice{Say: err.Error()})
		}
	}
}

// due is when a source is to be read next, the zero time for when somebody asks.
func (e *Engine) due(source book.EstateSource, failures int) time.Time {
	i := slices.IndexFunc(e.Workspace().Estates, func(k estate.Kept) bool { return k.Source == source.Name })
	if i < 0 || e.Workspace().Estates[i].Tried.IsZero() {
		return time.Now()
	}
	k, every := e.Workspace().Estates[i], source.Every.V
	if every == 0 {
		return time.Time{}
	}
	if failures > 0 {
		every = min(every<<min(failures, 10), max(longestBackOff, every))
		every += time.Duration(rand.Int64N(int64(every)/10 + 1)) // several programs do not ask together
	}
	next := k.Tried.Add(every)
	if next.Before(k.Later) {
		next = k.Later
	}
	return next
}

// know has everybody use what is known of a source now, and tells what has changed.
func (e *Engine) know(k estate.Kept) {
	e.changing.Lock()
	defer e.changing.Unlock()
	before := e.Workspace()
	i := slices.IndexFunc(before.Estates, func(old estate.Kept) bool { return old.Source == k.Source })
	if i < 0 {
		return // it is no longer in the file
	}
	old := before.Estates[i]
	fresh := k.Changes[max(len(k.Changes)-k.Fresh, 0):]
	if old.Read.IsZero() != k.Read.IsZero() || len(fresh) > 0 || old.Failed != k.Failed || k.Differs {
		e.changeLocked(before.Knowing(k), Changed{Estate: k.Source})
	} else {
		e.ws.Store(before.Aged(k))
	}
	if old.Failed != k.Failed && (old.Failed == "" || k.Failed == "") {
		e.Events.Tell(estate.Unread{Source: k.Source, Why: k.Failed})
	}
	bound := map[string]string{}
	for _, s := range e.Workspace().Book.Sessions {
		if s.Bound != nil && s.Bound.Source == k.Source && bound[s.Bound.ID] == "" {
			bound[s.Bound.ID] = s.Name
		}
	}
	for n, c := range fresh {
		if n == mostNoticed {
			e.Events.Tell(Notice{Say: fmt.Sprintf("estate %s: %d changes more", k.Source, len(fresh)-n)})
			break
		}
		e.Events.Tell(estate.Noticed{Change: c, Session: bound[c.ID]})
	}
}
