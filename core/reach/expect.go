package reach

import (
	"bufio"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"meatus/core/estate"
	"meatus/core/sanitize"
)

// Expectation is a line of what is expected of an estate (docs/reach.md):
//
//	quay reaches tide-db:5432
//	tag:role=gauge does not reach tide-db:5432
//	only quay reaches tide-db:5432
//	outside does not reach tide-db:5432
type Expectation struct {
	Line int    // from 1
	Text string // as it was written
	who  string // a query, an address, or "outside"
	only bool   // nobody else does
	not  bool
	to   string
	Port Port
}

// maxExpectations bounds a file of them.
const maxExpectations = 10_000

// ReadExpectations reads expectations, one a line; what stands behind # is a comment. It fails with the line.
func ReadExpectations(text string) ([]Expectation, error) {
	var all []Expectation
	lines := bufio.NewScanner(strings.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line, _, _ := strings.Cut(lines.Text(), "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		e, err := readExpectation(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		if e.Line, e.Text = n, sanitize.Line(line, 300); len(all) == maxExpectations {
			return nil, fmt.Errorf("line %d: there are more than %d expectations", n, maxExpectations)
		}
		all = append(all, e)
	}
	return all, lines.Err()
}

func readExpectation(line string) (e Expectation, err error) {
	who, rest, ok := strings.Cut(line, " does not reach ")
	if e.not = ok; !ok {
		if who, rest, ok = strings.Cut(line, " reaches "); !ok {
			return e, fmt.Errorf("%q: write WHO reaches TO:PORT, WHO does not reach TO:PORT, or only WHO reaches TO:PORT", sanitize.Line(line, 80))
		}
	}
	if e.who, e.only = strings.CutPrefix(strings.TrimSpace(who), "only "); e.only && e.not {
		return e, fmt.Errorf("%q: only goes with reaches", sanitize.Line(line, 80))
	}
	e.to, e.Port, err = ReadPort(strings.TrimSpace(rest))
	return e, err
}

// ReadPort reads TO:PORT, where PORT is a number of tcp, or one with its protocol before it, as udp/53.
func ReadPort(text string) (to string, p Port, err error) {
	at := strings.LastIndexByte(text, ':')
	if at <= 0 {
		return "", p, fmt.Errorf("%s: write TO:PORT, as tide-db:5432", sanitize.Line(text, 60))
	}
	to, p.Protocol = text[:at], "tcp"
	said := text[at+1:]
	if protocol, number, ok := strings.Cut(said, "/"); ok {
		p.Protocol, said = strings.ToLower(protocol), number
	}
	n, err := strconv.ParseUint(said, 10, 16)
	if err != nil || p.Protocol == "" {
		return "", p, fmt.Errorf("%s is no port: it is 1 to 65535, or udp/53", sanitize.Line(text[at+1:], 40))
	}
	p.Number = uint16(n)
	return to, p, nil
}

// Broken is why an expectation does not hold of a source's estate: in words, and the proof where there is
// one; "" where it holds. One whose query chooses nothing does not hold, since it would say nothing.
func (e Expectation) Broken(source string, j *Judge) (why string, proof Answer) {
	targets, why := e.choose(source, j, e.to)
	if why != "" {
		return why, proof
	}
	var who []*estate.Instance
	address, err := netip.ParseAddr(e.who)
	if e.who != "outside" && err != nil {
		if who, why = e.choose(source, j, e.who); why != "" {
			return why, proof
		}
	}
	for _, to := range targets {
		for _, i := range who {
			if a := j.Ask(From{Instance: i}, to, e.Port); i != to && a.Open == e.not {
				return fmt.Sprintf("%s %s %s:%s", named(i), does(a.Open), named(to), e.Port), a
			}
		}
		if err == nil {
			if a := j.Ask(From{Address: address}, to, e.Port); a.Open == e.not {
				return fmt.Sprintf("%s %s %s:%s", address, does(a.Open), named(to), e.Port), a
			}
		}
		if e.who == "outside" || e.only {
			from, a := j.Outside(to, e.Port)
			if e.who == "outside" && a.Open == e.not {
				return fmt.Sprintf("an address outside, as %s, %s %s:%s", from, does(a.Open), named(to), e.Port), a
			}
			if e.only && a.Open && e.who != "outside" && !(err == nil && from == address) {
				return fmt.Sprintf("an address outside, as %s, reaches %s:%s, too", from, named(to), e.Port), a
			}
		}
		if !e.only {
			continue
		}
		meant := map[*estate.Instance]bool{to: true}
		for _, i := range who {
			meant[i] = true
		}
		for n := range j.s.Instances {
			if i := &j.s.Instances[n]; !meant[i] && i.State == estate.Running {
				if a := j.Ask(From{Instance: i}, to, e.Port); a.Open {
					return fmt.Sprintf("%s reaches %s:%s, too", named(i), named(to), e.Port), a
				}
			}
		}
	}
	return "", proof
}

func does(open bool) string {
	return map[bool]string{true: "reaches", false: "does not reach"}[open]
}

// choose are the instances that a query chooses, without those that were ended.
func (e Expectation) choose(source string, j *Judge, query string) (found []*estate.Instance, why string) {
	q, err := estate.ParseQuery(query)
	if err != nil {
		return nil, sanitize.Line(query, 60) + ": " + err.Error()
	}
	for _, i := range q.Find(source, j.s) {
		if i.State != estate.Ended {
			found = append(found, i)
		}
	}
	if len(found) == 0 {
		return nil, "no instance is " + sanitize.Line(query, 60)
	}
	return found, ""
}

// anywhere are addresses of nobody (RFC 5737, RFC 3849) that stand for everybody.
var anywhere = map[bool]netip.Addr{true: netip.MustParseAddr("198.51.100.1"), false: netip.MustParseAddr("2001:db8::1")}

// Outside tells whether some address outside gets to a port of an instance, with one that does, or one that
// does not where none does. Addresses of private networks (RFC 1918, RFC 4193) are not outside.
func (j *Judge) Outside(to *estate.Instance, port Port) (from netip.Addr, a Answer) {
	from = anywhere[true]
	a = j.Ask(From{Address: from}, to, port)
	try := func(other netip.Addr) {
		if a.Open || other.IsPrivate() {
			return
		}
		if b := j.Ask(From{Address: other}, to, port); b.Open {
			from, a = other, b
		}
	}
	try(anywhere[false])
	for _, id := range to.Groups {
		if g := j.groups[id]; g != nil {
			for i := range g.in {
				if r := &g.in[i]; r.Group == "" && r.prefix.IsValid() && r.about(port.plain()) {
					try(r.prefix.Addr())
				}
			}
		}
	}
	return from, a
}
