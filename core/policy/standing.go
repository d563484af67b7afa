package policy

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Standing is what a person may at a machine whenever it is, as one login, or "" for reaching it.
type Standing struct {
	Person  string
	Login   string
	Machine string
	Rules   []*Rule // that allow it, in the order of the text, at some time or from somewhere
	Denied  *Rule   // that denies it at every time and from everywhere, nil for none
	But     []*Rule // that deny it at some time, or from somewhere
}

// May tells whether it is ever allowed.
func (s Standing) May() bool { return s.Denied == nil && len(s.Rules) > 0 }

// Standing is what a person may at a machine.
func (p *Policy) Standing(who string, m Machine, login string) Standing {
	s := Standing{Person: who, Login: login, Machine: m.Name}
	if p.people[who] == nil {
		return s
	}
	for _, r := range p.rulesOf(who, m, login) {
		switch {
		case !r.Deny:
			s.Rules = append(s.Rules, r)
		case r.bounded():
			s.But = append(s.But, r)
		case s.Denied == nil:
			s.Denied = r
		}
	}
	return s
}

// bounded tells whether a rule holds at some times, or from somewhere, alone.
func (r *Rule) bounded() bool { return r.When.String() != "" || len(r.From) > 0 }

// bounds says when and from where a rule holds, "" for always.
func (r *Rule) bounds() string {
	all := []string{}
	if when := r.When.String(); when != "" {
		all = append(all, when)
	}
	if len(r.From) > 0 {
		from := make([]string, len(r.From))
		for i, prefix := range r.From {
			from[i] = prefix.String()
		}
		all = append(all, "from "+strings.Join(from, " or "))
	}
	return strings.Join(all, ", ")
}

// Conditions say in a few words under which a standing holds.
func (s Standing) Conditions() string {
	if s.Denied != nil {
		return s.Denied.Name() + " denies it"
	}
	if len(s.Rules) == 0 {
		return "no rule allows it"
	}
	var all []string
	for _, r := range s.Rules {
		say := cmp.Or(r.bounds(), "always")
		if s.Login != "" {
			say += ", " + r.Terms.Say()
		}
		all = append(all, say+" ("+r.Name()+")")
		if !r.bounded() {
			break // those behind it never decide
		}
	}
	say := strings.Join(all, "; else ")
	for _, r := range s.But {
		say += "; not " + r.bounds() + " (" + r.Name() + ")"
	}
	return say
}

// Say says a standing in a sentence.
func (s Standing) Say() string {
	do := "reach " + s.Machine
	if s.Login != "" {
		do = "log in as " + s.Login + " at " + s.Machine
	}
	may := "may "
	if !s.May() {
		may = "may not "
	}
	return s.Person + " " + may + do + ": " + s.Conditions()
}

// means is what a standing comes to, whatever its rules are called and wherever they stand.
func (s Standing) means() string {
	if !s.May() {
		return ""
	}
	var b strings.Builder
	for _, r := range s.Rules {
		terms := r.Terms
		if s.Login == "" { // what a lease is like is nothing to whoever only gets there
			terms = Terms{}
		}
		fmt.Fprintf(&b, "allow %s %+v\n", r.bounds(), terms)
		if !r.bounded() {
			break
		}
	}
	var but []string
	for _, r := range s.But {
		but = append(but, r.bounds())
	}
	slices.Sort(but)
	return b.String() + strings.Join(but, "\n")
}

// Logins are the logins that rules of a person name at a machine, patterns as they are written, in order.
func (p *Policy) Logins(who string, m Machine) []string {
	set := p.of[who]
	if set == nil {
		return nil
	}
	logins := map[string]bool{}
	for _, rules := range [][]*Rule{set.named[m.Name], set.rest} {
		for _, r := range rules {
			if len(r.As) > 0 && r.about(m) {
				for _, login := range r.As {
					logins[login] = true
				}
			}
		}
	}
	return slices.Sorted(maps.Keys(logins))
}

// Can is what a person may log in as at machines, and what somebody denies there.
func (p *Policy) Can(who string, machines []Machine) []Standing {
	var all []Standing
	for _, m := range machines {
		for _, login := range p.Logins(who, m) {
			if s := p.Standing(who, m, login); s.May() || s.Denied != nil && (len(s.Rules) > 0 || len(s.Denied.As) > 0) {
				all = append(all, s)
			}
		}
	}
	return all
}

// WhoCan is who may log in as whom at a machine, and whom somebody denies that.
func (p *Policy) WhoCan(m Machine) []Standing {
	var all []Standing
	for _, who := range p.People() {
		all = append(all, p.Can(who, []Machine{m})...)
	}
	return all
}

// Change is what another policy changes for a person: as one login, at machines for which it is the same.
type Change struct {
	Person   string   `json:"person"`
	Login    string   `json:"login,omitempty"` // "" for reaching them
	Machines []string `json:"machines,omitempty"`
	Before   string   `json:"before,omitempty"` // "" for nothing
	Now      string   `json:"now,omitempty"`
	Known    bool     `json:"known,omitempty"` // by what the person is known, and nothing else, is another
}

// Say says a change in a sentence.
func (c Change) Say() string {
	if c.Known {
		switch {
		case c.Before == "":
			return fmt.Sprintf("%s is known now, by %s", c.Person, c.Now)
		case c.Now == "":
			return fmt.Sprintf("%s is known no longer, before by %s", c.Person, c.Before)
		}
		return fmt.Sprintf("%s is known by %s, before by %s", c.Person, c.Now, c.Before)
	}
	do := "reach "
	if c.Login != "" {
		do = "log in as " + c.Login + " at "
	}
	do += strings.Join(c.Machines, ", ")
	switch {
	case c.Before == "":
		return fmt.Sprintf("%s may now %s: %s", c.Person, do, c.Now)
	case c.Now == "":
		return fmt.Sprintf("%s may no longer %s; before: %s", c.Person, do, c.Before)
	}
	return fmt.Sprintf("%s may %s otherwise than before: %s; before: %s", c.Person, do, c.Now, c.Before)
}

// Compare is what a policy changes for whom, at machines, in place of another one, which may be nil.
func (p *Policy) Compare(before *Policy, machines []Machine) []Change {
	if before == nil {
		before = &Policy{}
	}
	people := map[string]bool{}
	for _, one := range []*Policy{before, p} {
		for name := range one.people {
			people[name] = true
		}
	}
	var all []Change
	for _, who := range slices.Sorted(maps.Keys(people)) {
		if a, b := before.marks(who), p.marks(who); a != b {
			all = append(all, Change{Person: who, Before: a, Now: b, Known: true})
		}
		at := map[string]int{} // where in all what is the same for several machines stands
		for _, m := range machines {
			logins := append(before.Logins(who, m), p.Logins(who, m)...)
			slices.Sort(logins)
			for _, login := range append([]string{""}, slices.Compact(logins)...) {
				a, b := before.Standing(who, m, login), p.Standing(who, m, login)
				if a.means() == b.means() {
					continue
				}
				c := Change{Person: who, Login: login}
				if a.May() {
					c.Before = a.Conditions()
				}
				if b.May() {
					c.Now = b.Conditions()
				}
				same := c.Login + "\n" + c.Before + "\n" + c.Now
				i, ok := at[same]
				if !ok {
					i = len(all)
					at[same] = i
					all = append(all, c)
				}
				all[i].Machines = append(all[i].Machines, m.Name)
			}
		}
	}
	return all
}

// marks says by what a person is known, "" for nobody that is.
func (p *Policy) marks(who string) string {
	var all []string
	for m, name := range p.known {
		if name == who {
			all = append(all, string(m.Kind)+" "+m.Text)
		}
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}

// ever tells whether something is allowed at some time, and whether at every one, as far as rules tell times apart.
func (p *Policy) ever(who string, q Question) (some, always bool) {
	always = true
	for _, at := range moments(p.rulesOf(who, q.Machine, q.Login)) {
		q.At = at
		if p.Decide(who, q).Allowed {
			some = true
		} else {
			always = false
		}
	}
	return some, always
}

// moments are times of a week between which rules do not change what they say.
func moments(rules []*Rule) []time.Time {
	all := []time.Time{aSunday}
	for _, r := range rules {
		zone := r.When.zone
		if zone == nil {
			zone = time.UTC
		}
		for day := range 7 {
			for _, minute := range []int{0, r.When.from, r.When.until} {
				all = append(all, time.Date(aSunday.Year(), aSunday.Month(), aSunday.Day()+day, 0, minute, 0, 0, zone))
			}
		}
	}
	return all
}

var aSunday = time.Date(2026, time.January, 4, 0, 0, 0, 0, time.UTC)
