package tunnel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/remote"
	"meatus/core/sanitize"
)

// Proof is whether the service that a tunnel brings answers, tried once from the far
// side.
type Proof struct {
	Verdict gate.Verdict // untried while it is not known
	Say     string       // what was seen
	Heard   string       // the first line that it said by itself, cleaned; or ""
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
	p := t.try(ctx)
	if p.Rule == byAddress { // who would have to be let in
		from := t.way.route.Target().Name
		p.Rule = fmt.Sprintf("allow %s, by its private address, to connect to %s", from, t.Spec.Reach)
		if seen := t.seenAs(ctx, p.Heard); seen != "" {
			if !strings.Contains(p.Say, seen) {
				p.Say += fmt.Sprintf("; it would see the address %s", seen)
			}
			p.Rule = fmt.Sprintf("allow %s (seen as %s) to connect to %s", from, seen, t.Spec.Reach)
		}
	}
	return p
}

// byAddress stands for a rule that lets an address in.
const byAddress = "address"

// try is Prove without the words for whoever owns the service.
func (t *Tunnel) try(ctx context.Context) Proof {
	// What waits for the way says nothing about the service.
	way, err := t.way.Passage(ctx)
	if err != nil {
		return Proof{}
	}
	ctx, cancel := context.WithTimeout(ctx, proofTime)
	defer cancel()
	network, address := split(t.Spec.Reach)
	from := t.way.route.Target().Name
	stream, cut, err := t.way.Dial(ctx, network, address)
	if err != nil && (t.ctx.Err() != nil || way.Ending(0) || errors.Is(err, errClosed) || errors.Is(err, context.Canceled)) {
		return Proof{}
	}
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
			return Proof{Verdict: gate.Ajar, Say: t.Spec.Reach + " accepts the connection and closes it at once", Rule: byAddress}
		case looksRefused(said):
			return Proof{Verdict: gate.Shut, Say: fmt.Sprintf("%s answers: %s", t.Spec.Reach, said), Heard: said, Rule: byAddress}
		}
		return Proof{Verdict: gate.Open, Say: "it answers: " + said, Heard: said}
	case <-time.After(announceTime):
		return Proof{Verdict: gate.Open, Say: "it accepts connections and waits for the client"}
	case <-ctx.Done():
		return Proof{}
	}
}

// announced is the first line of what a service said, cleaned.
func announced(text []byte) string {
	line, _, _ := bytes.Cut(text, []byte("\n"))
	return sanitize.Line(string(line), maxAnnounced)
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

// seenTime is how long the machine may take to tell by which address it is seen.
const seenTime = 5 * time.Second

// seenAs is the address that the service sees, or would have seen: the one that it
// names in what it said, where it said something, or the one that the machine says it
// goes by to get there. "" where neither tells.
func (t *Tunnel) seenAs(ctx context.Context, said string) string {
	host, _, err := net.SplitHostPort(t.Spec.Reach)
	if err != nil {
		return ""
	}
	for _, word := range strings.FieldsFunc(said, func(r rune) bool { return strings.ContainsRune(" \"'(),;=<>", r) }) {
		word = strings.Trim(word, ".:[]")
		if ip, err := netip.ParseAddr(word); err == nil && word != host && !ip.IsUnspecified() {
			return ip.String()
		}
	}
	ctx, cancel := context.WithTimeout(ctx, seenTime)
	defer cancel()
	p, err := t.way.Passage(ctx)
	if err != nil {
		return ""
	}
	first := func(command string) []string {
		out, err := remote.Output(ctx, p, command, nil, 4096)
		if err != nil {
			return nil
		}
		return strings.Fields(string(out))
	}
	if _, err := netip.ParseAddr(host); err != nil {
		if !book.ValidHost(host) {
			return ""
		}
		words := first("getent hosts " + host)
		if len(words) == 0 {
			return ""
		}
		host = words[0]
	}
	to, err := netip.ParseAddr(host)
	if err != nil || to.IsLoopback() {
		return ""
	}
	words := first("ip -o route get " + to.WithZone("").String())
	if i := slices.Index(words, "src"); i >= 0 && i+1 < len(words) {
		if ip, err := netip.ParseAddr(words[i+1]); err == nil {
			return ip.String()
		}
	}
	return ""
}

// refusedProof words why the far side reached nothing.
func refusedProof(err error, reach, from string) Proof {
	p := Proof{Verdict: gate.Shut, Say: err.Error()}
	var refused *link.Refused
	if !errors.As(err, &refused) {
		if errors.Is(err, context.DeadlineExceeded) {
			p.Say = fmt.Sprintf("%s gave no answer to %s within %s: packets are dropped, as by firewall rules", reach, from, proofTime)
			p.Rule = byAddress
		}
		return p
	}
	said := strings.ToLower(refused.Said)
	p.Say = fmt.Sprintf("%s says: %s", refused.Hop, refused.Said)
	switch {
	case refused.Reason == ssh.UnknownChannelType: // it is no firewall that says so
		p.Rule = fmt.Sprintf("reach %s through another machine: the server at %s opens no onward connections at all", reach, refused.Hop)
	case refused.Reason == ssh.Prohibited:
		p.Rule = fmt.Sprintf("have onward connections allowed at %s for this login, or reach %s through another machine", refused.Hop, reach)
	case strings.Contains(said, "refused"):
		p.Say += fmt.Sprintf("; %s answers, but nothing listens at that port, or only at its loopback address", reach)
	case strings.Contains(said, "not known"), strings.Contains(said, "resolve"):
		p.Say += fmt.Sprintf("; %s does not know that name", refused.Hop)
	default:
		p.Rule = byAddress
	}
	return p
}

// proveLent tells whether a listener over there that is to be open to other machines is:
// a server need not say that it listens at its own loopback alone. It is tried by the
// address that the machine is known by, with one connection through which nothing is
// sent.
func (t *Tunnel) proveLent(ctx context.Context, listens string) Proof {
	_, port, err := net.SplitHostPort(listens)
	if err != nil {
		return Proof{Verdict: gate.Open, Say: "it listens at " + listens}
	}
	ctx, cancel := context.WithTimeout(ctx, proofTime)
	defer cancel()
	target := t.way.route.Target()
	at := net.JoinHostPort(target.Host, port)
	if !t.Beyond() {
		return Proof{Verdict: gate.Open, Say: "it listens at " + listens + " over there"}
	}
	stream, _, err := t.way.Dial(ctx, "tcp", at)
	var refused *link.Refused
	switch {
	case err == nil:
		stream.Close()
		return Proof{Verdict: gate.Open, Say: fmt.Sprintf("it listens at %s: OPEN TO OTHER MACHINES", at)}
	case errors.As(err, &refused) && strings.Contains(strings.ToLower(refused.Said), "refused"): // it reached itself
		return Proof{Verdict: gate.Ajar, Say: fmt.Sprintf("%s was requested, but nothing listens at %s: the server probably opened it at its loopback address only", listens, at),
			Rule: fmt.Sprintf("have GatewayPorts allowed on %s, or use it there as 127.0.0.1:%s", target.Name, port)}
	}
	return Proof{}
}

// keepProof proves the tunnel when its way comes, and remembers what was seen.
func (t *Tunnel) keepProof() {
	if t.Spec.Bring == "" {
		return
	}
	t.keep(t.Prove)
}

// keep remembers what a proof has seen, and tells it. A tunnel that is being closed, as
// its way comes, is not proven any more.
func (t *Tunnel) keep(prove func(context.Context) Proof) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ctx.Err() != nil {
		return
	}
	if !t.proving.CompareAndSwap(false, true) { // it is being proven
		return
	}
	t.wg.Go(func() {
		defer t.proving.Store(false)
		select { // one after the other: a way that comes is not for proofs
		case t.way.proofs <- struct{}{}:
			defer func() { <-t.way.proofs }()
		case <-t.ctx.Done():
			return
		}
		p := prove(t.ctx)
		if p.Verdict == gate.Untried {
			return
		}
		t.mu.Lock()
		t.proof = p
		t.mu.Unlock()
		t.o.Tell(Proven{Session: t.Session, What: t.What(), Proof: p})
	})
}
