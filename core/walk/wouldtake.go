package walk

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/gate"
	"meatus/core/route"
)

// errOnlyAsked keeps a signature from being made: the question was all.
var errOnlyAsked = errors.New("only asked")

// Asked is a key that a server was asked about.
type Asked struct {
	Key   ssh.PublicKey
	Takes bool // it would take it, for the login of the route
}

// WouldTake asks the machine at the end of a route which of some keys it would
// take for the route's login (RFC 4252 section 7: a request without a signature).
// Nothing is signed, and nobody is logged in there; the hops before it are walked
// as usual. It stops before the server's patience ends, after [maxKeys] refusals,
// and so returns what it asked about. A key that nobody has is asked about first: a server
// that would take that says yes to any. It fails with a [gate.Failure] where it did, and
// where the machine could not be asked.
func (w *Walker) WouldTake(ctx context.Context, r route.Route, keys []ssh.PublicKey) (answers []Asked, err error) {
	nobodys, err := throwaway()
	if err != nil {
		return nil, err
	}
	keys = append([]ssh.PublicKey{nobodys}, keys...)
	a := &attempt{w: w, id: w.newID(), at: gate.Address, route: r, report: &gate.Report{Hops: make([]gate.Hop, len(r.Hops))}}
	err = a.upTo(ctx, len(r.Hops)-1, func(below *Link) error {
		return a.overProbe(ctx, below, func(l *Link, p *patience) error {
			h := &handshake{l: l, p: p, at: gate.Identity, asking: &question{keys: keys}}
			if err := h.shake(); err != nil {
				return err
			}
			answers = h.asking.answers
			if len(answers) > 0 && answers[0].Takes {
				return l.fail(gate.Login, gate.Unexpected, "says yes to any key",
					fmt.Sprintf("%s would take a key that was made a moment ago and that nobody has: it says yes to any, and its answers prove nothing", l.hop.Name),
					"try each key by a login, or ask who runs it", nil)
			}
			return nil
		})
	})
	if err != nil || len(answers) == 0 {
		return nil, err
	}
	return answers[1:], nil
}

// throwaway is the public half of a key whose private half is gone.
func throwaway() (ssh.PublicKey, error) {
	public, _, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}

// question is what a server is asked about keys.
type question struct {
	keys    []ssh.PublicKey
	offers  *offers
	conn    *countedConn
	refused int
	methods []string // what the server would take, as last said
	answers []Asked
}

// next offers one key after another. That the library wants a signature means
// that the server would take it.
func (q *question) next(ctx *ssh.ClientAuthContext) (ssh.AuthMethod, error) {
	q.methods = ctx.AllowedMethods
	if q.offers == nil {
		var all []custody.Signer
		for i, key := range q.keys {
			all = append(all, custody.Signer{Signer: &unsigned{key, q, i}})
		}
		q.offers = newOffers(q.conn, all)
	}
	if n := len(q.answers); q.offers.asked() && n > 0 && !q.answers[n-1].Takes {
		q.refused++
	}
	if !q.offers.more() || q.refused >= maxKeys {
		return nil, errTouched
	}
	o := q.offers.next()
	if at := o.Signer.Signer.(*unsigned).at; at == len(q.answers) {
		q.answers = append(q.answers, Asked{Key: q.keys[at]})
	}
	if q.answers[len(q.answers)-1].Takes { // by one name is enough
		return q.next(ctx)
	}
	return ssh.PublicKeys(o.signer()), nil
}

// unsigned is a key that says that it was asked to sign, and does not.
type unsigned struct {
	key ssh.PublicKey
	q   *question
	at  int
}

func (u *unsigned) PublicKey() ssh.PublicKey { return u.key }

func (u *unsigned) Algorithms() []string {
	if u.key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{u.key.Type()}
}

func (u *unsigned) Sign(io.Reader, []byte) (*ssh.Signature, error) {
	u.q.answers[u.at].Takes = true
	return nil, errOnlyAsked
}

func (u *unsigned) SignWithAlgorithm(rand io.Reader, data []byte, _ string) (*ssh.Signature, error) {
	return u.Sign(rand, data)
}
