package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Policy is a text that was read.
type Policy struct {
	File   string // its name in what is said of it
	people map[string]*person
	known  map[Mark]string // whose a mark is
	groups map[string]*group
	rules  []*Rule
	limits []*limit
	reads  []*Rule             // who may read the record; What is not set
	enrols []*Rule             // who may have machines trust an issuer, the same way
	named  map[string]*Rule    // rules by what they are called
	of     map[string]*ruleset // the rules of each person
	zone   *time.Location      // the last one that is named
}

// Kind is by what a person is known.
type Kind string

// The kinds.
const (
	ByKey         Kind = "key"         // the SHA-256 fingerprint of a key (RFC 4253 section 6.6), "SHA256:" and base64
	ByCertificate Kind = "certificate" // the e-mail address or the common name in a client certificate
	ByToken       Kind = "token"       // the subject or the e-mail address in a bearer token
)

// Mark is one thing that a person is known by.
type Mark struct {
	Kind Kind
	Text string
}

type person struct {
	name string
	line int
}

type group struct {
	name  string
	of    []string // people and groups
	line  int
	every map[string]bool // people, of groups in it too
}

// Rule is one line that allows or denies.
type Rule struct {
	Deny   bool
	Who    []string // people, groups, or "everyone"
	What   []string // patterns of names, "tag:NAME" and the like, or "anything"
	As     []string // patterns of logins; none is about whether a machine may be reached, and of a denial about every login, too
	When   When     // the zero value is always
	From   []netip.Prefix
	Terms  Terms
	Called string // "" for none
	Line   int
	Text   string // as written
}

// Name is how a rule is named in what is said of it.
func (r *Rule) Name() string {
	if r.Called != "" {
		return "rule " + r.Called
	}
	return fmt.Sprintf("line %d", r.Line)
}

// Machine is what a rule is asked of.
type Machine struct {
	Name     string
	Instance string // its id, "" where it is not known to be one
	Site     string
	Tags     []string
	Networks []string
}

// Question is what a policy is asked of a person.
type Question struct {
	Machine Machine
	Login   string     // as whom, "" for whether the machine may be reached
	From    netip.Addr // where the person is, the zero value where that is not known
	At      time.Time
}

// Decision is what a policy says, and by which line.
type Decision struct {
	Allowed bool
	Rule    *Rule   // that decides; nil where none says anything
	Near    []*Rule // that would allow at another time, or from elsewhere
	Why     string  // in a sentence
}

// ruleset are the rules of one person, those of one name apart.
type ruleset struct {
	named map[string][]*Rule
	rest  []*Rule // by pattern, or by tag
}

// Known is the person that a mark is of, "" for nobody.
func (p *Policy) Known(m Mark) string { return p.known[m] }

// Reads tells whether a person may read the record of what others did.
func (p *Policy) Reads(who string) bool {
	return slices.ContainsFunc(p.reads, func(r *Rule) bool { return slices.Contains(p.whoever(r.Who), who) })
}

// Enrols tells whether a person may have machines trust an issuer.
func (p *Policy) Enrols(who string) bool {
	return slices.ContainsFunc(p.enrols, func(r *Rule) bool { return slices.Contains(p.whoever(r.Who), who) })
}

// EnrolsAt reports whether a person may enrol a machine.
func (p *Policy) EnrolsAt(who string, m Machine) bool {
	return slices.ContainsFunc(p.enrols, func(r *Rule) bool { return slices.Contains(p.whoever(r.Who), who) && r.about(m) })
}

// MayCertify reports whether a person may have a machine's host key certified for a host name or address: for the machine's
// own name always, for others if a line allows them.
func (p *Policy) MayCertify(who string, m Machine, host string) bool {
	if host == m.Name {
		return p.EnrolsAt(who, m)
	}
	addr, err := netip.ParseAddr(host)
	for _, r := range p.enrols {
		if !slices.Contains(p.whoever(r.Who), who) || !r.about(m) {
			continue
		}
		if err == nil && slices.ContainsFunc(r.From, func(in netip.Prefix) bool { return in.Contains(addr) }) ||
			err != nil && slices.ContainsFunc(r.As, func(pattern string) bool { return matches(pattern, host) }) {
			return true
		}
	}
	return false
}

// Agreers are those who may agree to what a rule allows a person, in order. Nobody agrees to what is one's own.
func (p *Policy) Agreers(r *Rule, person string) []string {
	if r == nil || len(r.Terms.AgreedBy) == 0 {
		return nil
	}
	all := slices.DeleteFunc(p.whoever(r.Terms.AgreedBy), func(name string) bool { return name == person })
	slices.Sort(all)
	return all
}

// ValidMachine reports whether a word is a valid name of a machine: up to 64 letters, digits, dots, hyphens and underscores
// (ASCII, so that no two names look alike), beginning with a letter or digit, and no keyword of policies.
func ValidMachine(name string) bool {
	if name == "" || len(name) > 64 || name == anything || slices.Contains(parts, name) {
		return false
	}
	for i := range len(name) {
		c := name[i]
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		if !letter && (i == 0 || c != '.' && c != '-' && c != '_') {
			return false
		}
	}
	return true
}

// People are the names of everybody, in order.
func (p *Policy) People() []string {
	names := make([]string, 0, len(p.people))
	for name := range p.people {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Decide says whether a person may reach a machine, or log in there, at a moment. Of several rules that allow the
// first one holds; one that denies wins over all of them. Where a person is that is not known to be anywhere, rules
// that deny hold wherever they are for, and rules that allow from somewhere do not.
func (p *Policy) Decide(who string, q Question) Decision {
	if p.people[who] == nil {
		return Decision{Why: fmt.Sprintf("%s knows nobody called %s", p.File, who)}
	}
	var allows *Rule
	var near []*Rule
	for _, r := range p.rulesOf(who, q.Machine, q.Login) {
		now := r.When.holds(q.At) && r.from(q.From)
		switch {
		case now && r.Deny:
			return Decision{Rule: r, Why: fmt.Sprintf("%s:%d denies it: %s", p.File, r.Line, r.Text)}
		case now && allows == nil:
			allows = r
		case !now && !r.Deny:
			near = append(near, r)
		}
	}
	switch {
	case allows != nil:
		return Decision{Allowed: true, Rule: allows, Why: fmt.Sprintf("%s:%d allows it: %s", p.File, allows.Line, allows.Text)}
	case len(near) > 0:
		return Decision{Near: near, Why: fmt.Sprintf("%s:%d allows it at another time, or from elsewhere: %s", p.File, near[0].Line, near[0].Text)}
	}
	if q.Login != "" {
		return Decision{Why: fmt.Sprintf("no rule of %s lets %s log in as %s at %s", p.File, who, q.Login, q.Machine.Name)}
	}
	return Decision{Why: fmt.Sprintf("no rule of %s lets %s reach %s", p.File, who, q.Machine.Name)}
}

// from tells whether a rule is for where somebody is.
func (r *Rule) from(at netip.Addr) bool {
	if len(r.From) == 0 {
		return true
	}
	if !at.IsValid() {
		return r.Deny
	}
	return slices.ContainsFunc(r.From, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) })
}

// as tells whether a rule is about a login, "" for reaching a machine. What names logins allows to reach the machine,
// too, and denies them alone; what names none allows no login, and denies all.
func (r *Rule) as(login string) bool {
	if login == "" {
		return !r.Deny || len(r.As) == 0
	}
	if len(r.As) == 0 {
		return r.Deny
	}
	return slices.ContainsFunc(r.As, func(pattern string) bool { return matches(pattern, login) })
}

// rulesOf are the rules of a person that are about a login at a machine, "" for reaching it, in the order of the text.
func (p *Policy) rulesOf(who string, m Machine, login string) []*Rule {
	set := p.of[who]
	if set == nil {
		return nil
	}
	var found []*Rule
	for _, r := range set.named[m.Name] {
		if r.as(login) {
			found = append(found, r)
		}
	}
	for _, r := range set.rest {
		if r.as(login) && r.about(m) && !slices.Contains(found, r) {
			found = append(found, r)
		}
	}
	slices.SortFunc(found, func(a, b *Rule) int { return cmp.Compare(a.Line, b.Line) })
	return found
}

// about tells whether a rule is about a machine.
func (r *Rule) about(m Machine) bool {
	return slices.ContainsFunc(r.What, func(what string) bool { return fits(what, m) })
}

// fits tells whether a machine is what one word of a rule means.
func fits(what string, m Machine) bool {
	if what == anything {
		return true
	}
	if kind, name, ok := strings.Cut(what, ":"); ok {
		switch kind {
		case "tag":
			return slices.ContainsFunc(m.Tags, func(tag string) bool { return matches(name, tag) })
		case "network":
			return slices.ContainsFunc(m.Networks, func(network string) bool { return matches(name, network) })
		case "site":
			return m.Site != "" && matches(name, m.Site)
		case "instance":
			return m.Instance != "" && matches(name, m.Instance)
		}
		return false
	}
	return matches(what, m.Name)
}

// kinds are the words before a colon that mean machines by something else than their names.
var kinds = []string{"tag", "network", "site", "instance"}

// sort gives each person the rules that are about them.
func (p *Policy) sort() {
	p.of = map[string]*ruleset{}
	for _, r := range p.rules {
		for _, who := range p.whoever(r.Who) {
			set := p.of[who]
			if set == nil {
				set = &ruleset{named: map[string][]*Rule{}}
				p.of[who] = set
			}
			plain := true
			for _, what := range r.What {
				plain = plain && !strings.ContainsAny(what, "*?[\\:") && what != anything
			}
			if !plain {
				set.rest = append(set.rest, r)
				continue
			}
			for _, what := range r.What {
				set.named[what] = append(set.named[what], r)
			}
		}
	}
}

// whoever are the people that words of a rule mean.
func (p *Policy) whoever(words []string) []string {
	all := map[string]bool{}
	for _, word := range words {
		switch {
		case word == everyone:
			for name := range p.people {
				all[name] = true
			}
		case p.groups[word] != nil:
			for name := range p.groups[word].every {
				all[name] = true
			}
		default:
			all[word] = true
		}
	}
	names := make([]string, 0, len(all))
	for name := range all {
		names = append(names, name)
	}
	return names
}

// The words for all people and for all machines.
const (
	everyone = "everyone"
	anything = "anything"
)

// Limits are bounds of what goes through for one person, or to one machine. 0 is none.
type Limits struct {
	Connections int
	Streams     int
	Daily       int64 // bytes, both ways, from midnight to midnight UTC
}

type limit struct {
	who, what []string // one of them
	limits    Limits
	line      int
}

// LimitsOf are the bounds of a person: of several lines the narrowest of each.
func (p *Policy) LimitsOf(who string) (all Limits) {
	for _, l := range p.limits {
		if len(l.who) > 0 && slices.Contains(p.whoever(l.who), who) {
			all = all.narrow(l.limits)
		}
	}
	return all
}

// LimitsAt are the bounds of a machine.
func (p *Policy) LimitsAt(m Machine) (all Limits) {
	for _, l := range p.limits {
		if slices.ContainsFunc(l.what, func(what string) bool { return fits(what, m) }) {
			all = all.narrow(l.limits)
		}
	}
	return all
}

func (l Limits) narrow(o Limits) Limits {
	return Limits{narrower(l.Connections, o.Connections), narrower(l.Streams, o.Streams), narrower(l.Daily, o.Daily)}
}

func narrower[N int | int64](a, b N) N {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}
