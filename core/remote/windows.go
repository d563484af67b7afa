package remote

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"

	"golang.org/x/crypto/ssh"

	"meatus/core/link"
	"meatus/core/step"
	"meatus/core/window"
)

// windowChannel is the channel by which a program at a far side reaches the display
// here (RFC 4254 section 6.3.2).
const windowChannel = "x11"

// ErrNotPassedOn says that the server passes no windows on.
var ErrNotPassedOn = errors.New("the server does not forward X11; enable X11Forwarding there, with xauth installed")

// display is the display here that far sides may draw on.
func (s *Programs) display() (*window.Display, error) {
	if s.Display != nil {
		return s.Display()
	}
	return nil, window.ErrNone
}

// showWindows asks the server to pass on what programs draw, with a cookie of this
// shell's own. A server that does not is told of in NoWindows.
func (g *Program) showWindows(d *window.Display, place step.Place) {
	grant := d.Grant()
	s := g.programs
	s.mu.Lock()
	o := s.over(g.link)
	o.drawings = append(o.drawings, drawing{grant, place})
	s.mu.Unlock()
	ok, err := g.session.SendRequest("x11-req", true, grant.Request())
	if err != nil || !ok {
		g.NoWindows = ErrNotPassedOn
		s.endDrawing(g.link, grant)
		return
	}
	g.windows = grant
}

// endDrawing takes a grant back.
func (s *Programs) endDrawing(l *link.Link, grant *window.Grant) {
	grant.End()
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.links[l.ID()]; o != nil {
		o.drawings = slices.DeleteFunc(o.drawings, func(d drawing) bool { return d.grant == grant })
	}
}

// drawings are what may be drawn over a link now.
func (s *Programs) drawings(l *link.Link) []drawing {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.links[l.ID()]; o != nil {
		return slices.Clone(o.drawings)
	}
	return nil
}

// Windows is how many programs of the far side draw here now, and whether they may.
func (g *Program) Windows() (now int, may bool) {
	if g.windows == nil {
		return 0, false
	}
	now, _ = g.windows.Count()
	return now, true
}

// How many programs of one link may draw or introduce themselves at once, and how many
// are turned away before nothing more is heard of that link.
const (
	maxDrawing = 256
	maxStrange = 20
)

// serveWindows joins what the far side opens to the display. Where nobody may draw it is
// refused.
func (s *Programs) serveWindows(l *link.Link, opened <-chan ssh.NewChannel) {
	var now, strange atomic.Int32
	for channel := range opened {
		drawings := s.drawings(l)
		switch {
		case len(drawings) == 0 || strange.Load() >= maxStrange:
			channel.Reject(ssh.Prohibited, "no shell may use the display here")
			continue
		case now.Load() >= maxDrawing:
			channel.Reject(ssh.ResourceShortage, "too many X connections")
			continue
		}
		stream, requests, err := channel.Accept()
		if err != nil {
			continue
		}
		go ssh.DiscardRequests(requests)
		now.Add(1)
		l.Go(func() {
			defer now.Add(-1)
			place := drawings[0].place
			drew := false
			err := window.Serve(stream, func() []*window.Grant {
				var all []*window.Grant
				for _, d := range drawings {
					all = append(all, d.grant)
				}
				return all
			}, func(grant *window.Grant) {
				drew = true
				for _, d := range drawings {
					if d.grant == grant {
						place = d.place
					}
				}
				l.Tell(Drew{Place: place})
			})
			if !drew {
				switch n := strange.Add(1); {
				case n > maxStrange: // it was let in before the last one was turned away
					return
				case n == maxStrange:
					err = fmt.Errorf("%w; %d connections were refused, and now all are", err, maxStrange)
				}
				l.Tell(Drew{place, err})
			}
		})
	}
}
