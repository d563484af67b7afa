package service

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/net/netutil"
	"golang.org/x/time/rate"

	"meatus/core/contain"
	"meatus/core/line"
)

// Options are what a service works with. Called, Policy and Certificate are needed.
type Options struct {
	Called      string // what it is: "gateway"
	Policy      *PolicyFile
	Certificate *Certificate
	ClientCAs   *x509.CertPool // whose certificates persons are known by, nil for none
	Tokens      *Tokens        // whose bearer tokens, nil for none
	Patience    time.Duration  // for what comes to introduce itself; 10 s where 0
	Log         *slog.Logger
}

// Bounds of a service.
const (
	maxConnections = 20000
	loginTime      = 2 * time.Minute  // a person may be asked for a key meanwhile
	headerTime     = 10 * time.Second // to introduce itself
	askTime        = 10 * time.Second // to say what is wanted over a stream
	maxStreams     = 1000             // of one person's connection
)

// Service is one that persons log in to. It is safe to use from many goroutines.
type Service struct {
	Options
	Refused atomic.Int64 // how many were not let in, or were refused something

	mux    *http.ServeMux
	http   *http.Server
	ctx    context.Context
	cancel context.CancelCauseFunc
	wg     sync.WaitGroup
	ending atomic.Bool
	answer Answer

	strangers atomic.Pointer[strangers]

	mu       sync.Mutex
	visitors map[*Visitor]bool
	refusals map[string]*rate.Limiter // by person
}

// The rate of refusals of one person in the audit record: a burst, and the interval after it.
const (
	refusalsAtOnce = 30
	refusalEvery   = 10 * time.Second
)

// Records reports whether a refusal is written to the audit record, which is never shortened, within the person's rate
// limit.
func (s *Service) Records(person string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refusals == nil || len(s.refusals) > maxConnections {
		s.refusals = map[string]*rate.Limiter{}
	}
	l := s.refusals[person]
	if l == nil {
		l = rate.NewLimiter(rate.Every(refusalEvery), refusalsAtOnce)
		s.refusals[person] = l
	}
	return l.Allow()
}

// New returns a service that serves nobody yet. Answer answers what persons ask.
func New(o Options, answer Answer) *Service {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Service{Options: o, mux: http.NewServeMux(), answer: answer, visitors: map[*Visitor]bool{}}
	s.ctx, s.cancel = context.WithCancelCause(context.Background())
	s.mux.HandleFunc(line.ForPersons, s.person)
	s.http = &http.Server{Handler: s.marked(s.mux), ReadHeaderTimeout: cmp.Or(o.Patience, headerTime), MaxHeaderBytes: 32 << 10, ConnContext: withStranger, ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug)}
	return s
}

// Handle has something else answer at a path than persons' logins.
func (s *Service) Handle(path string, h http.HandlerFunc) { s.mux.HandleFunc(path, h) }

// Context ends with the service.
func (s *Service) Context() context.Context { return s.ctx }

// Go does something that the end of the service waits for.
func (s *Service) Go(do func()) { s.wg.Go(do) }

// Ending tells whether the service ends.
func (s *Service) Ending() bool { return s.ending.Load() }

// ErrEnding says that the service ends.
var ErrEnding = errors.New("it is ending")

// marked marks each answer as a service's of ours, and keeps a panic in the request that it came of.
func (s *Service) marked(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(line.Mark, "1")
		if !s.begin() {
			http.Error(w, ErrEnding.Error(), http.StatusServiceUnavailable)
			return
		}
		defer s.wg.Done()
		s.Contained(func() { next.ServeHTTP(w, r) })
	})
}

// begin counts something that the end waits for, and tells whether it may begin.
func (s *Service) begin() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ending.Load() {
		return false
	}
	s.wg.Add(1)
	return true
}

// Take takes a request's connection over, and does something with its streams. What that is ends with the connection,
// and the connection with that or with the service. It is for whoever is known already.
func (s *Service) Take(w http.ResponseWriter, r *http.Request, do func(*yamux.Session)) {
	known(r)
	s.take(w, r, func(session *yamux.Session, guard *line.Guard) {
		guard.Known()
		do(session)
	})
}

// take is Take before authentication.
func (s *Service) take(w http.ResponseWriter, r *http.Request, do func(*yamux.Session, *line.Guard)) {
	conn, err := line.Accept(w, r)
	if err != nil {
		return // it was told why
	}
	s.wg.Go(func() {
		defer conn.Close()
		s.Contained(func() {
			guard := &line.Guard{}
			session, err := line.MuxGuarded(conn, guard)
			if err != nil {
				return
			}
			defer session.Close()
			defer context.AfterFunc(s.ctx, func() { session.Close() })()
			do(session, guard)
		})
	})
}

// Contained keeps a panic in what it came of.
func (s *Service) Contained(f func()) {
	if err := contain.Do("a connection to the "+s.Called, func() error { f(); return nil }); err != nil {
		s.Log.Error("a fault of this program", "error", err)
	}
}

// Serve serves until the service is stopped. It takes the listener over.
func (s *Service) Serve(l net.Listener) error {
	config := &tls.Config{
		MinVersion:     tls.VersionTLS13,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.Certificate.Get() },
		ClientAuth:     tls.RequestClientCert, // verified where it is used
		NextProtos:     []string{"http/1.1"},

		DynamicRecordSizingDisabled: true,
	}
	s.strangers.Store(newStrangers(netutil.LimitListener(l, maxConnections)))
	err := s.http.Serve(tls.NewListener(s.strangers.Load(), config))
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// Stop has the service take nothing new. What runs goes on until [Service.End].
func (s *Service) Stop() {
	s.mu.Lock()
	s.ending.Store(true)
	s.mu.Unlock()
	s.http.Close() // connections that were taken over are not its any more
}

// End ends what still runs, and waits for it.
func (s *Service) End() {
	s.cancel(ErrEnding)
	s.wg.Wait()
}
