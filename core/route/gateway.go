package route

import (
	"fmt"
	"strings"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
)

// Gateway is the way to a gateway itself, where it can be asked something.
func (p Planner) Gateway(name string) (Route, error) {
	g := p.Source.Gateway(name)
	switch {
	case g == nil:
		return Route{}, fmt.Errorf("there is no gateway %q", name)
	case g.Broken != nil:
		return Route{}, *g.Broken
	}
	return Route{Session: name, Hops: []Hop{p.gateway(g)}}, nil
}

// Issuer is the way to an issuer of leases, where it can be asked something.
func (p Planner) Issuer(name string) (Route, error) {
	g := p.Source.Issuer(name)
	switch {
	case g == nil:
		return Route{}, fmt.Errorf("there is no issuer %q", name)
	case g.Broken != nil:
		return Route{}, *g.Broken
	}
	return p.issuer(g).AsRoute(), nil
}

// LeaseOf is a lease of an issuer for a machine, for a session that does not say so itself.
func (p Planner) LeaseOf(issuer, machine string) (*Lease, error) {
	r, err := p.Issuer(issuer)
	if err != nil {
		return nil, err
	}
	return &Lease{Issuer: issuer, Machine: machine, Way: r.Hops[0]}, nil
}

// AsRoute is the way to a service by itself.
func (h Hop) AsRoute() Route { return Route{Session: h.Name, Hops: []Hop{h}} }

// lease says which lease is asked for at a hop, and what its issuer told of that.
func (k Knowledge) lease(h Hop) gate.Gate {
	if k.Leases != nil {
		if g, ok := k.Leases.LeaseGate(h); ok {
			if g.Verdict == gate.Shut && len(h.Keys) > 0 {
				g.Verdict, g.Reason = gate.Ajar, g.Reason+"; the key is offered in its place"
			}
			return g
		}
	}
	return gate.Gate{Kind: gate.Lease, Seen: fmt.Sprintf("for %s at %s, asked of %s", h.User, h.Lease.Machine, h.Lease.Issuer)}
}

// gatewayGates judges a gateway by what this machine knows: where it is, what its certificate has to be, and by
// what we are known there.
func (r Route) gatewayGates(i int, k Knowledge) []gate.Gate {
	h := r.Hops[i]
	address := gate.Gate{Kind: gate.Address, Seen: strings.Join(h.Gateway.URLs, ", else ")}
	identity := gate.Gate{Kind: gate.Identity, Seen: "a certificate for " + h.Host}
	switch {
	case len(h.Gateway.HostKeys) > 0:
		identity.Seen = "the key " + strings.Join(h.Gateway.HostKeys, " or ")
	case h.Gateway.CA != "":
		identity.Seen += ", signed by " + sanitize.Name(h.Gateway.CA)
	}
	gates := []gate.Gate{h.InPlace(address)}
	if h.Proxy != (book.Proxy{}) {
		gates = append([]gate.Gate{ProxyGate(h)}, gates...)
	}
	return append(gates, gate.Gate{Kind: gate.Port, Seen: fmt.Sprint(h.Port)}, identity, GatewayKey(h, k.Keys),
		gate.Gate{Kind: gate.Login, Seen: "who it is that comes"})
}

// GatewayKey judges by what we are known at a gateway: keys, a client certificate, or a token.
func GatewayKey(h Hop, seen KeySheets) gate.Gate {
	secrets := h.Gateway.secrets()
	for _, s := range secrets {
		if s.file == "" {
			continue
		}
		if fault, stopped := keyfile.Inspect(s.file).Blocked(); stopped {
			g := gate.Gate{Kind: gate.Key, Verdict: gate.Shut, Seen: sanitize.Name(s.file), Reason: s.what + " is not used: " + fault.Say, Remedy: gate.Remedy{Say: fault.Mend}}
			if fault.Flaw == keyfile.OthersReach {
				g.Remedy = gate.Remedy{Say: "set mode 0600 on " + sanitize.Name(s.file), Act: gate.MendFile, Subject: s.file}
			}
			return g
		}
	}
	if len(h.Keys) > 0 {
		return KeyGate(h, seen)
	}
	if len(secrets) > 0 {
		return gate.Gate{Kind: gate.Key, Verdict: gate.Open, Seen: secrets[0].what}
	}
	return gate.Gate{Kind: gate.Key, Seen: "none named", Reason: "unlocked keys are tried; name yours: key = \"PATH\""}
}

// secret is something that a person is known by besides a key.
type secret struct{ what, file string }

func (g *Gateway) secrets() (all []secret) {
	if g.Certificate != "" {
		all = append(all, secret{"the client certificate " + sanitize.Name(g.Certificate), g.Certificate})
	}
	switch {
	case g.TokenFile != "":
		all = append(all, secret{"the token in " + sanitize.Name(g.TokenFile), g.TokenFile})
	case g.Device != "":
		all = append(all, secret{"a token of " + sanitize.Line(g.Device, 80), ""})
	case len(g.TokenCommand) > 0:
		all = append(all, secret{"the token that " + sanitize.Name(g.TokenCommand[0]) + " prints", ""})
	}
	return all
}
