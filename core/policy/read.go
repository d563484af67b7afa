package policy

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/base64"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known where the system has none
	"unicode/utf8"

	"meatus/core/rights"
	"meatus/core/sanitize"
)

// Mistake is something wrong in the text.
type Mistake struct {
	File   string
	Line   int
	Column int // in characters, from 1; 0 for the line as a whole
	Say    string
}

func (m Mistake) Error() string {
	if m.Column > 0 {
		return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.Say)
	}
	return fmt.Sprintf("%s:%d: %s", m.File, m.Line, m.Say)
}

// Mistakes are all of a text.
type Mistakes []Mistake

func (m Mistakes) Error() string {
	all := make([]string, len(m))
	for i := range m {
		all[i] = m[i].Error()
	}
	return strings.Join(all, "\n")
}

// maxText is how long a text may be, in bytes.
const maxText = 8 << 20

// Read reads the policy in a file. It fails with [Mistakes] where the text is wrong.
func Read(file string) (*Policy, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxText {
		return nil, fmt.Errorf("%s is longer than %d bytes", file, maxText)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(filepath.Base(file), text)
}

// reader turns lines into a policy.
type reader struct {
	*Policy
	line     int
	raw      string // the line as it stands
	zone     *time.Location
	mistakes Mistakes
}

// Parse reads a policy from memory; file is its name in what is said of it. It fails with [Mistakes].
func Parse(file string, text []byte) (*Policy, error) {
	p := &Policy{File: file, people: map[string]*person{}, known: map[Mark]string{}, groups: map[string]*group{}, named: map[string]*Rule{}}
	r := &reader{Policy: p, zone: time.UTC}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, maxText)
	for lines.Scan() {
		r.line++
		r.raw = lines.Text()
		if m, ok := strange(file, r.line, r.raw); ok {
			r.mistakes = append(r.mistakes, m)
		}
		line, _, _ := strings.Cut(r.raw, "#")
		if words := strings.Fields(line); len(words) > 0 {
			r.read(words)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	r.settle()
	if len(r.mistakes) > 0 {
		slices.SortStableFunc(r.mistakes, func(a, b Mistake) int { return a.Line - b.Line })
		return nil, r.mistakes
	}
	p.zone = r.zone
	p.sort()
	return p, nil
}

func (r *reader) wrong(format string, args ...any) { r.wrongAt(r.line, format, args...) }

func (r *reader) wrongAt(line int, format string, args ...any) {
	r.mistakes = append(r.mistakes, Mistake{File: r.File, Line: line, Say: fmt.Sprintf(format, args...)})
}

// wrongWord reports an error at a word, with its column.
func (r *reader) wrongWord(word, format string, args ...any) {
	m := Mistake{File: r.File, Line: r.line, Say: fmt.Sprintf(format, args...)}
	if i := strings.Index(r.raw, word); i >= 0 {
		m.Column = 1 + utf8.RuneCountInString(r.raw[:i])
	}
	r.mistakes = append(r.mistakes, m)
}

// strange finds a character that ends a line in editors and not in a policy: text after it would look like a rule and be
// part of a comment, or the other way round.
func strange(file string, line int, text string) (m Mistake, ok bool) {
	column := 0
	for i, c := range text {
		column++
		last := i+utf8.RuneLen(c) == len(text)
		switch {
		case c == '\t', c == '\r' && last: // the line ends of other systems
			continue
		case c == utf8.RuneError, c < ' ', c == 0x7f, c == 0x85, c == 0x2028, c == 0x2029, c == 0xfeff:
			return Mistake{File: file, Line: line, Column: column,
				Say: fmt.Sprintf("a character stands here (U+%04X) that is none of a text in lines: what stands behind it may look like a line of its own, and is none", c)}, true
		}
	}
	return m, false
}

// forms are the kinds of lines, each with how it is written.
var forms = map[string]string{
	"person": "person NAME key SHA256:… | certificate NAME | token SUBJECT",
	"group":  "group NAME PERSON-OR-GROUP...",
	"zone":   "zone Europe/Lisbon",
	"allow":  "allow WHO... to WHAT... [as LOGIN...] [on mon-fri] [at 08:00-18:00] [from ADDRESS...] [for 60s] [may shell tunnels...] [with reason source end] [agreed-by WHO...] [called NAME]",
	"deny":   "deny WHO... to WHAT... [as LOGIN...] [on mon-fri] [at 08:00-18:00] [from ADDRESS...] [called NAME]",
	"reads":  "reads WHO...",
	"enrols": "enrols WHO... [to WHAT...] [as HOST-OR-NETWORK...]",
	"limit":  "limit WHO... | machine WHAT... connections N streams N daily 10GB",
}

func (r *reader) read(words []string) {
	form := forms[words[0]]
	if form == "" {
		r.wrongWord(words[0], "a line begins with person, group, zone, allow, deny, reads, enrols or limit, and not with %q", shown(words[0]))
		return
	}
	if len(words) < 2 {
		r.wrong("something is missing; write it like: %s", form)
		return
	}
	switch words[0] {
	case "person":
		r.person(words[1:])
	case "group":
		r.group(words[1:])
	case "zone":
		zone, err := time.LoadLocation(words[1])
		if err != nil || len(words) > 2 || words[1] == "Local" {
			r.wrong("%q is no time zone; write it like: %s", shown(strings.Join(words[1:], " ")), form)
			return
		}
		r.zone = zone
	case "limit":
		r.limit(words[1:])
	case "reads":
		r.reads = append(r.reads, &Rule{Who: words[1:], Line: r.line, Text: strings.Join(words, " ")})
	case "enrols":
		r.enrolling(words)
	default:
		r.rule(words)
	}
}

// enrolling reads who may have which machines trust an issuer, and for which hosts their keys may be certified besides their
// names: patterns in As, networks in From.
func (r *reader) enrolling(words []string) {
	rule := &Rule{What: []string{anything}, Line: r.line, Text: strings.Join(words, " ")}
	rest := words[1:]
	if as := slices.Index(rest, "as"); as >= 0 {
		if as == len(rest)-1 {
			r.wrongWord("as", "for which hosts is missing; write it like: %s", forms["enrols"])
			return
		}
		for _, word := range rest[as+1:] {
			prefix, err := netip.ParsePrefix(word)
			if addr, aerr := netip.ParseAddr(word); aerr == nil && addr.Zone() == "" {
				prefix, err = addr.Prefix(addr.BitLen())
			}
			switch {
			case err == nil:
				rule.From = append(rule.From, prefix.Masked())
			case strings.Trim(word, "*?") == "" || strings.Contains(word, "/") || validPattern(word) != nil:
				r.wrongWord(word, "%q would be any host, or is none; write it like *.reef.example or 10.61.0.0/16", shown(word))
				return
			default:
				rule.As = append(rule.As, word)
			}
		}
		rest = rest[:as]
	}
	if to := slices.Index(rest, "to"); to >= 0 {
		if rule.What = rest[to+1:]; len(rule.What) == 0 || !r.whatIs(rule.What) {
			r.wrongWord("to", "to what is missing; write it like: %s", forms["enrols"])
			return
		}
		rest = rest[:to]
	}
	if rule.Who = rest; len(rest) == 0 {
		r.wrong("who is missing; write it like: %s", forms["enrols"])
		return
	}
	r.enrols = append(r.enrols, rule)
}

func shown(s string) string { return sanitize.Line(s, 60) }

// validName tells whether a person or a group can be called so.
func validName(name string) bool {
	return len(name) <= 64 && name != everyone && name != "machine" && name != "to" && !strings.ContainsAny(name, "*?[]\\:,\"'") && sanitize.Line(name, 65) == name
}

// name takes the name of a new person or group.
func (r *reader) name(name string) bool {
	if !validName(name) {
		r.wrong("%q cannot be a name: use letters, digits, dots, hyphens and underscores", shown(name))
		return false
	}
	if g := r.groups[name]; g != nil {
		r.wrong("%q is a group already, on line %d", name, g.line)
		return false
	}
	return true
}

// person reads what somebody is known by. Several lines may say something of one.
func (r *reader) person(words []string) {
	name := words[0]
	if !r.name(name) {
		return
	}
	if r.people[name] == nil {
		r.people[name] = &person{name, r.line}
	}
	for words = words[1:]; len(words) > 0; words = words[min(2, len(words)):] {
		kind := Kind(words[0])
		if kind != ByKey && kind != ByCertificate && kind != ByToken || len(words) < 2 {
			r.wrong("%q: write it like: %s", shown(strings.Join(words, " ")), forms["person"])
			return
		}
		if kind == ByKey {
			digest, ok := strings.CutPrefix(words[1], "SHA256:")
			if sum, err := base64.RawStdEncoding.DecodeString(digest); !ok || err != nil || len(sum) != 32 {
				r.wrong("%q is no fingerprint of a key; write it like SHA256:…, as the place Keys shows it", shown(words[1]))
				return
			}
		}
		mark := Mark{kind, words[1]}
		if other := r.known[mark]; other != "" && other != name {
			r.wrong("%s is known by the same %s", other, kind)
			return
		}
		r.known[mark] = name
	}
}

func (r *reader) group(words []string) {
	name := words[0]
	switch {
	case !r.name(name):
	case r.people[name] != nil:
		r.wrong("%q is a person already, on line %d", name, r.people[name].line)
	case len(words) < 2:
		r.wrong("nobody is in the group %s; write it like: %s", name, forms["group"])
	default:
		r.groups[name] = &group{name: name, of: words[1:], line: r.line}
	}
}

// rule reads a line that allows or denies.
func (r *reader) rule(words []string) {
	rule := &Rule{Deny: words[0] == "deny", Line: r.line, Text: strings.Join(words, " "), When: When{zone: r.zone}}
	to := slices.Index(words, "to")
	if to < 2 || to == len(words)-1 {
		r.wrong("who and what are missing; write it like: %s", forms[words[0]])
		return
	}
	rule.Who = words[1:to]
	rest := words[to+1:]
	next := func(words []string) int {
		if end := slices.IndexFunc(words, func(w string) bool { return slices.Contains(parts, w) }); end >= 0 {
			return end
		}
		return len(words)
	}
	end := next(rest)
	rule.What = rest[:end]
	if len(rule.What) == 0 {
		r.wrong("to what is missing; write it like: %s", forms[words[0]])
		return
	}
	if !r.whatIs(rule.What) {
		return
	}
	seen := map[string]bool{}
	for rest = rest[end:]; len(rest) > 0; {
		part := rest[0]
		end := 1 + next(rest[1:])
		var values []string
		values, rest = rest[1:end], rest[end:]
		err := r.part(rule, part, values)
		if seen[part] && err == nil {
			err = fmt.Errorf("%q is said twice", part)
		}
		seen[part] = true
		if err != nil {
			word := part
			for _, v := range values {
				if strings.Contains(err.Error(), shown(v)) {
					word = v
				}
			}
			r.wrongWord(word, "%s", err)
			return
		}
	}
	if !rule.Deny {
		t := &rule.Terms
		if len(rule.As) == 0 && (t.Life > 0 || t.May != 0 || t.Reason || t.Source || t.Ends || len(t.AgreedBy) > 0) {
			r.wrong("what a lease is like is said, and for no login; write as LOGIN, too")
			return
		}
		t.Life, t.May = cmp.Or(t.Life, DefaultLife), cmp.Or(t.May, rights.Shell)
	}
	r.rules = append(r.rules, rule)
}

// parts are the words that begin the parts of a rule behind the machines. No machine can be called so.
var parts = []string{"as", "on", "at", "from", "for", "may", "with", "agreed-by", "called"}

// part reads one part of a rule.
func (r *reader) part(rule *Rule, part string, values []string) (err error) {
	lone := part == "on" || part == "at" || part == "for" || part == "called"
	if len(values) == 0 || lone && len(values) > 1 {
		return fmt.Errorf("%q is not understood; write it like: %s", shown(strings.Join(append([]string{part}, values...), " ")), forms[strings.Fields(rule.Text)[0]])
	}
	if rule.Deny && slices.Contains([]string{"for", "may", "with", "agreed-by"}, part) {
		return fmt.Errorf("a deny rule has no terms of certificates: remove %q", part)
	}
	switch part {
	case "as":
		for _, login := range values {
			if validPattern(login) != nil || len(login) > 64 || strings.ContainsAny(login, "@,:") {
				return fmt.Errorf("%q is no login, and no pattern of logins", shown(login))
			}
		}
		rule.As = values
	case "on":
		err = rule.When.readDays(values[0])
	case "at":
		err = rule.When.readHours(values[0])
	case "from":
		for _, v := range values {
			prefix, perr := netip.ParsePrefix(v)
			if addr, aerr := netip.ParseAddr(v); aerr == nil && addr.Zone() == "" {
				prefix, perr = addr.Prefix(addr.BitLen())
			}
			if perr == nil && prefix.Addr().Is4In6() { // people are known to come from the IPv4 address in it
				if prefix, perr = prefix.Addr().Unmap().Prefix(prefix.Bits() - 96); perr != nil {
					return fmt.Errorf("%q is a network of IPv4 addresses and of others; write the IPv4 network alone", shown(v))
				}
			}
			if strings.Contains(v, "%") {
				return fmt.Errorf("%q has a zone, which whoever comes is not known by; leave it out", shown(v))
			}
			if perr != nil {
				return fmt.Errorf("%q is no address, and no network; write it like 203.0.113.0/24", shown(v))
			}
			rule.From = append(rule.From, prefix.Masked())
		}
	case "for":
		err = rule.Terms.readLife(values[0])
	case "may":
		err = rule.Terms.readMay(values)
	case "with":
		err = rule.Terms.readWith(values)
	case "agreed-by":
		rule.Terms.AgreedBy = values
	case "called":
		rule.Called = values[0]
		if !validName(rule.Called) {
			return fmt.Errorf("%q cannot be a name: use letters, digits, dots, hyphens and underscores", shown(rule.Called))
		}
		if other := r.named[rule.Called]; other != nil {
			return fmt.Errorf("the rule on line %d is called %s, too", other.Line, rule.Called)
		}
		r.named[rule.Called] = rule
	}
	return err
}

// whatIs tells whether words can mean machines.
func (r *reader) whatIs(words []string) bool {
	for _, word := range words {
		if validPattern(word) != nil {
			r.wrongWord(word, "%q is no pattern", shown(word))
			return false
		}
		if kind, name, ok := strings.Cut(word, ":"); ok && (!slices.Contains(kinds, kind) || name == "") {
			r.wrongWord(word, "%q: machines are meant by name, by pattern, or by tag:NAME, network:NAME, site:NAME or instance:ID", shown(word))
			return false
		}
	}
	return true
}

// limit reads bounds.
func (r *reader) limit(words []string) {
	end := slices.IndexFunc(words, func(w string) bool { return w == "connections" || w == "streams" || w == "daily" })
	l := &limit{line: r.line}
	if end < 1 || words[0] == "machine" && end < 2 {
		r.wrong("write it like: %s", forms["limit"])
		return
	}
	if l.who = words[:end]; words[0] == "machine" {
		l.who, l.what = nil, words[1:end]
		if !r.whatIs(l.what) {
			return
		}
	}
	for rest := words[end:]; len(rest) > 0; rest = rest[2:] {
		if len(rest) < 2 {
			r.wrong("how many %s is missing", shown(rest[0]))
			return
		}
		n, err := strconv.Atoi(rest[1])
		bad := err != nil || n < 1
		switch rest[0] {
		case "connections":
			l.limits.Connections = n
			if len(l.what) > 0 {
				r.wrongWord("connections", "a machine has one connection, which no limit is for; write streams or daily")
				return
			}
		case "streams":
			l.limits.Streams = n
		case "daily":
			l.limits.Daily, bad = bytesOf(rest[1])
			bad = !bad
		default:
			r.wrong("%q is no limit; there are connections, streams and daily", shown(rest[0]))
			return
		}
		if bad {
			r.wrong("%q is no %s", shown(rest[1]), rest[0])
			return
		}
	}
	r.limits = append(r.limits, l)
}

// bytesOf reads "10GB", in powers of ten.
func bytesOf(text string) (int64, bool) {
	for unit, size := range map[string]int64{"kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12} {
		if number, ok := strings.CutSuffix(text, unit); ok {
			n, err := strconv.ParseInt(number, 10, 32)
			return n * size, err == nil && n > 0
		}
	}
	return 0, false
}

// settle finds who is in each group, and words that mean nobody.
func (r *reader) settle() {
	var in func(g *group, above []string) map[string]bool
	in = func(g *group, above []string) map[string]bool {
		if g.every != nil {
			return g.every
		}
		if slices.Contains(above, g.name) {
			r.wrongAt(g.line, "the group %s is in itself: %s", g.name, strings.Join(append(above, g.name), " → "))
			g.every = map[string]bool{}
			return g.every
		}
		all := map[string]bool{}
		for _, name := range g.of {
			switch {
			case r.people[name] != nil:
				all[name] = true
			case r.groups[name] != nil:
				for one := range in(r.groups[name], append(slices.Clip(above), g.name)) {
					all[one] = true
				}
			default:
				r.wrongAt(g.line, "there is nobody called %q", shown(name))
			}
		}
		g.every = all
		return all
	}
	names := make([]string, 0, len(r.groups))
	for name := range r.groups {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		in(r.groups[name], nil)
	}
	known := func(line int, who []string) {
		for _, name := range who {
			if name != everyone && r.people[name] == nil && r.groups[name] == nil {
				r.wrongAt(line, "there is nobody called %q", shown(name))
			}
		}
	}
	for _, rule := range slices.Concat(r.rules, r.reads, r.enrols) {
		known(rule.Line, rule.Who)
		known(rule.Line, rule.Terms.AgreedBy)
	}
	for _, l := range r.limits {
		known(l.line, l.who)
	}
}
