package tunnel

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"os"
	"time"

	"meatus/core/link"
	"meatus/core/remote"
	"meatus/core/walk"
)

// farSocket is the file of a socket that a far side has made for a listener of ours.
// Servers leave it when the link is lost, and some when the listener is closed; and while it
// is there they make no other.
type farSocket struct {
	path string
	made time.Time // when, as the far side tells it; zero where none was made or nobody told
}

// farLook bounds the looking at what stands at the path, and the removing of it.
const farLook = 5 * time.Second

// settle goes on from what came of having the far side listen. A file that we had made
// there is removed, and it is asked once more; another is named in the error.
func (s *farSocket) settle(ctx context.Context, p *walk.Passage, l net.Listener, err error) (net.Listener, error) {
	var refused *link.Refused
	if errors.As(err, &refused) {
		stands, ours := s.look(ctx, p)
		if refused.Stands = stands; !ours || !s.remove(ctx, p) {
			return nil, err
		}
		l, err = p.Listen(ctx, "unix", s.path)
	}
	if err == nil {
		s.made = time.Time{}
		s.each(ctx, p, func(info fs.FileInfo, _ func() error) { s.made = info.ModTime() })
	}
	return l, err
}

// each calls do with the file at the path where there is one, and with what removes it. It
// tells whether the far side could be asked.
func (s *farSocket) each(ctx context.Context, p *walk.Passage, do func(info fs.FileInfo, remove func() error)) (asked bool) {
	ctx, cancel := context.WithTimeout(ctx, farLook)
	defer cancel()
	files, done, err := remote.Files(ctx, p, remote.MaxLook)
	if err != nil {
		return false
	}
	defer done()
	info, err := files.Lstat(s.path)
	if err == nil {
		do(info, func() error { return files.Remove(s.path) })
	}
	return err == nil || errors.Is(err, os.ErrNotExist)
}

// look says what stands at the path, "" where nothing does or nobody tells; and whether it
// is the file that was made for us.
func (s *farSocket) look(ctx context.Context, p *walk.Passage) (stands string, ours bool) {
	socket := false
	s.each(ctx, p, func(info fs.FileInfo, _ func() error) {
		socket = info.Mode()&fs.ModeSocket != 0
		ours = socket && !s.made.IsZero() && info.ModTime().Equal(s.made)
		if stands = "a file that is no socket exists there; choose another path"; socket {
			stands = "a socket file without a listener exists there; remove it on the remote machine"
		}
	})
	if !socket || ours {
		return stands, ours
	}
	dialing, cancel := context.WithTimeout(ctx, farLook)
	defer cancel()
	if conn, err := p.Dial(dialing, "unix", s.path); err == nil {
		conn.Close()
		stands = "a program there listens at that socket"
	}
	return stands, false
}

// remove takes away the file that was made for us, where it is still that one.
func (s *farSocket) remove(ctx context.Context, p *walk.Passage) (removed bool) {
	if s.made.IsZero() {
		return false
	}
	s.each(ctx, p, func(info fs.FileInfo, remove func() error) {
		removed = info.Mode()&fs.ModeSocket != 0 && info.ModTime().Equal(s.made) && remove() == nil
	})
	return removed
}
