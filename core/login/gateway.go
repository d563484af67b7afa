package login

import (
	"fmt"
	"meatus/core/gate"
	"slices"

	"golang.org/x/crypto/ssh"
)

// gatewayIdentity judges the key that a gateway shows inside: it is that of its certificate, or the one that is
// named. So what ends TLS on the way there is found.
func (h *handshake) gatewayIdentity(key ssh.PublicKey) error {
	h.answered()
	h.Trying(gate.Identity)
	h.p.Renew()
	print, c := ssh.FingerprintSHA256(key), h.gateway.Line
	switch {
	case slices.Contains(h.Hop.Gateway.HostKeys, print):
		h.Passed(gate.Identity, "the key that is named, "+print)
	case len(h.Hop.Gateway.HostKeys) == 0 && print == ssh.FingerprintSHA256(c.Key):
		h.Passed(gate.Identity, fmt.Sprintf("a certificate for %s, by %s", h.Hop.Host, c.Issuer))
	default:
		f := h.Fail(gate.Identity, gate.IdentityChanged, "not the key of its certificate",
			fmt.Sprintf("what ends TLS before %s has another key than %s itself: something stands between", h.Hop.Name, h.Hop.Name),
			"where that is meant to be so, ask whoever runs the gateway for its key, and write host_key = \"SHA256:…\"", nil)
		f.Detail = []string{"it shows " + print, "TLS has " + ssh.FingerprintSHA256(c.Key)}
		return h.give(f)
	}
	return h.known()
}

// gatewayLogin is the failure of a login at a gateway that knows nobody by what was offered.
func (g *login) gatewayLogin() *gate.Failure {
	h := g.h
	prints := []string{}
	for _, t := range g.tries {
		if t.Print != "" {
			prints = append(prints, t.Print)
		}
	}
	f := h.Fail(gate.Login, gate.NoKeyAccepted, "not known there", fmt.Sprintf("%s knows nobody by what was shown", h.Hop.Name),
		"have whoever runs it write you into its policy", &LoginRefused{Place: g.h.Place(), Version: g.h.conn.Software(), Tries: g.tries, Offered: g.offered})
	if len(prints) > 0 {
		f.Remedy = gate.Remedy{Say: "send whoever runs it this line for its policy: person NAME key " + prints[0], Act: gate.HandOn, Subject: "person NAME key " + prints[0]}
	} else if len(g.h.signers) == 0 {
		f.Remedy.Say = "name the key that you are known by in the gateway's table: key = \"PATH\""
	}
	f.Detail = g.told()
	return f
}
