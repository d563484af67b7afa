// Package engine is everything live that a program of a workspace has, opened in one
// place: the walker with its links and ring, the trail, the tunnels, the meter, the
// board, the jobs, the shells, and the watch over files, other programs and the screen's
// lock.
//
// It promises one order of ending ([Engine.Close]): nothing new begins; jobs, shells and
// tunnels end; links end; what all of that told is in the trail; then the trail is
// closed. So every beginning in the trail has its end, however the program is left.
//
// Opening costs a read of the workspace's state; nothing waits for the network.
package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"meatus/core/board"
	"meatus/core/book"
	"meatus/core/contain"
	"meatus/core/custody"
	"meatus/core/dial"
	"meatus/core/estate"
	"meatus/core/event"
	"meatus/core/lease"
	"meatus/core/meter"
	"meatus/core/remote"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/core/screenlock"
	"meatus/core/shell"
	"meatus/core/step"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/window"
	"meatus/core/work"
	"meatus/core/workspace"
)

// Options are what an engine is opened with. Workspace and Asker are needed; the rest
// has working zero values.
type Options struct {
	Workspace *workspace.Workspace
	Asker     step.Asker
	Dialer    dial.Network  // the network where nil
	Linger    time.Duration // how long a link outlives its last user, as in [walk.Config]
	Drain     time.Duration // how long flows have to come to their end on Close

	// BeforeAgent has the ring stand in front of the agent that SSH_AUTH_SOCK names.
	BeforeAgent bool
	// Name is what other programs of the workspace are told this one is; where it is ""
	// they do not see it, and no series of its links are kept.
	Name string
	// Apart says that the process has an engine beside this one, which sees this as
	// another program's, and which keeps the trail.
	Apart bool
	// Attended says that somebody looks: sessions are judged in the background, edits of
	// the sessions file are noticed, and what other programs hold is looked at.
	Attended bool
}

// Engine is safe to use from many goroutines.
type Engine struct {
	Events   *event.Stream
	Keys     *custody.Custody
	Leases   *lease.Client // where logins for a while come from
	Walker   *walk.Walker
	Programs *remote.Programs
	Tunnels  *tunnel.Set
	Trail    *trail.Trail // nil where it cannot be kept, and NoTrail says why
	NoTrail  error
	Keeper   *meter.Keeper // nil without a Name
	Others   *tunnel.Others
	Board    *board.Board
	Jobs     *work.List

	options   Options
	ws        atomic.Pointer[workspace.Workspace]
	ctx       context.Context // ends when Close begins
	cancel    context.CancelFunc
	wg        sync.WaitGroup // what watches and judges
	kept      sync.WaitGroup // what keeps series
	written   sync.WaitGroup // what writes the trail
	unwritten error          // why the last events could not be, valid once it is done
	hide      func()         // ends being seen by other programs
	unreport  func()         // ends the reports of panics
	once      sync.Once

	made atomic.Uint64 // bytes of memory when some was last given back

	edited chan struct{} // the estates in the file may be others
	asked  chan struct{} // somebody wants the estates read

	grants atomic.Pointer[[]estate.Grant]      // that stand for a time
	joined atomic.Pointer[map[string][]Joined] // what gateways told last, by their names
	listed sync.Map                            // when each gateway was asked for its machines last, by name

	changing sync.Mutex               // held while everybody is told of another workspace
	attended map[string]*walk.Passage // ways to issuers that are held, by name

	mu     sync.Mutex
	shells []*shell.Shell
	socket *ring.Socket // by which other programs use the ring, or nil
}

// ErrNoAgent says that no agent is named that the ring could stand in front of.
var ErrNoAgent = errors.New("SSH_AUTH_SOCK names no running agent")

// Open opens everything. It fails where the ring cannot stand in front of the agent that
// is wanted; what else cannot be had is told as a [Notice], and missing.
func Open(ctx context.Context, o Options) (*Engine, error) {
	e := &Engine{Events: &event.Stream{}, Others: &tunnel.Others{}, options: o, hide: func() {}, edited: make(chan struct{}, 1), asked: make(chan struct{}, 1)}
	e.ctx, e.cancel = context.WithCancel(context.Background())
	e.unreport = contain.Report(filepath.Join(o.Workspace.Dir, workspace.StateDir), func(p *contain.Panic) { e.Events.Tell(Notice{Say: p.Error()}) })
	ws := *o.Workspace
	e.Leases = &lease.Client{Revoked: func(signer string, serials []uint64) {
		if err := o.Workspace.Vouched.Revoke(signer, serials); err != nil {
			e.Events.Tell(Notice{Say: "which certificates of hosts are revoked cannot be kept: " + err.Error()})
		}
	}}
	ws.Leases = e.Leases
	e.ws.Store(&ws)
	e.openTrail(&ws)
	e.Keys = custody.New(&ring.Ring{Names: ws.Vouched.NamesOf})
	e.Programs = remote.New(remote.Config{Custody: e.Keys, Asker: o.Asker, Display: Display, Events: e.Events})
	e.Walker = walk.New(walk.Config{
		Leases:  e.Leases,
		Vouched: ws.Vouched, Asker: o.Asker, Network: o.Dialer, Linger: o.Linger, Logins: ws.Logins,
		Keys: e.Keys, Events: e.Events, Serve: e.Programs.Serve(), Follow: func(r route.Route) route.Route { return e.Workspace().Follow(r) },
		Rules: func() walk.Rules { return e.Workspace() },
	})
	e.Leases.At = e.Walker.AtGateway
	e.Tunnels = tunnel.NewSet(e.Walker, e.Events.Tell)
	e.Tunnels.Links, e.Tunnels.Running = e.Walker.Links, e.Programs.Running
	e.Jobs = work.NewList(e.Events.Tell)
	e.Board = board.New(&ws, e.Tunnels.Lines, e.boardShells, e.Events.Tell)
	if o.BeforeAgent {
		socket := os.Getenv("SSH_AUTH_SOCK")
		err := ErrNoAgent
		if socket != "" {
			err = e.Keys.Ring.StandBefore(ctx, socket)
		}
		if err != nil {
			e.Close()
			return nil, err
		}
	}
	e.openSeries()
	e.show(&ws)
	screenlock.Watch(e.ctx, func(why string) {
		e.Walker.ForgetTokens()
		if n := e.Keys.Ring.Forget(); n > 0 {
			e.Events.Tell(KeysGone{Why: why, Keys: n})
		}
	})
	if o.Attended || o.Name != "" {
		contain.Go(&e.wg, "taking rules back", e.keepGrants, nil)
	}
	if o.Attended {
		e.attend(&ws)
	}
	return e, nil
}

// Display is the X display of this machine that far sides may draw on.
func Display() (*window.Display, error) { return window.Local(os.Getenv) }

func (e *Engine) openTrail(ws *workspace.Workspace) {
	if e.options.Apart {
		return
	}
	t, err := trail.Open(ws.Dir)
	if err != nil {
		e.NoTrail = err
		e.Events.Tell(Notice{Say: err.Error()})
		return
	}
	e.Trail, ws.Logins = t, t
	inbox := e.Events.Subscribe()
	e.written.Go(func() {
		t.Follow(context.Background(), inbox, func(err error) {
			say := "the trail is written again"
			if err != nil {
				say = err.Error()
			}
			if !e.Events.Passed(Notice{Say: say}) { // the last events are written when nobody listens any more
				e.unwritten = err
			}
		})
	})
}

// openSeries begins to measure what links and flows carry.
func (e *Engine) openSeries() {
	if e.options.Name == "" || e.options.Apart {
		return
	}
	var store meter.Store
	if e.Trail != nil {
		store = e.Trail
	}
	e.Keeper = meter.NewKeeper(func() []meter.Reading { return append(e.Tunnels.Readings(), e.Others.Readings()...) }, store)
	contain.Go(&e.kept, "the series of links", func() {
		e.Keeper.Run(e.ctx, func(err error) { e.Events.Tell(Notice{Say: err.Error()}) })
	}, nil)
}

// show has other programs of the workspace see this one.
func (e *Engine) show(ws *workspace.Workspace) {
	if e.options.Name == "" {
		return
	}
	show := e.Tunnels.Show
	if e.options.Apart {
		show = e.Tunnels.ShowApart
	}
	hide, err := show(ws.Dir, e.options.Name)
	if err != nil {
		e.Events.Tell(Notice{Say: "other programs cannot see these tunnels: " + err.Error()})
		return
	}
	e.hide = hide
}

// attend does what somebody who looks wants done.
func (e *Engine) attend(ws *workspace.Workspace) {
	e.Events.Attach(e.Board.Hear)
	contain.Go(&e.wg, "judging sessions", func() { e.Board.Run(e.ctx) }, nil)
	contain.Go(&e.wg, "looking at other programs", func() { e.Others.Watch(e.ctx, ws.Dir) }, nil)
	contain.Go(&e.wg, "reading estates", e.followEstates, nil)
	contain.Go(&e.wg, "asking gateways", e.followGateways, nil)
	contain.Go(&e.wg, "asking issuers", e.followIssuers, nil)
	written, err := ws.Watch(e.ctx)
	if err != nil {
		e.Events.Tell(Notice{Say: err.Error() + "; have it read again on Routes after editing it"})
		return
	}
	contain.Go(&e.wg, "watching sessions.toml", func() {
		for range written {
			e.Reread(false)
		}
	}, nil)
}

// Workspace is the workspace as it is now.
func (e *Engine) Workspace() *workspace.Workspace { return e.ws.Load() }

// Tools are what jobs work with.
func (e *Engine) Tools() work.Tools {
	return work.Tools{Workspace: e.Workspace, Keys: e.Keys, Walker: e.Walker, Programs: e.Programs, Tunnels: e.Tunnels, Leases: e.Leases, Tell: e.Events.Tell, Adopt: func(b *book.Book) { e.Adopt(b, "", "") }}
}

// Adopt has everybody use the sessions as they are after an edit of ours. session is
// the one it was made for, and say what was done; both may be "".
func (e *Engine) Adopt(b *book.Book, session, say string) {
	e.changing.Lock()
	defer e.changing.Unlock()
	e.changeLocked(e.Workspace().With(b), Changed{Session: session, Say: say, Ours: true})
}

func (e *Engine) changeLocked(ws *workspace.Workspace, c Changed) {
	before := e.ws.Swap(ws) // at once: what is noticed on disk meanwhile is compared with it
	for old, name := range book.Renames(before.Book, ws.Book) {
		if err := ws.Vouched.Renamed(old, name); err != nil {
			e.Events.Tell(Notice{Say: fmt.Sprintf("what is vouched for behind %s: %v", old, err)})
		}
	}
	e.Board.SetWorkspace(ws)
	c.Workspace = ws
	e.Events.Tell(c)
	select {
	case e.edited <- struct{}{}:
	default:
	}
}

// Reread reads the sessions anew; asked says that a person wants it. Where nothing that
// matters has changed, nobody is told but who asked.
func (e *Engine) Reread(asked bool) {
	for !e.reread(asked) { // an edit of ours came between
	}
}

// reread tells whether what it read was taken, or needs not be.
func (e *Engine) reread(asked bool) bool {
	before := e.Workspace()
	ws, err := before.Reread()
	if err != nil {
		e.Events.Tell(Notice{Say: err.Error()})
		return true
	}
	diff := book.Diff(before.Book, ws.Book)
	if diff == "" && !asked {
		return true // our own writing, or nothing that matters
	}
	c := Changed{}
	if diff != "" {
		c.Say = "sessions.toml was edited: " + diff
	}
	e.changing.Lock()
	defer e.changing.Unlock()
	if e.Workspace() != before {
		return false
	}
	e.changeLocked(ws, c)
	return true
}

// Record writes an entry of our own to the trail. What goes wrong is told.
func (e *Engine) Record(entry trail.Entry) {
	if e.Trail == nil {
		return
	}
	if err := e.Trail.Add(entry); err != nil {
		e.Events.Tell(Notice{Say: err.Error()})
	}
}

// OpenShell opens a shell at the end of a passage, which it then owns. Close ends it.
func (e *Engine) OpenShell(ctx context.Context, p *walk.Passage, cols, rows int) (*shell.Shell, error) {
	s, err := shell.Open(ctx, p, e.Programs, e.Walker, cols, rows)
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.ctx.Err() != nil {
		s.Close()
	}
	e.shells = append(e.shells, s)
	return s, nil
}

// Shells are the shells that have not ended, the oldest first.
func (e *Engine) Shells() []*shell.Shell {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.shells = slices.DeleteFunc(e.shells, func(s *shell.Shell) bool { return !s.Live() })
	return slices.Clone(e.shells)
}

// boardShells are the live shells as the board shows them.
func (e *Engine) boardShells() []board.Shell {
	var all []board.Shell
	shells := e.Shells()
	if len(shells) == 0 {
		return nil
	}
	lent, windows := map[string][]string{}, map[string]int{}
	for _, l := range e.Programs.Lends() {
		if l.Ended == nil {
			lent[l.Session] = append(lent[l.Session], l.Keys...)
		}
	}
	for _, p := range e.Programs.Running() {
		windows[p.Session] += p.Windows
	}
	for _, s := range shells {
		name := s.Route().Session
		all = append(all, board.Shell{Way: s.Route(), Lent: lent[name], Windows: windows[name]})
	}
	return all
}

// Await walks a route and opens a shell at its end; with wait it goes on trying until
// the machine is up.
func (e *Engine) Await(ctx context.Context, r route.Route, wait bool, cols, rows int) (s *shell.Shell, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(e.ctx, cancel)()
	var p *walk.Passage
	err = contain.Do("the walk to "+r.Session, func() (err error) {
		if wait {
			p, err = e.Walker.Await(ctx, r, walk.WaitLimit)
		} else {
			p, err = e.Walker.Walk(ctx, r)
		}
		if err == nil {
			s, err = e.OpenShell(ctx, p, cols, rows)
		}
		return err
	})
	var fault *contain.Panic
	if errors.As(err, &fault) && p != nil {
		p.Close()
	}
	return s, err
}

// ShareRing opens a socket for other programs of this account to use the ring by, where
// there is none.
func (e *Engine) ShareRing() (*ring.Socket, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.socket != nil || e.ctx.Err() != nil {
		return e.socket, e.ctx.Err()
	}
	s, err := e.Programs.Share()
	if err == nil {
		e.socket = s
	}
	return s, err
}

// SharedRing is the socket by which other programs use the ring, nil where there is none.
func (e *Engine) SharedRing() *ring.Socket {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.socket
}

// UnshareRing closes that socket.
func (e *Engine) UnshareRing() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.socket != nil {
		e.socket.Close()
		e.socket = nil
	}
}

// Close ends everything, in one order, and waits for it. It may be called twice.
func (e *Engine) Close() { e.once.Do(e.close) }

func (e *Engine) close() {
	e.cancel()
	e.hide()
	e.UnshareRing()
	e.Jobs.Close()
	e.mu.Lock()
	shells := slices.Clone(e.shells) // Shells forgets those that have ended in the other
	e.mu.Unlock()
	for _, s := range shells {
		s.Close()
	}
	e.Tunnels.CloseAll(e.options.Drain)
	e.Walker.Close() // ends what shells wait for on lines that are frozen
	for _, s := range shells {
		<-s.Ended()
	}
	e.Keys.Ring.Forget()
	e.kept.Wait()
	e.wg.Wait()
	e.Events.Close()
	e.written.Wait()
	if e.Trail != nil {
		e.Trail.Close()
	}
	e.unreport()
}

// Unwritten is why the trail has not the end of what happened, nil where it has: after
// Close it can be told to nobody who listens to events.
func (e *Engine) Unwritten() error { return e.unwritten }

// Tell tells a person something, wherever they are.
func (e *Engine) Tell(say string) { e.Events.Tell(Notice{Say: say}) }
