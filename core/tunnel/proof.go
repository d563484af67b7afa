package tunnel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"meatus/core/gate"
	"meatus/core/plain"
	"meatus/core/walk"
)

// Proof is whether the service that a tunnel brings answers, tried once from the far
// side.
type Proof struct {
	Verdict gate.Verdict // untried while it is not known
	Say     string       // what was seen
	Rule    string       // what whoever owns the service would have to allow, in words to hand on; or ""
}

// How long a service is waited for, and how long for it to announce itself, as some
// protocols do; and how much of that is shown.
const (
	proofTime    = 8 * time.Second
	announceTime = 700 * time.Millisecond
	maxAnnounced = 120
)

// Prove tries the service that the tunnel brings from the far side: one connection,
// through which nothing is sent. A roaming or lending tunnel has nothing to try.
func (t *Tunnel) Prove(ctx context.Context) Proof {
	if t.Spec.Bring == "" {
		return Proof{}
	}
	ctx, cancel := context.WithTimeout(ctx, proofTime)
	defer cancel()
	network, address := split(t.Spec.Reach)
	from := t.way.route.Target().Name
	stream, cut, err := t.way.Dial(ctx, network, address)
	if err != nil {
		return refusedProof(err, t.Spec.Reach, from)
	}
	defer stream.Close()
	type first struct {
		text []byte
		err  error
	}
	got := make(chan first, 1)
	go func() {
		buf := make([]byte, 512)
		n, err := stream.Read(buf)
		got <- first{buf[:n], err}
	}()
	select {
	case f := <-got:
		said := announced(f.text)
		switch {
		case len(f.text) == 0 && cut(): // it was the way that ended
			return Proof{}
		case len(f.text) == 0:
			return Proof{gate.Ajar, fmt.Sprintf("%s takes the connection and ends it at once", t.Spec.Reach), rule(t.Spec.Reach, from)}
		case looksRefused(said):
			return Proof{gate.Shut, fmt.Sprintf("%s answers: %s", t.Spec.Reach, said), rule(t.Spec.Reach, from)}
		}
		return Proof{Verdict: gate.Open, Say: "it announces itself: " + said}
	case <-time.After(announceTime):
		return Proof{Verdict: gate.Open, Say: "it takes connections and waits to be spoken to"}
	case <-ctx.Done():
		return Proof{}
	}
}

// announced is the first line of what a service said, cleaned.
func announced(text []byte) string {
	line, _, _ := bytes.Cut(text, []byte("\n"))
	return plain.Line(string(line), maxAnnounced)
}

// looksRefused tells whether the first words of a service send the caller away.
func looksRefused(said string) bool {
	low := strings.ToLower(said)
	for _, word := range []string{"fatal", "denied", "not allowed", "no entry", "forbidden", "unauthorized", "too many connections"} {
		if strings.Contains(low, word) {
			return true
		}
	}
	return false
}

// rule words what the service's owner would have to allow.
func rule(reach, from string) string {
	return fmt.Sprintf("let %s, by its private address and not by yours, connect to %s", from, reach)
}

// refusedProof words why the far side reached nothing.
func refusedProof(err error, reach, from string) Proof {
	p := Proof{Verdict: gate.Shut, Say: err.Error()}
	var refused *walk.Refused
	if !errors.As(err, &refused) {
		if errors.Is(err, context.DeadlineExceeded) {
			p.Say = fmt.Sprintf("%s gave no answer to %s within %s: packets on the way are dropped, as inbound rules do", reach, from, proofTime)
			p.Rule = rule(reach, from)
		}
		return p
	}
	said := strings.ToLower(refused.Said)
	p.Say = fmt.Sprintf("%s says: %s", refused.Hop, refused.Said)
	switch {
	case refused.Reason == 1: // prohibited
		p.Rule = fmt.Sprintf("have onward connections allowed at %s for this login, or reach %s through another machine", refused.Hop, reach)
	case strings.Contains(said, "refused"):
		p.Say += fmt.Sprintf("; %s is reached, and nothing listens at that port, or only at its own loopback address", reach)
	case strings.Contains(said, "not known"), strings.Contains(said, "resolve"):
		p.Say += fmt.Sprintf("; %s does not know that name: write it as it is known there", refused.Hop)
	default:
		p.Rule = rule(reach, from)
	}
	return p
}

// keepProof proves the tunnel when its way comes, and remembers what was seen.
func (t *Tunnel) keepProof() {
	if t.Spec.Bring == "" {
		return
	}
	t.wg.Go(func() {
		p := t.Prove(t.ctx)
		if p.Verdict == gate.Untried {
			return
		}
		t.mu.Lock()
		t.proof = p
		t.mu.Unlock()
		t.o.Tell(Proven{Session: t.Session, What: t.What(), Proof: p})
	})
}

// Proven says what became of trying the service behind a tunnel.
type Proven struct {
	walk.Note
	Session, What string
	Proof         Proof
}
