package main

import (
	"encoding/base64"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/walk"
)

// identities are the fingerprints with which first visits are accepted unasked. Each is
// good for one hop: a bastion must not be able to show its own key as that of a machine
// behind it. It is a value of the flag --yes-identity.
type identities struct {
	of    map[string][]string // by the name of the hop
	alone []string            // for a route that has one hop only
}

// yesIdentity gives a command its --yes-identity.
func yesIdentity(c *cobra.Command) *identities {
	i := &identities{of: map[string][]string{}}
	c.Flags().Var(i, "yes-identity", "accept a first visit to the hop HOP, a session, that shows exactly this fingerprint; HOP= can be left out where a route has one hop (repeatable)")
	return i
}

// String is what the flag is without a value.
func (i *identities) String() string { return "" }

// Type is what the flag's value looks like.
func (i *identities) Type() string { return "HOP=SHA256:..." }

// Set takes one value of the flag.
func (i *identities) Set(value string) error {
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
func (i *identities) accepts(q walk.IdentityQuestion) bool {
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
