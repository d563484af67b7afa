package login

import (
	"crypto/ed25519"
	"errors"
	"io"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/dial"
)

// errOnlyAsked keeps a signature from being made: the question was all.
var errOnlyAsked = errors.New("only asked")

// Asked is a key that a server was asked about.
type Asked struct {
	Key   ssh.PublicKey
	Takes bool // it would take it, for the login of the route
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
	conn    *dial.Conn
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
