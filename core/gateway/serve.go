package gateway

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"meatus/core/line"
	"meatus/core/service"
	"meatus/core/store"
)

// Options are what a server works with. Store, Policy and Certificate are needed.
type Options struct {
	service.Options
	Store   *store.Machines
	Name    string // in the record and in metrics; made where ""
	Address string // where other gateways of the store reach this one, "host:port", port 0 for the listener's; "" where they cannot
}

// Bounds of a server.
const (
	beatEvery = 2 * time.Second
	storeTime = 10 * time.Second // for one question to the store
)

// Server is a gateway. It is safe to use from many goroutines.
type Server struct {
	*service.Service
	Store   *store.Machines
	id      string
	address string
	counted counters
	stale   atomic.Bool // the store does not answer
	joining joinQueue   // machines that join now

	mu      sync.Mutex
	joined  map[string]*joined // by machine
	peers   map[string]*peer   // by gateway
	streams map[*stream]bool
}

var errEnding = errors.New("the gateway is ending")

// NewServer returns a server that serves nobody yet.
func NewServer(o Options) *Server {
	s := &Server{Store: o.Store, id: o.Name, address: o.Address, joined: map[string]*joined{}, peers: map[string]*peer{}, streams: map[*stream]bool{}, joining: make(joinQueue, joinsAtOnce)}
	if s.id == "" {
		s.id = rand.Text()[:8]
	}
	o.Options.Called = "gateway"
	s.Service = service.New(o.Options, s.onward)
	s.Handle(line.ForMachines, s.machine)
	s.Handle(line.ForGateways, s.gateway)
	return s
}

// Serve serves until the server is closed. It takes the listener over.
func (s *Server) Serve(l net.Listener) error {
	if host, port, err := net.SplitHostPort(s.address); err == nil && (port == "" || port == "0") {
		_, port, _ = net.SplitHostPort(l.Addr().String())
		s.address = net.JoinHostPort(host, port)
	}
	if err := s.beat(); err != nil {
		return fmt.Errorf("the store: %w", err)
	}
	s.Go(s.live)
	s.Go(s.follow)
	return s.Service.Serve(l)
}

// Close ends the server. Machines are asked to join elsewhere, nothing new is let through, and what runs may
// go on until the context ends.
func (s *Server) Close(ctx context.Context) {
	s.Stop()
	s.leave()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for ctx.Err() == nil && s.Streams() > 0 {
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	s.End()
	ctx, done := context.WithTimeout(context.Background(), storeTime)
	defer done()
	if err := s.Store.Depart(ctx, s.id); err != nil {
		s.Log.Warn("the store does not know that this gateway ends; its machines are elsewhere in seconds", "error", err)
	}
}

// garbage is how much of what is in use a gateway's garbage may grow to before it is collected, in percent: what it
// has is thousands of connections that wait, and what passes is in pools.
const garbage = 25

// CollectEarly has a program that is a gateway keep its garbage small.
func CollectEarly() { debug.SetGCPercent(garbage) }

// leave asks every machine to join elsewhere.
func (s *Server) leave() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, j := range s.joined {
		s.Go(func() {
			if stream, err := line.Open(s.Context(), j.session, line.Leave{}); err == nil {
				stream.Close()
			}
		})
	}
}

func (s *Server) count(of func() int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return of()
}

// key is the fingerprint of the server's certificate, by which other gateways know it.
func (s *Server) key() string {
	cert, err := s.Certificate.Get()
	if err != nil {
		return ""
	}
	return line.FingerprintOf(cert)
}

// beat tells the store that this gateway is there.
func (s *Server) beat() error {
	ctx, cancel := context.WithTimeout(s.Context(), storeTime)
	defer cancel()
	return s.Store.Beat(ctx, store.Gateway{ID: s.id, Address: s.address, Key: s.key()})
}

// live gives signs of life, and says so once when the store is gone and when it is back. When it is back, what
// is joined here is told anew.
func (s *Server) live() {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		select {
		case <-s.Context().Done():
			return
		case <-tick.C:
		}
		err := s.beat()
		if s.Context().Err() != nil {
			return
		}
		switch was := s.stale.Swap(err != nil); {
		case err != nil && !was:
			s.Log.Error("the store does not answer: nothing new is let through, what runs goes on", "error", err)
		case err == nil && was:
			s.Log.Info("the store answers again")
			s.tellAll()
		}
	}
}

// follow looks at who is joined and what runs whenever machines are revoked or the policy changes.
func (s *Server) follow() {
	changed := s.Store.Watch(s.Context())
	for {
		select {
		case <-s.Context().Done():
			return
		case name := <-changed:
			s.recheck(name)
		case <-s.Policy.Changed():
			s.redecide()
		}
	}
}

// redecide ends what the policy that holds now does not allow.
func (s *Server) redecide() {
	s.Forget()
	p := s.Policy.Get()
	s.mu.Lock()
	defer s.mu.Unlock()
	for st := range s.streams {
		if st.person != "" && !st.decide(p).Allowed {
			st.end(errors.New("the policy does not allow it any more"), line.CutByPolicy)
		}
	}
}
