package gateway

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"
	"golang.org/x/net/netutil"

	"meatus/core/contain"
	"meatus/core/gateway/line"
	"meatus/core/store"
)

// Options are what a server works with. Store, Policy and Certificate are needed.
type Options struct {
	Store       *store.Store
	Policy      *PolicyFile
	Certificate *Certificate
	Name        string         // in the record and in metrics; made where ""
	Address     string         // where other gateways of the store reach this one, "host:port", port 0 for the listener's; "" where they cannot
	ClientCAs   *x509.CertPool // whose certificates persons are known by, nil for none
	Tokens      *Tokens        // whose bearer tokens, nil for none
	Patience    time.Duration  // for what comes to introduce itself; 10 s where 0
	Log         *slog.Logger
}

// Bounds of a server.
const (
	maxConnections = 20000
	loginTime      = 2 * time.Minute  // a person may be asked for a key meanwhile
	headerTime     = 10 * time.Second // to introduce itself
	beatEvery      = 2 * time.Second
	storeTime      = 10 * time.Second // for one question to the store
	maxStreams     = 1000             // of one person's connection
)

// Server is a gateway. It is safe to use from many goroutines.
type Server struct {
	Options
	id      string
	http    *http.Server
	ctx     context.Context
	cancel  context.CancelCauseFunc
	wg      sync.WaitGroup
	ending  atomic.Bool
	counted counters
	stale   atomic.Bool // the store does not answer

	mu       sync.Mutex
	joined   map[string]*joined // by machine
	peers    map[string]*peer   // by gateway
	streams  map[*stream]bool
	visitors map[*visit]bool
}

var errEnding = errors.New("the gateway is ending")

// NewServer returns a server that serves nobody yet.
func NewServer(o Options) *Server {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Server{Options: o, id: o.Name, joined: map[string]*joined{}, peers: map[string]*peer{}, streams: map[*stream]bool{}, visitors: map[*visit]bool{}}
	if s.id == "" {
		s.id = rand.Text()[:8]
	}
	s.ctx, s.cancel = context.WithCancelCause(context.Background())
	mux := http.NewServeMux()
	mux.HandleFunc(line.ForPersons, s.person)
	mux.HandleFunc(line.ForMachines, s.machine)
	mux.HandleFunc(line.ForGateways, s.gateway)
	s.http = &http.Server{Handler: s.marked(mux), ReadHeaderTimeout: cmp.Or(o.Patience, headerTime), MaxHeaderBytes: 32 << 10, ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug)}
	return s
}

// marked marks each answer as a gateway's, and keeps a panic in the request that it came of.
func (s *Server) marked(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(line.Mark, "1")
		if !s.begin() {
			http.Error(w, errEnding.Error(), http.StatusServiceUnavailable)
			return
		}
		defer s.wg.Done()
		s.contained(func() { next.ServeHTTP(w, r) })
	})
}

// begin counts something that Close waits for, and tells whether it may begin.
func (s *Server) begin() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ending.Load() {
		return false
	}
	s.wg.Add(1)
	return true
}

// take takes a request's connection over, and does something with its streams. What that is ends with the connection,
// and the connection with that or with the server.
func (s *Server) take(w http.ResponseWriter, r *http.Request, do func(*yamux.Session)) {
	conn, err := line.Accept(w, r)
	if err != nil {
		return // it was told why
	}
	s.wg.Go(func() {
		defer conn.Close()
		s.contained(func() {
			session, err := line.Mux(conn, false)
			if err != nil {
				return
			}
			defer session.Close()
			defer context.AfterFunc(s.ctx, func() { session.Close() })()
			do(session)
		})
	})
}

func (s *Server) contained(f func()) {
	if err := contain.Do("a connection to the gateway", func() error { f(); return nil }); err != nil {
		s.Log.Error("a fault of this program", "error", err)
	}
}

// Serve serves until the server is closed. It takes the listener over.
func (s *Server) Serve(l net.Listener) error {
	config := &tls.Config{
		MinVersion:     tls.VersionTLS13,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.Certificate.Get() },
		ClientAuth:     tls.RequestClientCert, // a machine's is its own; a person's is verified where it is used
		NextProtos:     []string{"http/1.1"},

		DynamicRecordSizingDisabled: true,
	}
	if host, port, err := net.SplitHostPort(s.Address); err == nil && (port == "" || port == "0") {
		_, port, _ = net.SplitHostPort(l.Addr().String())
		s.Address = net.JoinHostPort(host, port)
	}
	if err := s.beat(); err != nil {
		return fmt.Errorf("the store: %w", err)
	}
	s.wg.Go(s.live)
	s.wg.Go(s.follow)
	err := s.http.Serve(tls.NewListener(netutil.LimitListener(l, maxConnections), config))
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// Close ends the server. Machines are asked to join elsewhere, nothing new is let through, and what runs may
// go on until the context ends.
func (s *Server) Close(ctx context.Context) {
	s.mu.Lock()
	s.ending.Store(true)
	s.mu.Unlock()
	s.http.Close() // connections that were taken over are not its any more
	s.leave()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for ctx.Err() == nil && s.count(func() int { return len(s.streams) }) > 0 {
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	s.cancel(errEnding)
	s.wg.Wait()
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
		s.wg.Go(func() {
			if stream, err := line.Open(s.ctx, j.session, line.Ask{Leave: true}); err == nil {
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
	ctx, cancel := context.WithTimeout(s.ctx, storeTime)
	defer cancel()
	return s.Store.Beat(ctx, store.Gateway{ID: s.id, Address: s.Address, Key: s.key()})
}

// live gives signs of life, and says so once when the store is gone and when it is back. When it is back, what
// is joined here is told anew.
func (s *Server) live() {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-tick.C:
		}
		err := s.beat()
		if s.ctx.Err() != nil {
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
	changed := s.Store.Watch(s.ctx)
	for {
		select {
		case <-s.ctx.Done():
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
	p := s.Policy.Get()
	s.mu.Lock()
	defer s.mu.Unlock()
	for v := range s.visitors {
		if !v.still(p) {
			v.session.Close()
		}
	}
	for st := range s.streams {
		if st.person != "" && !st.decide(p).Allowed {
			st.end(errors.New("the policy does not allow it any more"))
		}
	}
}

// hostKey is the server's certificate's key as SSH has it.
func (s *Server) hostKey() (ssh.Signer, error) {
	cert, err := s.Certificate.Get()
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(cert.PrivateKey)
}
