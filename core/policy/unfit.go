package policy

import (
	"fmt"
	"slices"
)

// Service is what a policy is read for.
type Service string

// The services.
const (
	Gateway Service = "gateway"
	Issuer  Service = "issuer"
)

// Unfit are the lines that never hold at a service, though they seem to say something there.
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

// Idle is a line that means nobody, or no machine that is known.
type Idle struct {
	Line int    `json:"line"`
	Text string `json:"text"`
	Say  string `json:"say"`
}

// Idle are the lines that mean no known person or machine, in the order of the text. They may be meant for what is yet to
// come, and may be written wrong.
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

// Direct are the lines that give a lease for the address alone that a person comes from, which hold only at machines that
// are reached directly: one behind a gateway or another hop sees that one's address.
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
