package walk

import (
	"context"
	"errors"
	"maps"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/route"
)

// agentChannel is the channel by which a far side reaches a lent agent.
const agentChannel = "auth-agent@openssh.com"

// Lent says that a far side used a lent key, or was refused it.
type Lent struct {
	Place
	ring.Use
}

func (Lent) IsEvent() {}

// By is who asked: the far side's machine, or a program here.
func (l Lent) By() string { return by(l.Place, l.Use) }

func by(p Place, u ring.Use) string {
	if u.From != "" {
		return u.From
	}
	return p.Hop
}

// LendQuestion asks whether a far side may use a lent key once.
type LendQuestion struct {
	Place
	Use ring.Use
}

// By is who asks: the far side's machine, or a program here.
func (q LendQuestion) By() string { return by(q.Place, q.Use) }

// lend lends what the passage's session says, nil where it lends nothing. Keys
// with a passphrase are unlocked now, by asking.
func (p *Passage) lend(ctx context.Context) (*ring.Lend, error) {
	target := p.route.Target()
	if !target.Lending() || len(target.Lends) == 0 {
		return nil, nil
	}
	w := p.walker
	place := Place{Session: p.route.Session, Hop: target.Name, Index: len(p.route.Hops) - 1, Address: target.Address(), User: target.User}
	terms := ring.Terms{Hosts: target.LendsTo, Said: target.LendsSaid, Tell: func(u ring.Use) { w.tell(Lent{place, u}) }}
	for _, path := range target.Lends {
		signer, err := w.lendable(ctx, place, target, path)
		if err != nil {
			return nil, p.current().fail(gate.Channel, gate.KeyUnusable, filepath.Base(path), "the key "+filepath.Base(path)+" cannot be lent: "+err.Error(), "name another in lends, or set agent to off", err)
		}
		terms.Keys = append(terms.Keys, keyfile.Fingerprint(signer.PublicKey()))
	}
	terms.Ask = func(ctx context.Context, u ring.Use) error {
		if target.Agent == "ask" || u.Key.Confirm {
			return w.askUse(ctx, place, u)
		}
		return nil
	}
	return w.Ring.Lend(terms), nil
}

// askUse asks a person whether somebody else may use a key once.
func (w *Walker) askUse(ctx context.Context, place Place, u ring.Use) error {
	err := w.Asker.Lend(ctx, LendQuestion{place, u})
	w.tell(Answered{place, "the use of " + u.Key.String(), err == nil})
	return err
}

// Share opens a socket for other programs of this account to use the ring by. Keys
// that want it are asked for before each use; every use is told. The caller closes
// it.
func (w *Walker) Share() (*ring.Socket, error) {
	here := Place{Hop: "here"}
	return w.Ring.Open(ring.Terms{
		Ask:  func(ctx context.Context, u ring.Use) error { return w.askUse(ctx, here, u) },
		Tell: func(u ring.Use) { w.tell(Lent{here, u}) },
	})
}

// lendable puts a key into the ring that is to be lent.
func (w *Walker) lendable(ctx context.Context, place Place, hop route.Hop, path string) (ssh.Signer, error) {
	file, err := keyfile.Read(path)
	if err != nil {
		return nil, err
	}
	if fault, stopped := file.Blocked(); stopped {
		return nil, &keyfile.Blocked{Path: path, Fault: fault}
	}
	if file.Passphrase {
		hop.Ring = "on" // while it is lent it has to be there
		return w.unlock(file, hop, func() func() { return func() {} }, func(try int) ([]byte, error) {
			return w.Asker.Passphrase(ctx, PassphraseQuestion{place, file.Path, file.SHA256, try})
		}, func() error { return keyfile.ErrPassphrase })
	}
	return w.hold(file, nil, hop.Terms[path])
}

// serveAgent answers the far side's openings of agent channels: those that come
// while something is lent there. Everything else is refused.
func (l *Link) serveAgent(opened <-chan ssh.NewChannel) {
	for channel := range opened {
		lend := l.lent()
		if lend == nil {
			channel.Reject(ssh.Prohibited, "nothing is lent")
			continue
		}
		stream, requests, err := channel.Accept()
		if err != nil {
			continue
		}
		go ssh.DiscardRequests(requests)
		l.w.wg.Go(func() { lend.Serve(stream, "") })
	}
}

// lentThere is a lend and for which session it is.
type lentThere struct {
	lend    *ring.Lend
	session string
}

// LendState is something lent to a far side.
type LendState struct {
	Session, Hop string
	Keys         []string // their names
	Hosts        []string // which hosts they may be used for, none for all
	Uses         int
	Ended        error // why it serves nobody any more, nil while it does
}

// Lends tells what is lent, the oldest link's first.
func (w *Walker) Lends() []LendState {
	w.mu.Lock()
	links := slices.SortedFunc(maps.Values(w.links), func(a, b *Link) int { return int(a.id) - int(b.id) })
	type there struct {
		lentThere
		hop string
	}
	var all []there
	for _, l := range links {
		for _, t := range l.lends {
			all = append(all, there{t, l.hop.Name})
		}
	}
	w.mu.Unlock()
	var states []LendState
	for _, t := range all {
		s := LendState{Session: t.session, Hop: t.hop, Hosts: t.lend.Said, Uses: t.lend.Uses(), Ended: t.lend.Ended()}
		for _, e := range t.lend.Lent() {
			s.Keys = append(s.Keys, e.String())
		}
		states = append(states, s)
	}
	return states
}

// lent is the latest lend that is not ended, nil where there is none.
func (l *Link) lent() *ring.Lend {
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	for _, there := range slices.Backward(l.lends) {
		if there.lend.Ended() == nil {
			return there.lend
		}
	}
	return nil
}

// offer has a session's far side told that an agent is there, and lends it from
// then on.
func (g *Program) offer(lend *ring.Lend, session string) error {
	err := agent.RequestAgentForwarding(g.session)
	g.link.w.mu.Lock()
	before := g.link.offered
	g.link.offered = before || err == nil
	g.link.w.mu.Unlock()
	if err != nil && !before { // asked a second time, servers refuse: it is there already
		return &notLent{err}
	}
	g.link.w.mu.Lock()
	g.link.lends = append(g.link.lends, lentThere{lend, session})
	g.link.w.mu.Unlock()
	g.Lend = lend
	return nil
}

// notLent says that the server would not pass an agent on.
type notLent struct{ err error }

func (n *notLent) Error() string { return "the server does not pass an agent on" }
func (n *notLent) Unwrap() error { return n.err }

// takeBack ends what was lent to a program.
func (g *Program) takeBack() {
	if g.windows != nil {
		g.link.endDrawing(g.windows)
	}
	if g.Lend == nil {
		return
	}
	g.Lend.End()
	g.link.w.mu.Lock()
	defer g.link.w.mu.Unlock()
	g.link.lends = slices.DeleteFunc(g.link.lends, func(t lentThere) bool { return t.lend == g.Lend })
}

// refusedToLend words why a program with a lent agent was not begun.
func (l *Link) refusedToLend(err error) *gate.Failure {
	var not *notLent
	if !errors.As(err, &not) {
		return nil
	}
	return l.fail(gate.Channel, gate.ChannelRefused, "no agent there",
		l.hop.Name+" does not let an agent be used from there", "have agent forwarding allowed there, or set agent to off", err)
}
