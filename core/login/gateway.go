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
			fmt.Sprintf("TLS in front of %s is ended with another key than that of %s itself: something is in between", h.Hop.Name, h.Hop.Name),
			"if that is intended, ask the gateway's administrator for its key, and write host_key = \"SHA256:…\"", nil)
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
	f := h.Fail(gate.Login, gate.NoKeyAccepted, "not known there", fmt.Sprintf("%s does not know the key or certificate", h.Hop.Name),
		"ask its administrator to add you to the policy", &LoginRefused{Place: g.h.Place(), Version: g.h.conn.Software(), Tries: g.tries, Offered: g.offered})
	if len(prints) > 0 {
		f.Remedy = gate.Remedy{Say: "send its administrator this line for the policy: person NAME key " + prints[0], Act: gate.HandOn, Subject: "person NAME key " + prints[0]}
	} else if len(g.h.signers) == 0 {
		f.Remedy.Say = "name your key in the gateway's table: key = \"PATH\""
	}
	f.Detail = g.told()
	return f
}
