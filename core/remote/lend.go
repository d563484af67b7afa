package remote

import (
	"cmp"
	"context"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/custody"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/link"
	"meatus/core/ring"
	"meatus/core/sanitize"
	"meatus/core/step"
	"meatus/core/walk"
)

// agentChannel is the channel by which a far side reaches a lent agent.
const agentChannel = "auth-agent@openssh.com"

// lend lends what the passage's session says, nil where it lends nothing. Keys
// with a passphrase are unlocked now, by asking.
func (s *Programs) lend(ctx context.Context, p *walk.Passage) (*ring.Lend, error) {
	target := p.Route().Target()
	if !target.Lending() || len(target.Lends) == 0 {
		return nil, nil
	}
	place := p.Place()
	terms := ring.Terms{Hosts: target.LendsTo, Said: target.LendsSaid, Most: target.LendUses, For: target.LendFor, Tell: func(u ring.Use) { p.Tell(Lent{place, u}) }}
	for _, path := range target.Lends {
		signer, err := s.Custody.Lendable(path, target, borrower{ctx, s.Asker, place})
		if err != nil {
			return nil, &gate.Failure{
				Hop: target.Name, Gate: gate.Channel, Cause: gate.KeyUnusable, Seen: sanitize.Name(path),
				Why:    "the key " + sanitize.Name(path) + " cannot be lent: " + err.Error(),
				Remedy: gate.Remedy{Say: "name another key in lends, or set agent to off"}, Err: err,
			}
		}
		terms.Keys = append(terms.Keys, keyfile.Fingerprint(signer.PublicKey()))
	}
	terms.Ask = func(ctx context.Context, u ring.Use) error {
		if target.Agent == "ask" || u.Key.Confirm {
			return s.askUse(ctx, place, u, p.Tell)
		}
		return nil
	}
	return s.Custody.Ring.Lend(terms), nil
}

// borrower has the passphrases asked for of keys that are to be lent.
type borrower struct {
	ctx   context.Context
	asker step.Asker
	place step.Place
}

var _ custody.Asking = borrower{}

func (b borrower) Passphrase(file *keyfile.File, try int) ([]byte, error) {
	return b.asker.Passphrase(b.ctx, step.PassphraseQuestion{Place: b.place, Path: file.Path, Fingerprint: file.SHA256, Try: try})
}

func (b borrower) Deriving() (done func())    { return func() {} }
func (b borrower) GaveUp(*keyfile.File) error { return keyfile.ErrPassphrase }

// Share opens a socket for other programs of this account to use the ring by. Keys
// that want it are asked for before each use; every use is told. The caller closes
// it.
func (s *Programs) Share() (*ring.Socket, error) {
	here := step.Place{Hop: "here"}
	return s.Custody.Ring.Open(ring.Terms{
		Ask:      func(ctx context.Context, u ring.Use) error { return s.askUse(ctx, here, u, s.Events.Tell) },
		Tell:     func(u ring.Use) { s.Events.Tell(Lent{here, u}) },
		Declined: func(d ring.Declined) { s.Events.Tell(NotTaken{d}) },
	})
}

// serveAgent answers the far side's openings of agent channels: those that come
// while something is lent there. Everything else is refused.
func (s *Programs) serveAgent(l *link.Link, opened <-chan ssh.NewChannel) {
	for channel := range opened {
		lend := s.lent(l)
		if lend == nil {
			channel.Reject(ssh.Prohibited, "nothing is lent")
			continue
		}
		stream, requests, err := channel.Accept()
		if err != nil {
			continue
		}
		go ssh.DiscardRequests(requests)
		l.Go(func() { lend.Serve(stream, "") })
	}
}

// lent is the latest lend of a link that is not ended, nil where there is none.
func (s *Programs) lent(l *link.Link) *ring.Lend {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.links[l.ID()]; o != nil {
		for _, there := range slices.Backward(o.lends) {
			if there.lend.Ended() == nil {
				return there.lend
			}
		}
	}
	return nil
}

// LendState is something lent to a far side.
type LendState struct {
	ID           int
	Session, Hop string
	Keys         []string // their names
	Hosts        []string // which hosts they may be used for, none for all
	Uses         int
	Left         int // how many more signatures may be made, where Limited
	Limited      bool
	Until        time.Time // when it stops by itself, zero where it does not
	Ended        error     // why it serves nobody any more, nil while it does
}

// Lends tells what is lent, the oldest link's first.
func (s *Programs) Lends() []LendState {
	type there struct {
		lending
		link link.ID
		hop  string
	}
	var all []there
	s.mu.Lock()
	for id, o := range s.links {
		for _, t := range o.lends {
			all = append(all, there{t, id, o.hop})
		}
	}
	s.mu.Unlock()
	slices.SortStableFunc(all, func(a, b there) int { return cmp.Compare(a.link, b.link) })
	var states []LendState
	for _, t := range all {
		state := LendState{ID: t.id, Until: t.lend.Until(), Session: t.session, Hop: t.hop, Hosts: t.lend.Said, Uses: t.lend.Uses(), Ended: t.lend.Ended()}
		state.Left, state.Limited = t.lend.Left()
		for _, e := range t.lend.Lent() {
			state.Keys = append(state.Keys, e.String())
		}
		states = append(states, state)
	}
	return states
}

// EndLend ends what is lent, whatever goes on there. It tells whether there was such a lend.
func (s *Programs) EndLend(id int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.links {
		for _, t := range o.lends {
			if t.id == id && t.lend.Ended() == nil {
				t.lend.Stop()
				return true
			}
		}
	}
	return false
}

// offer has the program's far side told that an agent is there, and lends it from then
// on.
func (g *Program) offer(lend *ring.Lend) error {
	err := agent.RequestAgentForwarding(g.session)
	s := g.programs
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.over(g.link)
	if err != nil && !o.offered { // asked a second time, servers refuse: it is there already
		return g.link.Refuse(gate.ChannelRefused, "no agent there",
			g.link.Hop().Name+" does not allow agent forwarding", "have AllowAgentForwarding enabled there, or set agent to off", err)
	}
	o.offered = true
	s.lastLend++
	o.lends = append(o.lends, lending{lend, g.of, s.lastLend})
	g.Lend = lend
	return nil
}

// takeBack ends what was lent to a program, and its grant to draw.
func (g *Program) takeBack() {
	if g.windows != nil {
		g.programs.endDrawing(g.link, g.windows)
	}
	if g.Lend == nil {
		return
	}
	g.Lend.End()
	s := g.programs
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.links[g.link.ID()]; o != nil {
		o.lends = slices.DeleteFunc(o.lends, func(t lending) bool { return t.lend == g.Lend })
	}
}
