package ring

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/plain"
)

// Use is one use that a far side asked for.
type Use struct {
	Key    Entry
	Login  string // the login the signature is for, cleaned; "" where the request does not tell
	Host   string // SHA-256 fingerprint of the host it is for, where the request is bound to one
	Count  int    // of uses through this lend, this one included
	Refuse error  // why it was not made, nil where it was
}

// Lend is what a far side may use: some keys of a ring, named when it was made,
// for as long as it is not ended. It speaks the agent protocol to whoever comes
// over there.
type Lend struct {
	ring *Ring
	keys []string // fingerprints
	ask  func(ctx context.Context, u Use) error
	tell func(Use)
	ctx  context.Context
	end  context.CancelCauseFunc

	mu     sync.Mutex
	uses   int
	recent []time.Time
	open   map[io.Closer]bool
}

// The most uses in a short time before a lend stops by itself.
const (
	burst     = 12
	burstTime = 10 * time.Second
)

var (
	errEnded = errors.New("the lend has ended")
	errBurst = fmt.Errorf("more than %d requests in %s: the lend has stopped, since somebody over there may be trying keys", burst, burstTime)
	errNever = errors.New("a lent agent only lists and signs")
)

// Lend lends keys of the ring, by their fingerprints. ask, where it is not nil, is
// asked before each use, and an error is a no; tell is told of each use.
func (r *Ring) Lend(keys []string, ask func(ctx context.Context, u Use) error, tell func(Use)) *Lend {
	l := &Lend{ring: r, keys: slices.Clone(keys), ask: ask, tell: tell, open: map[io.Closer]bool{}}
	l.ctx, l.end = context.WithCancelCause(context.Background())
	return l
}

// End ends the lend: whoever uses it is cut off, and nothing is served any more.
func (l *Lend) End() { l.stop(errEnded) }

func (l *Lend) stop(why error) {
	l.end(why)
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		c.Close()
	}
	clear(l.open)
}

// Ended is why the lend serves nobody any more, nil while it does.
func (l *Lend) Ended() error { return context.Cause(l.ctx) }

// Keys are the lent keys that are in the ring now.
func (l *Lend) Keys() []Entry {
	var all []Entry
	for _, e := range l.ring.Entries() {
		if slices.Contains(l.keys, e.SHA256) {
			all = append(all, e)
		}
	}
	return all
}

// Serve answers one far side until it leaves or the lend ends.
func (l *Lend) Serve(c io.ReadWriteCloser) error {
	l.mu.Lock()
	if l.ctx.Err() != nil {
		l.mu.Unlock()
		c.Close()
		return l.Ended()
	}
	l.open[c] = true
	l.mu.Unlock()
	defer func() {
		c.Close()
		l.mu.Lock()
		delete(l.open, c)
		l.mu.Unlock()
	}()
	err := agent.ServeAgent(served{l}, c)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return err
}

// served is the lend as the protocol library wants it.
type served struct{ l *Lend }

func (s served) List() ([]*agent.Key, error) {
	if s.l.ctx.Err() != nil || s.l.ring.Locked() {
		return nil, nil
	}
	var keys []*agent.Key
	for _, e := range s.l.Keys() {
		if signer := s.l.ring.Signer(e.SHA256); signer != nil {
			k := signer.PublicKey()
			keys = append(keys, &agent.Key{Format: k.Type(), Blob: k.Marshal(), Comment: e.Name})
		}
	}
	return keys, nil
}

func (s served) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return s.SignWithFlags(key, data, 0)
}

// SignWithFlags makes a signature where everything speaks for it.
func (s served) SignWithFlags(key ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	l := s.l
	u := Use{Key: Entry{SHA256: ssh.FingerprintSHA256(key)}}
	u.Login, u.Host = readRequest(data, key)
	signer, err := l.allow(&u)
	if err == nil && l.ask != nil {
		err = l.ask(l.ctx, u)
	}
	if err == nil {
		err = l.Ended()
	}
	if err != nil {
		u.Refuse = err
		l.tell(u)
		return nil, err
	}
	signature, err := sign(signer, data, flags)
	if err == nil {
		l.ring.used(u.Key.SHA256)
	}
	u.Refuse = err
	l.tell(u)
	return signature, err
}

// allow finds the key that is asked for among those lent, and counts the request.
func (l *Lend) allow(u *Use) (ssh.Signer, error) {
	l.mu.Lock()
	now := time.Now()
	l.recent = slices.DeleteFunc(append(l.recent, now), func(t time.Time) bool { return now.Sub(t) > burstTime })
	many := len(l.recent) > burst
	l.uses++
	u.Count = l.uses
	l.mu.Unlock()
	if many {
		l.stop(errBurst)
		return nil, errBurst
	}
	for _, e := range l.Keys() {
		if e.SHA256 == u.Key.SHA256 {
			u.Key = e
		}
	}
	signer := l.ring.Signer(u.Key.SHA256)
	switch {
	case !slices.Contains(l.keys, u.Key.SHA256):
		return nil, errors.New("that key is not lent")
	case l.ring.Locked():
		return nil, ErrLocked
	case signer == nil:
		return nil, errors.New("that key is no longer in the ring")
	case u.Login == "":
		return nil, errors.New("the request is no login: a lent key signs nothing else")
	}
	return signer, nil
}

func sign(signer ssh.Signer, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	with, ok := signer.(ssh.AlgorithmSigner)
	if !ok || signer.PublicKey().Type() != ssh.KeyAlgoRSA {
		return signer.Sign(nil, data)
	}
	algorithm := ssh.KeyAlgoRSASHA256 // never SHA-1, whatever is asked
	if flags&agent.SignatureFlagRsaSha512 != 0 {
		algorithm = ssh.KeyAlgoRSASHA512
	}
	return with.SignWithAlgorithm(nil, data, algorithm)
}

// readRequest reads what a signature is asked for: a login request with a public
// key (RFC 4252 section 7), or the form of it that is bound to a host. login is ""
// where it is something else.
func readRequest(data []byte, key ssh.PublicKey) (login, host string) {
	var request struct {
		Session   []byte
		Kind      byte
		User      string
		Service   string
		Method    string
		Has       bool
		Algorithm string
		Key       []byte
		Rest      []byte `ssh:"rest"`
	}
	const userAuthRequest = 50
	if ssh.Unmarshal(data, &request) != nil || request.Kind != userAuthRequest || !request.Has {
		return "", ""
	}
	if asked, err := ssh.ParsePublicKey(request.Key); err != nil || !same(asked, key) {
		return "", ""
	}
	login = plain.Line(request.User, 60)
	switch request.Method {
	case "publickey":
		return login, ""
	case "publickey-hostbound-v00@openssh.com":
		var bound struct{ Host []byte }
		if ssh.Unmarshal(request.Rest, &bound) == nil {
			if k, err := ssh.ParsePublicKey(bound.Host); err == nil {
				host = ssh.FingerprintSHA256(k)
			}
		}
		return login, host
	}
	return "", ""
}

// What a lent agent never does.

func (served) Add(agent.AddedKey) error       { return errNever }
func (served) Remove(ssh.PublicKey) error     { return errNever }
func (served) RemoveAll() error               { return errNever }
func (served) Lock([]byte) error              { return errNever }
func (served) Unlock([]byte) error            { return errNever }
func (served) Signers() ([]ssh.Signer, error) { return nil, errNever }

func (served) Extension(string, []byte) ([]byte, error) { return nil, agent.ErrExtensionUnsupported }
