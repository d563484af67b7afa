package gateway

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync/atomic"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"meatus/core/line"
	"meatus/core/store"
)

// Gateways of one store know each other by the keys of their certificates, which each tells the store. One
// passes a person's stream on to the one where the machine is joined.

// peer is a connection to another gateway.
type peer struct {
	ready   chan struct{}
	session *yamux.Session
	err     error
}

// peer is the connection to another gateway, made where there is none.
func (s *Server) peer(ctx context.Context, id string) (*yamux.Session, error) {
	s.mu.Lock()
	p := s.peers[id]
	if p == nil {
		p = &peer{ready: make(chan struct{})}
		s.peers[id] = p
		s.Go(func() { s.connectPeer(id, p) })
	}
	s.mu.Unlock()
	select {
	case <-p.ready:
		return p.session, p.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// connectPeer connects to another gateway, and waits for the end.
func (s *Server) connectPeer(id string, p *peer) {
	p.session, p.err = s.dialPeer(id)
	close(p.ready)
	if p.err == nil {
		defer context.AfterFunc(s.Context(), func() { p.session.Close() })()
		<-p.session.CloseChan()
	}
	s.mu.Lock()
	delete(s.peers, id)
	s.mu.Unlock()
}

func (s *Server) dialPeer(id string) (*yamux.Session, error) {
	ctx, cancel := context.WithTimeout(s.Context(), storeTime)
	defer cancel()
	list, err := s.Store.Gateways(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(g store.Gateway) bool { return g.ID == id })
	if i < 0 || list[i].Address == "" {
		return nil, errors.New("it does not say where other gateways reach it")
	}
	own, err := s.Certificate.Get()
	if err != nil {
		return nil, err
	}
	conn, err := line.Connect(ctx, line.Target{URL: "wss://" + list[i].Address, Path: line.ForGateways, HostKeys: []string{list[i].Key}, Present: own})
	if err != nil {
		return nil, err
	}
	return line.Mux(conn, true)
}

// gateway lets another gateway of the store in.
func (s *Server) gateway(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), storeTime)
	defer cancel()
	list, err := s.Store.Gateways(ctx)
	known := err == nil && r.TLS != nil && len(r.TLS.PeerCertificates) > 0
	if known {
		key := line.Fingerprint(r.TLS.PeerCertificates[0].PublicKey)
		known = key != "" && slices.ContainsFunc(list, func(g store.Gateway) bool { return g.Key == key })
	}
	if !known {
		s.Refused.Add(1)
		s.Log.Info("no gateway of this store", "from", r.RemoteAddr)
		http.Error(w, "this gateway is not known here", http.StatusUnauthorized)
		return
	}
	s.Take(w, r, s.forPeers)
}

// forPeers answers another gateway until its connection ends.
func (s *Server) forPeers(session *yamux.Session) {
	for {
		stream, err := session.AcceptStream()
		if err != nil {
			return
		}
		s.Go(func() {
			s.Contained(func() {
				defer stream.Close()
				s.forPeer(stream)
			})
		})
	}
}

// forPeer opens a stream to a machine that is joined here, for another gateway, which has decided and recorded it.
func (s *Server) forPeer(near *yamux.Stream) {
	near.SetReadDeadline(time.Now().Add(storeTime))
	asked, err := line.HearMessage(near)
	ask, ok := asked.(line.Reach)
	if err != nil || !ok {
		near.Reset()
		return
	}
	near.SetReadDeadline(time.Time{})
	j := s.here(ask.Machine, ask.Key)
	var far line.Stream
	err = fmt.Errorf("%s is not joined now", ask.Machine)
	if j != nil {
		ctx, cancel := context.WithTimeout(s.Context(), openTime)
		ask.Machine, ask.Key = "", ""
		far, err = open(ctx, j.session, ask)
		cancel()
	}
	if err != nil {
		line.Say(near, line.Answer{Refused: err.Error(), Reason: line.NotThere})
		near.Close()
		return
	}
	if line.Say(near, line.Answer{}) != nil {
		near.Reset()
		abort(far)
		return
	}
	st := &stream{s: s, machine: store.Machine{Name: j.Machine}}
	st.cut = func() {
		near.Reset()
		abort(far)
	}
	s.mu.Lock()
	s.streams[st] = true
	s.mu.Unlock()
	stop := context.AfterFunc(s.Context(), func() { st.end(errEnding, line.CutEnding) })
	var in, out atomic.Int64
	relay(near, far, &in, &out, &s.counted.in, &s.counted.out)
	stop()
	s.release(st)
}
