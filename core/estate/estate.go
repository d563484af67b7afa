// Package estate is what is known of the instances that sessions lead to: what they are, how they
// stand today, and the networks, key pairs, images and groups of rules around them.
//
// A [Snapshot] does not change once it is made. It promises that no text in it holds control
// characters, so that what a source says can be shown as it is. Sources are read by [Read]; what
// was read last is kept on disk, so that a failing source leaves what was known, with its age.
package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// State is how an instance stands, in the trade's words.
type State string

// The states. What a source calls otherwise is Unknown.
const (
	Running      State = "running"
	Starting     State = "starting"
	Stopping     State = "stopping"
	Stopped      State = "stopped"
	Ended        State = "ended"
	Failed       State = "failed"
	UnknownState State = "unknown"
)

// Checks is what the start-up checks of an instance say.
type Checks string

// What they can say. None is for a source that has no checks.
const (
	Passed        Checks = "passed"
	Initializing  Checks = "initializing"
	Failing       Checks = "failing"
	None          Checks = "none"
	UnknownChecks Checks = "unknown"
)

// Address is one address of an instance.
type Address struct {
	IP      netip.Addr `json:"ip"`
	Network string     `json:"network"` // its id, "" where that is not known
	Outside bool       `json:"outside"` // it is reached from other networks
}

// Instance is one machine.
type Instance struct {
	ID        string            `json:"id"`
	Name      string            `json:"name"`
	Tags      map[string]string `json:"tags"`
	State     State             `json:"state"`
	Checks    Checks            `json:"checks"`
	Image     string            `json:"image"`    // its id
	KeyPair   string            `json:"key_pair"` // its name
	Addresses []Address         `json:"addresses"`
	Groups    []string          `json:"groups"`         // their ids
	Launched  time.Time         `json:"launched"`       // zero where that is not known
	Size      string            `json:"size,omitempty"` // its name
	Wrong     string            `json:"wrong,omitempty"`
}

// KeyPair is a pair whose public half instances are made with.
type KeyPair struct {
	Name        string `json:"name"`
	Fingerprint string `json:"fingerprint"`
	Kind        string `json:"kind"`
}

// Image is what an instance is made from.
type Image struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Family string `json:"family"`
	Login  string `json:"login"` // the usual one of its family, "" where that is not known
}

// Network is one that instances have addresses in.
type Network struct {
	ID    string         `json:"id"`
	Name  string         `json:"name"`
	CIDRs []netip.Prefix `json:"cidrs"`

	External bool `json:"external,omitempty"` // it is what is outside
}

// Subnet is a part of a network.
type Subnet struct {
	ID      string       `json:"id"`
	Name    string       `json:"name"`
	Network string       `json:"network"`
	CIDR    netip.Prefix `json:"cidr"`
}

// Router joins networks, or networks with what is outside.
type Router struct {
	ID       string   `json:"id"`
	Name     string   `json:"name"`
	Networks []string `json:"networks"`
	Outside  bool     `json:"outside"`
}

// Peering joins two networks.
type Peering struct {
	ID       string   `json:"id"`
	Networks []string `json:"networks"` // two
}

// Reservation is an address that stays with one instance, "" for none yet.
type Reservation struct {
	IP       netip.Addr `json:"ip"`
	Instance string     `json:"instance"`
}

// Rule lets something in, or out: from a range of addresses or from a group.
type Rule struct {
	Inbound  bool         `json:"inbound"`
	Protocol string       `json:"protocol"` // "tcp", "udp", "icmp", or "any"
	From     uint16       `json:"from"`     // ports, both inclusive; 0 and 65535 for all
	To       uint16       `json:"to"`
	CIDR     netip.Prefix `json:"cidr,omitzero"`
	Group    string       `json:"group,omitempty"`  // its id, in place of a range
	Family   int          `json:"family,omitempty"` // of addresses, 4 or 6, where a rule for a group is about one alone
}

// Group is a set of rules that instances are in.
type Group struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Rules []Rule `json:"rules"`
}

// Snapshot is an estate at a moment.
type Snapshot struct {
	Instances    []Instance    `json:"instances"`
	KeyPairs     []KeyPair     `json:"key_pairs,omitempty"`
	Images       []Image       `json:"images,omitempty"`
	Networks     []Network     `json:"networks,omitempty"`
	Subnets      []Subnet      `json:"subnets,omitempty"`
	Routers      []Router      `json:"routers,omitempty"`
	Peerings     []Peering     `json:"peerings,omitempty"`
	Reservations []Reservation `json:"reservations,omitempty"`
	Groups       []Group       `json:"groups,omitempty"`
}

// Instance is the one of an id, nil where there is none.
func (s *Snapshot) Instance(id string) *Instance {
	for i := range s.Instances {
		if s.Instances[i].ID == id {
			return &s.Instances[i]
		}
	}
	return nil
}

// NetworkName is what a network is called, its id where it has no name.
func (s *Snapshot) NetworkName(id string) string {
	for _, n := range s.Networks {
		if n.ID == id && n.Name != "" {
			return n.Name
		}
	}
	return id
}

// ImageOf is the image that an instance was made from; ok is false where that is not known.
func (s *Snapshot) ImageOf(i *Instance) (m Image, ok bool) {
	n := slices.IndexFunc(s.Images, func(m Image) bool { return m.ID == i.Image })
	if i.Image == "" || n < 0 {
		return m, false
	}
	return s.Images[n], true
}

// KeyPairOf is the key pair of an instance, with its name alone where nothing else is known of it.
func (s *Snapshot) KeyPairOf(i *Instance) KeyPair {
	if n := slices.IndexFunc(s.KeyPairs, func(p KeyPair) bool { return p.Name == i.KeyPair }); n >= 0 {
		return s.KeyPairs[n]
	}
	return KeyPair{Name: i.KeyPair}
}

// called is an instance in words: its name, or its id where it has none.
func (i Instance) called() string {
	if i.Name == "" {
		return i.ID
	}
	return i.Name
}

// Sentences are the rules that an instance's groups let things in and out by, each as a sentence.
func (s *Snapshot) Sentences(i *Instance) []string {
	var all []string
	for _, id := range i.Groups {
		for _, g := range s.Groups {
			if g.ID != id {
				continue
			}
			name := g.Name
			if name == "" {
				name = g.ID
			}
			for _, r := range g.Rules {
				all = append(all, name+": "+s.Sentence(r))
			}
		}
	}
	return all
}

// LetsIn tells whether any rule of an instance lets anybody in.
func (s *Snapshot) LetsIn(i *Instance) bool {
	return slices.ContainsFunc(s.Groups, func(g Group) bool {
		return slices.Contains(i.Groups, g.ID) && slices.ContainsFunc(g.Rules, func(r Rule) bool { return r.Inbound })
	})
}

// Sentence is a rule in words: "lets in tcp 22 from everybody (0.0.0.0/0)".
func (s *Snapshot) Sentence(r Rule) string { return r.Sentence(s.groupName(r.Group)) }

// Sentence is the rule in words, with what the group that it names is called.
func (r Rule) Sentence(group string) string {
	say, way := "lets out ", "to "
	if r.Inbound {
		say, way = "lets in ", "from "
	}
	switch {
	case r.Protocol == "any" || r.Protocol == "":
		say += "anything"
	case r.From == 0 && r.To == 65535:
		say += "all " + r.Protocol
	case r.From == r.To:
		say += fmt.Sprintf("%s %d", r.Protocol, r.From)
	default:
		say += fmt.Sprintf("%s %d-%d", r.Protocol, r.From, r.To)
	}
	switch {
	case r.Group != "":
		return say + " " + way + "whoever is in " + group
	case r.CIDR.Bits() == 0:
		return say + " " + way + "everybody (" + r.CIDR.String() + ")"
	}
	return say + " " + way + r.CIDR.String()
}

// protocols are numbers of protocols (IANA) by the names that rules have for them.
var protocols = map[string]string{"1": "icmp", "6": "tcp", "17": "udp", "58": "icmpv6", "ipv6-icmp": "icmpv6", "": "any"}

// protocol is a rule's protocol by one name: "any" for every one.
func protocol(said string) string {
	said = strings.ToLower(said)
	if name, ok := protocols[said]; ok {
		return name
	}
	return said
}

// Proto is the rule's protocol by one name: "tcp" for "TCP" and for "6", "any" for every one.
func (r Rule) Proto() string { return protocol(r.Protocol) }

// About tells whether a rule is about a port of a protocol. What is called a port range of ICMP rules is
// something else, and ranges that go backwards hold nothing.
func (r Rule) About(name string, port uint16) bool {
	name, of := protocol(name), protocol(r.Protocol)
	switch {
	case of != "any" && of != name:
		return false
	case name == "icmp" || name == "icmpv6":
		return true
	}
	return r.From <= port && port <= r.To
}
