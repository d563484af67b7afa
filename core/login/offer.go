package login

import (
	"io"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/dial"
)

// offer is a key as it is offered to a server. RSA keys are offered by the name of one
// signature algorithm (RFC 8332) to servers that do not announce which they take (RFC
// 8308 section 3.1): the library would take the key's own name for them, which means
// SHA-1, or offer nothing.
type offer struct {
	custody.Signer
	key int    // which of the keys it is
	as  string // "" where the server is to say which algorithm it takes
}

// names are the algorithms that an RSA key, or a certificate of one, is offered by, the
// best first; none for other keys.
func names(key ssh.PublicKey) []string {
	switch key.Type() {
	case ssh.KeyAlgoRSA:
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	case ssh.CertAlgoRSAv01:
		return []string{ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01}
	}
	return nil
}

// byNames are the offers of a key to a server that announces nothing.
func (o offer) byNames() []offer {
	all := []offer{o}
	for i, name := range names(o.PublicKey()) {
		all = append(all[:i], offer{o.Signer, o.key, name})
	}
	return all
}

// signer is the offer as the library wants it.
func (o offer) signer() ssh.Signer {
	all := names(o.PublicKey())
	if all == nil {
		return o.Signer.Signer
	}
	return sha2{o.Signer.Signer, o.as}
}

// sha2 is an RSA key that signs with SHA-2 alone.
type sha2 struct {
	ssh.Signer
	as string
}

func (s sha2) PublicKey() ssh.PublicKey {
	if s.as == "" {
		return s.Signer.PublicKey()
	}
	return byName{s.Signer.PublicKey(), s.as}
}

// byName is a key that goes by the name of an algorithm.
type byName struct {
	ssh.PublicKey
	name string
}

func (k byName) Type() string { return k.name }

func (s sha2) Algorithms() []string {
	switch s.as {
	case ssh.KeyAlgoRSASHA512, ssh.CertAlgoRSASHA512v01:
		return []string{ssh.KeyAlgoRSASHA512}
	case ssh.KeyAlgoRSASHA256, ssh.CertAlgoRSASHA256v01:
		return []string{ssh.KeyAlgoRSASHA256}
	}
	return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
}

func (s sha2) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	if with, ok := s.Signer.(ssh.AlgorithmSigner); ok {
		return with.SignWithAlgorithm(rand, data, algorithm)
	}
	return s.Signer.Sign(rand, data)
}

// offers are the keys of a login, one after the other.
type offers struct {
	conn   *dial.Conn
	list   []offer
	at     int    // the next
	sent   uint64 // how much had been sent when the last was offered
	silent bool   // the server announces no algorithms
}

func newOffers(conn *dial.Conn, signers []custody.Signer) *offers {
	o := &offers{conn: conn}
	for i, s := range signers {
		o.list = append(o.list, offer{Signer: s, key: i})
	}
	return o
}

// asked tells whether the last offer was sent at all. Where it was not, since the server
// does not say what it takes, its key is offered by name next.
func (o *offers) asked() bool {
	if o.at == 0 || o.conn.Out.Load() != o.sent {
		return true
	}
	last := o.list[o.at-1]
	if last.as != "" || names(last.PublicKey()) == nil {
		return true
	}
	o.silent = true
	o.list = append(o.list[:o.at:o.at], append(last.byNames(), o.list[o.at:]...)...)
	return false
}

// more tells whether there is a next one.
func (o *offers) more() bool { return o.at < len(o.list) }

// next takes the next one.
func (o *offers) next() offer {
	if first := o.list[o.at]; o.silent && first.as == "" {
		o.list = append(o.list[:o.at:o.at], append(first.byNames(), o.list[o.at+1:]...)...)
	}
	o.at++
	o.sent = o.conn.Out.Load()
	return o.list[o.at-1]
}

// left is how many keys were not offered.
func (o *offers) left() int {
	n := 0
	for i := o.at; i < len(o.list); i++ {
		if i == 0 || o.list[i].key != o.list[i-1].key {
			n++
		}
	}
	return n
}
