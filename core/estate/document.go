package estate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"meatus/core/sanitize"
)

// The bounds of a document.
const (
	MaxDocument = 64 << 20 // bytes
	maxText     = 256      // characters of a name, an id or a tag
	maxProblems = 50       // that are told
)

// Problem is something wrong in a document, and where.
type Problem struct {
	At  string // "instances[3].addresses[0].ip", or "12:7" for a mistake in the JSON itself
	Say string
}

func (p Problem) Error() string { return p.At + ": " + p.Say }

// document is the form in JSON (docs/estate.md). Texts are checked when they are taken.
type document struct {
	Estate    int `json:"estate"`
	Instances []struct {
		ID        string            `json:"id"`
		Name      string            `json:"name"`
		Tags      map[string]string `json:"tags"`
		State     string            `json:"state"`
		Checks    string            `json:"checks"`
		Image     string            `json:"image"`
		KeyPair   string            `json:"key_pair"`
		Addresses []struct {
			IP      string `json:"ip"`
			Network string `json:"network"`
			Outside bool   `json:"outside"`
		} `json:"addresses"`
		Groups   []string `json:"groups"`
		Launched string   `json:"launched"`
		Size     string   `json:"size"`
		Wrong    string   `json:"wrong"`
	} `json:"instances"`
	KeyPairs []KeyPair `json:"key_pairs"`
	Images   []Image   `json:"images"`
	Networks []struct {
		ID    string   `json:"id"`
		Name  string   `json:"name"`
		CIDRs []string `json:"cidrs"`

		External bool `json:"external"`
	} `json:"networks"`
	Subnets []struct {
		ID      string `json:"id"`
		Name    string `json:"name"`
		Network string `json:"network"`
		CIDR    string `json:"cidr"`
	} `json:"subnets"`
	Routers      []Router  `json:"routers"`
	Peerings     []Peering `json:"peerings"`
	Reservations []struct {
		IP       string `json:"ip"`
		Instance string `json:"instance"`
	} `json:"reservations"`
	Groups []struct {
		ID    string `json:"id"`
		Name  string `json:"name"`
		Rules []struct {
			Direction string `json:"direction"`
			Protocol  string `json:"protocol"`
			Ports     string `json:"ports"`
			CIDR      string `json:"cidr"`
			Group     string `json:"group"`
		} `json:"rules"`
	} `json:"groups"`
}

// Parse reads a document. It fails where the JSON is none, or is longer than [MaxDocument]. What
// else is wrong is told in problems, and left out of the snapshot: an instance without an id, an
// address that is none, a second instance of an id.
func Parse(text []byte) (s Snapshot, problems []Problem, err error) {
	if len(text) > MaxDocument {
		return s, nil, Problem{"1:1", fmt.Sprintf("the document is longer than %d MB", MaxDocument>>20)}
	}
	var d document
	in := json.NewDecoder(bytes.NewReader(text))
	if err := in.Decode(&d); err != nil {
		return s, nil, jsonProblem(text, in, err)
	}
	if _, err := in.Token(); !errors.Is(err, io.EOF) {
		return s, nil, Problem{place(text, in.InputOffset()), "something stands behind the document"}
	}
	if d.Estate != 1 {
		return s, nil, Problem{"estate", fmt.Sprintf("the form of the document is %d; this program reads 1", d.Estate)}
	}
	t := &taker{}
	t.take(&s, &d)
	return s, t.problems, nil
}

// jsonProblem tells where the JSON is wrong, and what.
func jsonProblem(text []byte, in *json.Decoder, err error) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		return Problem{place(text, syntax.Offset), sanitize.Line(syntax.Error(), 120)}
	case errors.As(err, &kind):
		return Problem{place(text, kind.Offset), fmt.Sprintf("%s is wanted at %s, not %s", goKinds[kind.Type.Kind().String()], sanitize.Line(kind.Field, 80), sanitize.Line(kind.Value, 20))}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return Problem{place(text, int64(len(text))), "the document ends before it is whole"}
	}
	return Problem{place(text, in.InputOffset()), sanitize.Line(err.Error(), 120)}
}

var goKinds = map[string]string{"string": "a text", "int": "a number", "bool": "true or false", "slice": "a list", "map": "an object", "struct": "an object"}

// place is the line and column of an offset, both from 1.
func place(text []byte, offset int64) string {
	before := text[:min(max(offset-1, 0), int64(len(text)))]
	return fmt.Sprintf("%d:%d", 1+bytes.Count(before, []byte("\n")), len(before)-bytes.LastIndexByte(before, '\n'))
}

// taker takes a document and collects what is wrong with it.
type taker struct {
	problems []Problem
	at       string
}

func (t *taker) wrong(field, format string, args ...any) {
	if len(t.problems) < maxProblems {
		at := t.at
		if field != "" {
			at += "." + field
		}
		t.problems = append(t.problems, Problem{strings.TrimPrefix(at, "."), fmt.Sprintf(format, args...)})
	}
}

// text is a text made safe to show.
func (t *taker) text(field, s string) string {
	safe := sanitize.Line(s, maxText)
	if safe != s {
		t.wrong(field, "it holds control characters, is padded with blanks, or is longer than %d characters", maxText)
	}
	return safe
}

func (t *taker) texts(field string, list []string) []string {
	var out []string
	for _, s := range list {
		out = append(out, t.text(field, s))
	}
	return out
}

func (t *taker) addr(field, s string) (netip.Addr, bool) {
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		t.wrong(field, "%q is no IP address", sanitize.Line(s, 60))
		return netip.Addr{}, false
	}
	return a.Unmap(), true
}

func (t *taker) prefix(field, s string) (netip.Prefix, bool) {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		t.wrong(field, "%q is no range of addresses, like 10.61.0.0/16", sanitize.Line(s, 60))
		return netip.Prefix{}, false
	}
	return p.Masked(), true
}

var (
	states = map[string]State{"running": Running, "starting": Starting, "stopping": Stopping, "stopped": Stopped, "ended": Ended, "failed": Failed, "unknown": UnknownState}
	checks = map[string]Checks{"passed": Passed, "initializing": Initializing, "failing": Failing, "none": None, "": None, "unknown": UnknownChecks}
)

func (t *taker) take(s *Snapshot, d *document) {
	known := map[string]bool{}
	networks := map[string]bool{}
	for i, n := range d.Networks {
		t.at = fmt.Sprintf("networks[%d]", i)
		one := Network{ID: t.text("id", n.ID), Name: t.text("name", n.Name), External: n.External}
		for _, c := range n.CIDRs {
			if p, ok := t.prefix("cidrs", c); ok {
				one.CIDRs = append(one.CIDRs, p)
			}
		}
		networks[one.ID] = true
		s.Networks = append(s.Networks, one)
	}
	for i, in := range d.Instances {
		t.at = fmt.Sprintf("instances[%d]", i)
		one := Instance{
			ID: t.text("id", in.ID), Name: t.text("name", in.Name), Image: t.text("image", in.Image), KeyPair: t.text("key_pair", in.KeyPair),
			Groups: t.texts("groups", in.Groups), Size: t.text("size", in.Size), Wrong: t.text("wrong", in.Wrong), Tags: map[string]string{},
		}
		switch {
		case one.ID == "":
			t.wrong("id", "an instance has to have one; it is left out")
			continue
		case known[one.ID]:
			t.wrong("id", "%s is there twice; the second is left out", one.ID)
			continue
		}
		known[one.ID] = true
		for k, v := range in.Tags {
			one.Tags[t.text("tags", k)] = t.text("tags", v)
		}
		var ok bool
		if one.State, ok = states[in.State]; !ok {
			one.State = UnknownState
			t.wrong("state", "%q is no state; there are running, starting, stopping, stopped, ended, failed, unknown", sanitize.Line(in.State, 40))
		}
		if one.Checks, ok = checks[in.Checks]; !ok {
			one.Checks = UnknownChecks
			t.wrong("checks", "%q is nothing that checks say; there are passed, initializing, failing, none, unknown", sanitize.Line(in.Checks, 40))
		}
		if in.Launched != "" {
			at, err := time.Parse(time.RFC3339, in.Launched)
			if err != nil {
				t.wrong("launched", "%q is no time, like 2026-10-12T09:30:00Z (RFC 3339)", sanitize.Line(in.Launched, 40))
			}
			one.Launched = at
		}
		for n, a := range in.Addresses {
			ip, ok := t.addr(fmt.Sprintf("addresses[%d].ip", n), a.IP)
			if !ok {
				continue
			}
			if a.Network != "" && !networks[a.Network] && len(networks) > 0 {
				t.wrong(fmt.Sprintf("addresses[%d].network", n), "there is no network %s", sanitize.Line(a.Network, 40))
			}
			one.Addresses = append(one.Addresses, Address{ip, t.text("addresses", a.Network), a.Outside})
		}
		s.Instances = append(s.Instances, one)
	}
	t.takeRest(s, d)
}

// takeRest takes what stands around the instances.
func (t *taker) takeRest(s *Snapshot, d *document) {
	for i, k := range d.KeyPairs {
		t.at = fmt.Sprintf("key_pairs[%d]", i)
		s.KeyPairs = append(s.KeyPairs, KeyPair{t.text("name", k.Name), t.text("fingerprint", k.Fingerprint), t.text("kind", k.Kind)})
	}
	for i, m := range d.Images {
		t.at = fmt.Sprintf("images[%d]", i)
		s.Images = append(s.Images, Image{t.text("id", m.ID), t.text("name", m.Name), t.text("family", m.Family), t.text("login", m.Login)})
	}
	for i, n := range d.Subnets {
		t.at = fmt.Sprintf("subnets[%d]", i)
		if p, ok := t.prefix("cidr", n.CIDR); ok {
			s.Subnets = append(s.Subnets, Subnet{t.text("id", n.ID), t.text("name", n.Name), t.text("network", n.Network), p})
		}
	}
	for i, r := range d.Routers {
		t.at = fmt.Sprintf("routers[%d]", i)
		s.Routers = append(s.Routers, Router{t.text("id", r.ID), t.text("name", r.Name), t.texts("networks", r.Networks), r.Outside})
	}
	for i, p := range d.Peerings {
		t.at = fmt.Sprintf("peerings[%d]", i)
		if len(p.Networks) != 2 {
			t.wrong("networks", "a peering joins two networks, not %d", len(p.Networks))
			continue
		}
		s.Peerings = append(s.Peerings, Peering{t.text("id", p.ID), t.texts("networks", p.Networks)})
	}
	for i, r := range d.Reservations {
		t.at = fmt.Sprintf("reservations[%d]", i)
		if ip, ok := t.addr("ip", r.IP); ok {
			s.Reservations = append(s.Reservations, Reservation{ip, t.text("instance", r.Instance)})
		}
	}
	for i, g := range d.Groups {
		group := Group{}
		t.at = fmt.Sprintf("groups[%d]", i)
		group.ID, group.Name = t.text("id", g.ID), t.text("name", g.Name)
		for n, r := range g.Rules {
			t.at = fmt.Sprintf("groups[%d].rules[%d]", i, n)
			rule := Rule{Protocol: t.text("protocol", r.Protocol), Group: t.text("group", r.Group), Inbound: r.Direction == "in"}
			if r.Direction != "in" && r.Direction != "out" {
				t.wrong("direction", "%q is neither in nor out", sanitize.Line(r.Direction, 20))
				continue
			}
			var ok bool
			if rule.From, rule.To, ok = ports(r.Ports); !ok {
				t.wrong("ports", "%q are no ports, like 22, 8000-8100, or nothing for all", sanitize.Line(r.Ports, 40))
				continue
			}
			switch {
			case (r.CIDR == "") == (r.Group == ""):
				t.wrong("", "a rule is for a cidr or for a group")
				continue
			case r.CIDR != "":
				if rule.CIDR, ok = t.prefix("cidr", r.CIDR); !ok {
					continue
				}
			}
			group.Rules = append(group.Rules, rule)
		}
		s.Groups = append(s.Groups, group)
	}
}

// ports are those of "22", "8000-8100" or "" for all.
func ports(s string) (from, to uint16, ok bool) {
	if s == "" {
		return 0, 65535, true
	}
	one, other, two := strings.Cut(s, "-")
	if !two {
		other = one
	}
	var a, b uint16
	if _, err := fmt.Sscanf(one+" "+other+" .", "%d %d .", &a, &b); err != nil || a > b {
		return 0, 0, false
	}
	return a, b, true
}
