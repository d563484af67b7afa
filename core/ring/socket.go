package ring

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"

	"meatus/core/localaddr"
)

// Socket is where other programs of the same account reach the ring.
type Socket struct {
	Path string
	lend *Lend
	l    *net.UnixListener
	dir  string
	once sync.Once
	wg   sync.WaitGroup
}

// Open has the ring listen at a socket of mode 0600 in a new folder of mode 0700,
// for programs of this account. terms say who is asked before a key is used and who is
// told of each use. The caller closes it.
func (r *Ring) Open(terms Terms) (*Socket, error) {
	parent := os.Getenv("XDG_RUNTIME_DIR")
	if info, err := os.Stat(parent); parent == "" || err != nil || !info.IsDir() {
		parent = os.TempDir()
	}
	dir, err := os.MkdirTemp(parent, "meatus-") // of mode 0700
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "agent")
	l, err := localaddr.ListenSocket(path)
	if err != nil {
		os.RemoveAll(dir)
		return nil, fmt.Errorf("opening a socket for the ring: %w", err)
	}
	terms.All = true
	s := &Socket{Path: path, l: l, dir: dir, lend: r.Lend(terms)}
	s.wg.Go(s.accept)
	return s, nil
}

// Uses is how often something was asked for over the socket.
func (s *Socket) Uses() int { return s.lend.Uses() }

// Close ends the socket and every line to it.
func (s *Socket) Close() {
	s.once.Do(func() {
		s.l.Close()
		s.lend.End()
		s.wg.Wait()
		os.RemoveAll(s.dir)
	})
}

func (s *Socket) accept() {
	for {
		conn, err := s.l.AcceptUnix()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		from, ours := caller(conn)
		if !ours {
			conn.Close()
			continue
		}
		s.wg.Go(func() { s.lend.Serve(conn, from) })
	}
}
