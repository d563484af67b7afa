package gateway

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"meatus/core/line"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/store"
)

// joined is a machine's connection.
type joined struct {
	store.Join
	session *yamux.Session
}

// machine lets a machine join: known by the key of its certificate, or new with a token.
func (s *Server) machine(w http.ResponseWriter, r *http.Request) {
	var m store.Machine
	err := s.joining.do(r.Context(), func() (err error) { m, err = s.introduced(r); return err })
	if err != nil {
		status, say := http.StatusUnauthorized, "this machine is not known here: it needs a token"
		switch {
		case errors.Is(err, store.ErrToken):
			say = err.Error()
		case errors.Is(err, store.ErrRevoked):
			status, say = http.StatusForbidden, err.Error()
		case errors.Is(err, errManyJoin):
			status, say = http.StatusServiceUnavailable, err.Error()
		case !errors.Is(err, store.ErrUnknown):
			status, say = http.StatusServiceUnavailable, "the gateway's store does not answer"
			s.Log.Error("the store does not answer", "error", err)
		}
		s.Refused.Add(1)
		s.Log.Info("a machine did not join", "from", r.RemoteAddr, "why", err.Error())
		http.Error(w, say, status)
		return
	}
	j := &joined{Join: store.Join{Machine: m.Name, Key: m.Key, Gateway: s.id, Connection: rand.Text(), From: r.RemoteAddr, Offers: offers(r.Header.Get(offersHeader))}}
	// What cannot be recorded does not join.
	if err := s.Append(r.Context(), record.Done{What: "joined", Machine: m.Name, From: j.From}); err != nil {
		s.Log.Error("the record cannot be written: nothing new is let through", "error", err)
		http.Error(w, "the gateway's record cannot be written", http.StatusServiceUnavailable)
		return
	}
	s.Take(w, r, func(session *yamux.Session) {
		j.session = session
		s.keep(j)
	})
}

// keep has a machine joined until its connection ends.
func (s *Server) keep(j *joined) {
	began := time.Now()
	// The database's calls go deep: a goroutine of their own spares this one a large stack for as long as it waits.
	arrived := make(chan error, 1)
	go func() { arrived <- s.joining.do(s.Context(), func() error { return s.arrive(j) }) }()
	if err := <-arrived; err != nil {
		s.Log.Error("it does not join", "machine", j.Machine, "error", err)
		s.forget(j)
		j.session.Close()
		return
	}
	s.Log.Info("joined", "machine", j.Machine, "from", j.From)
	s.counted.joins.Add(1)
	for { // a machine opens no streams
		stream, err := j.session.AcceptStream()
		if err != nil {
			break
		}
		stream.Reset()
	}
	s.depart(j, time.Since(began))
}

// The headers by which a machine introduces itself.
const (
	tokenHeader  = "Meatus-Token"
	offersHeader = "Meatus-Offers"
)

// maxOffers is how many further destinations a machine may have.
const maxOffers = 32

// offers are the names of further destinations.
func offers(header string) []string {
	all := strings.Fields(header)
	all = slices.DeleteFunc(all, func(name string) bool { return !validOffer(name) })
	return all[:min(len(all), maxOffers)]
}

// validOffer tells whether a further destination can be called so: it stands before the machine's name.
func validOffer(name string) bool {
	return name != "" && len(name) <= 32 && !strings.ContainsAny(name, ".:*?[]\\@ ") && sanitize.Line(name, 33) == name
}

// introduced is the machine that a request comes from.
func (s *Server) introduced(r *http.Request) (store.Machine, error) {
	ctx, cancel := context.WithTimeout(r.Context(), storeTime)
	defer cancel()
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return store.Machine{}, store.ErrUnknown
	}
	key := line.Fingerprint(r.TLS.PeerCertificates[0].PublicKey) // the handshake has proven that it has it
	token := r.Header.Get(tokenHeader)
	m, err := s.Store.MachineByKey(ctx, key)
	if token == "" || err == nil {
		return m, err
	}
	was := err
	if m, err = s.Store.Enrol(ctx, token, key); errors.Is(err, store.ErrToken) && errors.Is(was, store.ErrRevoked) {
		err = was // its token was used because it had joined
	}
	if err != nil {
		return m, err
	}
	return m, s.Append(ctx, record.Done{What: "enrolled", Machine: m.Name, From: r.RemoteAddr, By: "key " + key})
}

// arrive registers a machine's connection in place of its earlier one. A revocation or replacement from then on finds the
// connection; an earlier one is seen by the check that follows.
func (s *Server) arrive(j *joined) error {
	ctx, cancel := context.WithTimeout(s.Context(), storeTime)
	defer cancel()
	if err := s.Store.Arrive(ctx, j.Join); err != nil {
		return err
	}
	s.mu.Lock()
	before := s.joined[j.Machine]
	s.joined[j.Machine] = j
	s.mu.Unlock()
	if before != nil {
		before.session.Close()
	}
	m, err := s.Store.Machine(ctx, j.Machine)
	if err == nil && m.Key != j.Key {
		err = store.ErrReplaced
	}
	return err
}

// forget unregisters a machine's connection, and reports whether it was registered.
func (s *Server) forget(j *joined) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.joined[j.Machine] != j {
		return false
	}
	delete(s.joined, j.Machine)
	return true
}

// depart records the end of a machine's connection.
func (s *Server) depart(j *joined, after time.Duration) {
	s.forget(j)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(s.Context()), storeTime)
	defer cancel()
	if err := s.Store.Leave(ctx, j.Join); err != nil {
		s.Log.Error("the store does not answer", "error", err)
	}
	s.Log.Info("left", "machine", j.Machine)
	s.note(ctx, record.Done{What: "left", Machine: j.Machine, From: j.From, Seconds: after.Round(time.Millisecond).Seconds()})
}

// recheck ends the connections of machines that were revoked, or are known by another key now.
func (s *Server) recheck(name string) {
	ctx, cancel := context.WithTimeout(s.Context(), storeTime)
	defer cancel()
	s.mu.Lock()
	names := []string{name}
	if name == store.Anything {
		names = nil
		for name := range s.joined {
			names = append(names, name)
		}
	}
	s.mu.Unlock()
	keys := map[string]string{} // "" for one that was revoked
	if name == store.Anything && len(names) > 0 {
		list, err := s.Store.Machines(ctx)
		if err != nil {
			return
		}
		for _, m := range list {
			if keys[m.Name] = ""; m.Revoked.IsZero() {
				keys[m.Name] = m.Key
			}
		}
	}
	for _, name := range names {
		s.mu.Lock()
		j := s.joined[name]
		s.mu.Unlock()
		if j == nil {
			continue
		}
		key, known := keys[name]
		if !known {
			m, err := s.Store.Machine(ctx, name)
			if err != nil && !errors.Is(err, store.ErrRevoked) && !errors.Is(err, store.ErrUnknown) {
				continue // the store is asked again when it answers
			}
			if key = m.Key; err != nil {
				key = ""
			}
		}
		if key != j.Key {
			s.Log.Info("revoked, or another has its name now", "machine", name)
			s.forget(j)
			j.session.Close()
		}
	}
}

// tellAll tells the store anew what is joined here.
func (s *Server) tellAll() {
	s.mu.Lock()
	all := make([]*joined, 0, len(s.joined))
	for _, j := range s.joined {
		all = append(all, j)
	}
	s.mu.Unlock()
	for _, j := range all {
		ctx, cancel := context.WithTimeout(s.Context(), storeTime)
		m, err := s.Store.Machine(ctx, j.Machine)
		if err == nil && m.Gateway == "" {
			err = s.Store.Arrive(ctx, j.Join)
		}
		if errors.Is(err, store.ErrRevoked) || errors.Is(err, store.ErrUnknown) || errors.Is(err, store.ErrReplaced) || err == nil && (m.Key != j.Key || m.Gateway != "" && m.Gateway != s.id) {
			s.forget(j) // it has gone, or joined elsewhere meanwhile
			j.session.Close()
		}
		cancel()
	}
}

// find is the machine that a name means: its own, its instance's id, or that of a further destination, as
// "NAME.MACHINE".
func (s *Server) find(ctx context.Context, name string) (m store.Machine, to string, err error) {
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	m, err = s.Store.Machine(ctx, name)
	if offer, machine, ok := strings.Cut(name, "."); ok && errors.Is(err, store.ErrUnknown) {
		if other, oerr := s.Store.Machine(ctx, machine); oerr == nil && slices.Contains(other.Offers, offer) {
			return other, offer, nil
		}
	}
	return m, "", err
}

// awaited is how long a machine that is not joined is waited for.
const awaited = 8 * time.Second

// reach opens a stream to a machine, here or at the gateway where it is joined. One that is not joined is waited
// for a little: it may have moved.
func (s *Server) reach(ctx context.Context, st *stream, port int) (line.Stream, error) {
	ctx, cancel := context.WithTimeout(ctx, openTime-time.Second)
	defer cancel()
	changed := s.Store.Watch(ctx)
	late := time.NewTimer(awaited)
	defer late.Stop()
	ask := line.Reach{To: st.to, Port: port, Person: st.person, Key: st.machine.Key}
	var last error
	for {
		far, err := s.tryReach(ctx, st.machine.Name, ask)
		var said *line.Refusal
		if err == nil || errors.As(err, &said) {
			return far, err
		}
		if last = err; st.machine.From == "" { // it never was here, so it did not move
			return nil, fmt.Errorf("%s has not joined yet", st.machine.Name)
		}
		if changedFor(ctx, changed, late.C, st.machine.Name) {
			continue
		}
		if !errors.Is(last, errNotJoined) {
			return nil, fmt.Errorf("%s is joined, and does not answer: %w", st.machine.Name, last)
		}
		return nil, fmt.Errorf("%s is not joined now", st.machine.Name)
	}
}

// changedFor waits for the next event after which a machine may have joined, and reports whether it may have. Events of
// other machines are ignored: many clients may wait while many machines join.
func changedFor(ctx context.Context, changed <-chan string, late <-chan time.Time, machine string) bool {
	for {
		select {
		case name := <-changed:
			if name == machine {
				return true
			}
			if name == store.Anything { // something changed, one cannot know what
				select {
				case <-time.After(mathrand.N(anythingPause)):
					return true
				case <-late:
				case <-ctx.Done():
				}
				return false
			}
		case <-late:
			return false
		case <-ctx.Done():
			return false
		}
	}
}

// anythingPause is the pause of a waiting client where the store does not tell which machine changed.
const anythingPause = 400 * time.Millisecond

var errNotJoined = errors.New("it is not joined")

// here returns the connection of a machine joined at this gateway, if its key is the given one; "" matches any key.
func (s *Server) here(machine, key string) *joined {
	s.mu.Lock()
	defer s.mu.Unlock()
	j := s.joined[machine]
	if j != nil && key != "" && j.Key != key {
		return nil
	}
	return j
}

// tryReach is one try of reach.
func (s *Server) tryReach(ctx context.Context, machine string, ask line.Reach) (line.Stream, error) {
	if j := s.here(machine, ask.Key); j != nil {
		return open(ctx, j.session, ask)
	}
	asking, cancel := context.WithTimeout(ctx, storeTime)
	m, err := s.Store.Machine(asking, machine)
	cancel()
	if err != nil {
		return nil, err
	}
	if m.Gateway == "" || m.Gateway == s.id {
		return nil, errNotJoined
	}
	ask.Key = m.Key
	session, err := s.peer(ctx, m.Gateway)
	if err != nil {
		s.Log.Warn("another gateway does not answer", "gateway", m.Gateway, "error", err)
		return nil, errors.New("the gateway that it is joined at cannot be reached")
	}
	ask.Machine = machine
	return open(ctx, session, ask)
}

func open(ctx context.Context, session *yamux.Session, ask line.Reach) (line.Stream, error) {
	stream, err := line.Open(ctx, session, ask)
	if err != nil {
		return nil, err
	}
	return stream, nil
}
