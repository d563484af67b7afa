package policy

import (
	"fmt"
	"slices"
)

// Service is a kind of service that reads a policy.
type Service string

// The kinds of services.
const (
	Gateway Service = "gateway"
	Issuer  Service = "issuer"
)

// Unfit returns the lines that never apply at a kind of service, though they seem to.
func (p *Policy) Unfit(s Service) (all Mistakes) {
	wrong := func(line int, say string) { all = append(all, Mistake{File: p.File, Line: line, Say: say}) }
	if s != Issuer {
		return nil
	}
	for _, l := range p.limits {
		switch {
		case len(l.what) > 0:
			wrong(l.line, "an issuer passes nothing to machines: limits of machines are for gateways")
		case l.limits.Streams > 0 || l.limits.Daily > 0:
			wrong(l.line, "an issuer passes nothing on: streams and daily are limits of gateways, and connections are one here")
		}
	}
	return all
}

// Idle is a line without effect: it matches no person, or no known machine.
type Idle struct {
	Line int    `json:"line"`
	Text string `json:"text"`
	Say  string `json:"say"`
}

// Idle returns the lines that match no known person or machine, in the order of the text. They may be meant for future
// ones, or be misspelled.
func (p *Policy) Idle(machines []Machine) (all []Idle) {
	for _, r := range p.rules {
		people := slices.DeleteFunc(p.whoever(r.Who), func(who string) bool { return !p.marked(who) })
		if len(people) == 0 {
			all = append(all, Idle{r.Line, r.Text, "nobody is known who is meant: no person line says by what"})
			continue
		}
		for _, what := range r.What {
			if what != anything && !slices.ContainsFunc(machines, func(m Machine) bool { return fits(what, m) }) {
				all = append(all, Idle{r.Line, r.Text, fmt.Sprintf("%s means no machine that is known", shown(what))})
			}
		}
	}
	return all
}

// Direct returns the lines that limit a lease to a person's source address. Such leases work only at machines that are
// reached directly: behind a gateway or a bastion a machine sees the address of that.
func (p *Policy) Direct() (all []Idle) {
	for _, r := range p.rules {
		if !r.Deny && r.Terms.Source {
			all = append(all, Idle{r.Line, r.Text, "with source holds only at machines that are reached directly, and not through a gateway or another hop"})
		}
	}
	return all
}

// marked tells whether a person is known by something.
func (p *Policy) marked(who string) bool {
	for _, name := range p.known {
		if name == who {
			return true
		}
	}
	return false
}
