package walk

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"

	"golang.org/x/crypto/ssh"

	"meatus/core/window"
)

// windowChannel is the channel by which a program at a far side reaches the display
// here (RFC 4254 section 6.3.2).
const windowChannel = "x11"

// Drew says that a program at a far side draws on the display here, or was turned away.
type Drew struct {
	Place
	Err error // why it was turned away, nil where it was not
}

func (Drew) IsEvent() {}

// ErrNotPassedOn says that the server passes no windows on.
var ErrNotPassedOn = errors.New("the server passes none on; have it allowed there (X11Forwarding, and xauth installed)")

// drawing is a leave to draw that a shell was given, and which shell's it is.
type drawing struct {
	leave *window.Leave
	place Place
}

// display is the display here that far sides may draw on.
func (w *Walker) display() (*window.Display, error) {
	if w.Display != nil {
		return w.Display()
	}
	return nil, window.ErrNone
}

// showWindows asks the server to pass on what programs draw, with a cookie of this
// shell's own. A server that does not is told of in NoWindows.
func (g *Program) showWindows(d *window.Display, place Place) {
	leave := d.Leave()
	w := g.link.w
	w.mu.Lock()
	g.link.drawings = append(g.link.drawings, drawing{leave, place})
	w.mu.Unlock()
	ok, err := g.session.SendRequest("x11-req", true, leave.Request())
	if err != nil || !ok {
		g.NoWindows = ErrNotPassedOn
		g.link.endDrawing(leave)
		return
	}
	g.windows = leave
}

// endDrawing takes a leave back.
func (l *Link) endDrawing(leave *window.Leave) {
	leave.End()
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	l.drawings = slices.DeleteFunc(l.drawings, func(d drawing) bool { return d.leave == leave })
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

// serveWindows joins what the far side opens to the display. Where nobody has leave to
// draw it is refused.
func (l *Link) serveWindows(opened <-chan ssh.NewChannel) {
	var now, strange atomic.Int32
	for channel := range opened {
		l.w.mu.Lock()
		drawings := slices.Clone(l.drawings)
		l.w.mu.Unlock()
		switch {
		case len(drawings) == 0 || strange.Load() >= maxStrange:
			channel.Reject(ssh.Prohibited, "no shell may draw here")
			continue
		case now.Load() >= maxDrawing:
			channel.Reject(ssh.ResourceShortage, "enough is drawn here")
			continue
		}
		stream, requests, err := channel.Accept()
		if err != nil {
			continue
		}
		go ssh.DiscardRequests(requests)
		now.Add(1)
		l.w.wg.Go(func() {
			defer now.Add(-1)
			place := drawings[0].place
			drew := false
			err := window.Serve(stream, func() []*window.Leave {
				var all []*window.Leave
				for _, d := range drawings {
					all = append(all, d.leave)
				}
				return all
			}, func(leave *window.Leave) {
				drew = true
				for _, d := range drawings {
					if d.leave == leave {
						place = d.place
					}
				}
				l.w.tell(Drew{Place: place})
			})
			if !drew {
				if strange.Add(1) == maxStrange {
					err = fmt.Errorf("%w; %d were turned away, and now all are", err, maxStrange)
				}
				l.w.tell(Drew{place, err})
			}
		})
	}
}
