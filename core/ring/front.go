package ring

import (
	"context"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/sanitize"
)

// How long the agent behind is waited for: to list its keys, and to make a
// signature, for which it may ask a person.
const (
	listTime = 2 * time.Second
	signTime = time.Minute
)

// maxFront is how many keys of the agent behind are taken.
const maxFront = 100

// front is an agent that runs already, which the ring stands in front of.
type front struct {
	socket string

	mu   sync.Mutex
	keys []*agent.Key
}

// ask has something asked of the agent over a connection of its own.
func (f *front) ask(ctx context.Context, limit time.Duration, do func(agent.ExtendedAgent) error) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", f.socket)
	if err != nil {
		return err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	if err := do(agent.NewClient(conn)); err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("it did not answer within %s", limit)
		}
		return err
	}
	return nil
}

func (f *front) refresh(ctx context.Context) error {
	return f.ask(ctx, listTime, func(a agent.ExtendedAgent) error {
		keys, err := a.List()
		if err == nil {
			f.mu.Lock()
			f.keys = keys[:min(len(keys), maxFront)]
			f.mu.Unlock()
		}
		return err
	})
}

// last are the keys it told last.
func (f *front) last() []ssh.PublicKey {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []ssh.PublicKey
	for _, k := range f.keys {
		if public, err := ssh.ParsePublicKey(k.Blob); err == nil {
			all = append(all, public)
		}
	}
	return all
}

func (f *front) entries() []Entry {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []Entry
	for _, k := range f.keys {
		all = append(all, Entry{Name: sanitize.Line(k.Comment, 60), SHA256: ssh.FingerprintSHA256(k), Kind: sanitize.Line(k.Format, 40), Behind: true})
	}
	return all
}

func (f *front) has(key ssh.PublicKey) bool {
	return slices.ContainsFunc(f.last(), func(k ssh.PublicKey) bool { return same(k, key) })
}

func (f *front) sign(key ssh.PublicKey, data []byte, algorithm string) (signature *ssh.Signature, err error) {
	var flags agent.SignatureFlags
	switch algorithm {
	case ssh.KeyAlgoRSASHA256:
		flags = agent.SignatureFlagRsaSha256
	case ssh.KeyAlgoRSASHA512:
		flags = agent.SignatureFlagRsaSha512
	}
	err = f.ask(context.Background(), signTime, func(a agent.ExtendedAgent) (err error) {
		signature, err = a.SignWithFlags(key, data, flags)
		return err
	})
	return signature, err
}
