package prompt

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"

	"meatus/cmd/meatus/command"
	"meatus/core/book"
	"meatus/core/step"
)

// Identities are the fingerprints with which first visits are accepted unasked. Each is
// good for one hop: a bastion must not be able to show its own key as that of a machine
// behind it. It is a value of the flag --yes-identity.
type Identities struct {
	of    map[string][]string // by the name of the hop
	alone []string            // for a route that has one hop only

	passphraseFD int // where passphrases come from unasked, a line each; none where negative
	read         sync.Once
	text         []byte
	readErr      error
}

// passphrase returns the line of the file descriptor for a try, counted from 1. ok is false without one.
func (i *Identities) passphrase(try int) (pass []byte, ok bool, err error) {
	if i == nil || i.passphraseFD < 0 {
		return nil, false, nil
	}
	i.read.Do(func() { i.text, i.readErr = FromFD(i.passphraseFD) })
	if i.readErr != nil {
		return nil, true, i.readErr
	}
	lines := bytes.Split(bytes.TrimRight(i.text, "\n"), []byte("\n"))
	if try > len(lines) || len(lines[try-1]) == 0 {
		return nil, true, errNotThere
	}
	return bytes.Clone(lines[try-1]), true, nil
}

var errNotThere = errors.New("no passphrase that came by --passphrase-fd opens the key")

// Forget clears the passphrases read from the file descriptor.
func (i *Identities) Forget() {
	if i != nil {
		clear(i.text)
	}
}

// YesIdentity gives a command its --yes-identity.
func YesIdentity(c *command.Command) *Identities {
	i := &Identities{of: map[string][]string{}, passphraseFD: -1}
	c.Flags().IntVar(&i.passphraseFD, "passphrase-fd", -1, "read the passphrases of keys from this file descriptor, one a line")
	c.Flags().Var(i, "yes-identity", "trust a new host key of the session HOP with exactly this fingerprint; HOP= can be omitted for a route with one hop (repeatable)")
	return i
}

// String is what the flag is without a value.
func (i *Identities) String() string { return "" }

// Type is what the flag's value looks like.
func (i *Identities) Type() string { return "HOP=SHA256:..." }

// Set takes one value of the flag.
func (i *Identities) Set(value string) error {
	hop, print, named := strings.Cut(value, "=SHA256:")
	if !named {
		hop, print = "", strings.TrimPrefix(value, "SHA256:")
		if print == value {
			return fmt.Errorf("%q is no fingerprint; write HOP=SHA256: and what follows there", value)
		}
	}
	if raw, err := base64.RawStdEncoding.DecodeString(print); err != nil || len(raw) != 32 {
		return fmt.Errorf("SHA256:%s is no whole fingerprint; it has 43 letters behind the colon", print)
	}
	if named && !book.ValidName(hop) {
		return fmt.Errorf("%q cannot be the name of a session", hop)
	}
	if print = "SHA256:" + print; named {
		i.of[hop] = append(i.of[hop], print)
	} else {
		i.alone = append(i.alone, print)
	}
	return nil
}

// accepts tells whether the key in question was said to be the one of this very hop.
func (i *Identities) accepts(q step.IdentityQuestion) bool {
	if i == nil {
		return false
	}
	for _, print := range i.of[q.Hop] {
		if print == q.SHA256 {
			return true
		}
	}
	for _, print := range i.alone {
		if print == q.SHA256 && q.Hops == 1 {
			return true
		}
	}
	return false
}
