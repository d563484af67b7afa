package remote

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/event"
	"meatus/core/link"
	"meatus/core/ring"
	"meatus/core/step"
	"meatus/core/window"
)

// Config is what [Programs] work with. Asker is needed where keys are lent.
type Config struct {
	Custody *custody.Custody                // where lent keys are; one of its own where nil
	Asker   step.Asker                      // asked before lent keys are used
	Display func() (*window.Display, error) // what far sides may draw on, none where nil
	Events  *event.Stream                   // told of the use of shared keys; one of its own where nil
}

// Programs starts shells and commands at far sides and knows those that run. It is safe
// to use from many goroutines.
type Programs struct {
	Config

	mu       sync.Mutex // guards what follows, and what is in it
	running  map[*Program]struct{}
	links    map[link.ID]*overLink
	lastID   link.ID
	lastLend int
}

// New returns programs of which none run.
func New(c Config) *Programs {
	if c.Custody == nil {
		c.Custody = custody.New(nil)
	}
	if c.Events == nil {
		c.Events = &event.Stream{}
	}
	return &Programs{Config: c, running: map[*Program]struct{}{}, links: map[link.ID]*overLink{}}
}

// Serve answers what far sides open: agents that are lent to them and windows. It is for
// [walk.Config].
func (s *Programs) Serve() link.Serve {
	return link.Serve{
		agentChannel:  func(l *link.Link, opened <-chan ssh.NewChannel) { s.serveAgent(l, opened) },
		windowChannel: func(l *link.Link, opened <-chan ssh.NewChannel) { s.serveWindows(l, opened) },
	}
}

// overLink is what the programs of one link have lent and may draw.
type overLink struct {
	hop      string
	lends    []lending
	drawings []drawing
	offered  bool // the server has taken an offer of an agent
}

// lending is something lent, and for which session it is.
type lending struct {
	lend    *ring.Lend
	session string
	id      int
}

// drawing is a grant to draw here that a shell was given, and which shell's it is.
type drawing struct {
	grant *window.Grant
	place step.Place
}

// over is what is kept of a link, for as long as the link is there. The caller holds
// the lock.
func (s *Programs) over(l *link.Link) *overLink {
	o := s.links[l.ID()]
	if o == nil {
		o = &overLink{hop: l.Hop().Name}
		s.links[l.ID()] = o
		l.Go(func() {
			<-l.Done()
			s.mu.Lock()
			defer s.mu.Unlock()
			delete(s.links, l.ID())
		})
	}
	return o
}

// State is what is known of a shell or command at a moment.
type State struct {
	ID      link.ID
	Session string
	Hop     string
	What    string  // "shell" or "command"
	Link    link.ID // that it runs through
	Windows int     // programs of it that draw here
	Began   time.Time
	Last    time.Time // when it last printed or was typed to, zero before
	In, Out uint64    // bytes it printed, and was given
}

// Running tells of every shell and command that runs, the oldest first.
func (s *Programs) Running() []State {
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []State
	for g := range s.running {
		all = append(all, g.state())
	}
	slices.SortFunc(all, func(a, b State) int { return int(a.ID - b.ID) })
	return all
}

// End ends a shell or command. It tells whether there was such a one.
func (s *Programs) End(id link.ID) bool {
	s.mu.Lock()
	var found *Program
	for g := range s.running {
		if g.id == id {
			found = g
		}
	}
	s.mu.Unlock()
	if found != nil {
		found.Close()
	}
	return found != nil
}

func (s *Programs) began(g *Program) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lastID++
	g.id = s.lastID
	s.running[g] = struct{}{}
}

func (s *Programs) ended(g *Program) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.running, g)
}

// askUse asks a person whether somebody else may use a key once.
func (s *Programs) askUse(ctx context.Context, place step.Place, u ring.Use, tell func(event.Event)) error {
	err := s.Asker.Lend(ctx, step.LendQuestion{Place: place, Use: u})
	tell(step.Answered{Place: place, What: "the use of " + u.Key.String(), Yes: err == nil})
	return err
}
