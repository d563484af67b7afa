package book

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"path"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"meatus/core/loopback"
	"meatus/core/sanitize"
)

// Tunnel is one tunnel as written: exactly one of Bring, Lend and Roam is set, to
// where its listener is; Reach is where it leads, and empty for Roam.
type Tunnel struct {
	Bring, Lend, Roam, Reach string

	// Of a roaming listener, lists parted by blanks of what [Destination] takes: the only
	// destinations it leads to, all where empty; and those it connects to from here
	// instead of from the far side.
	Only, Direct string
	// Login is the user that programs have to name at a roaming listener, with a password
	// that is never kept; nobody where empty.
	Login string

	// Share, "true", lets programs of other accounts of this machine use a listener here,
	// which is for those of this account alone otherwise.
	Share string

	// Idle is after how long without a flow the listener closes, "30m"; never where empty.
	// Rate is how many bytes a second pass at most each way, "500kB"; all where empty.
	Idle, Rate string
}

// tunnelRule is what can be said of a tunnel beside where it leads.
type tunnelRule struct {
	word string
	list bool // a list in TOML, parted by blanks in a line
	flag bool // true in TOML, the word alone in a line
	of   func(*Tunnel) *string
}

var tunnelRules = []tunnelRule{
	{word: "only", list: true, of: func(t *Tunnel) *string { return &t.Only }},
	{word: "direct", list: true, of: func(t *Tunnel) *string { return &t.Direct }},
	{word: "login", of: func(t *Tunnel) *string { return &t.Login }},
	{word: "idle", of: func(t *Tunnel) *string { return &t.Idle }},
	{word: "rate", of: func(t *Tunnel) *string { return &t.Rate }},
	{word: "share", flag: true, of: func(t *Tunnel) *string { return &t.Share }},
}

// ruleNamed is the rule of a word, nil where it is none.
func ruleNamed(word string) *tunnelRule {
	for i := range tunnelRules {
		if tunnelRules[i].word == word {
			return &tunnelRules[i]
		}
	}
	return nil
}

// IdleAfter is [Tunnel.Idle], 0 for never.
func (t Tunnel) IdleAfter() time.Duration {
	d, err := time.ParseDuration(t.Idle)
	if err != nil {
		return 0
	}
	return d
}

// BytesPerSecond is [Tunnel.Rate], 0 for all that pass.
func (t Tunnel) BytesPerSecond() int {
	for _, u := range []struct {
		unit string
		size int
	}{{"kB", 1000}, {"MB", 1000_000}, {"GB", 1000_000_000}, {"", 1}} {
		if number, ok := strings.CutSuffix(t.Rate, u.unit); ok {
			if n, err := strconv.Atoi(number); err == nil && n > 0 && n <= 1<<40/u.size {
				return n * u.size
			}
			return 0
		}
	}
	return 0
}

// Destination tells whether a text is one that a roaming listener's lists take: a host or
// a pattern of hosts as path.Match has them, or a network in CIDR notation (RFC 4632),
// each with ":" and a port where only that port is meant. It returns its parts; port is
// "" for any.
func Destination(s string) (host, port string, ok bool) {
	host = s
	if h, p, err := net.SplitHostPort(s); err == nil {
		host, port = h, p
		if n, err := strconv.Atoi(p); err != nil || n < 1 || n > 65535 {
			return "", "", false
		}
	}
	if _, err := netip.ParsePrefix(host); err == nil {
		return host, port, true
	}
	if _, err := netip.ParseAddr(host); err == nil {
		return host, port, validAddress(host)
	}
	_, err := path.Match(host, "x")
	return host, port, err == nil && host != "" && ValidHost(strings.NewReplacer("*", "x", "?", "x", "[", "", "]", "").Replace(host))
}

// Kind is the tunnel's word, "bring", "lend" or "roam", and Listener where it listens.
func (t Tunnel) Kind() (kind, listener string) {
	switch {
	case t.Bring != "":
		return "bring", t.Bring
	case t.Lend != "":
		return "lend", t.Lend
	}
	return "roam", t.Roam
}

// Beyond tells whether a tunnel's listener listens to more than its machine.
func (t Tunnel) Beyond() bool {
	_, at := t.Kind()
	if _, _, err := net.SplitHostPort(at); strings.HasPrefix(at, "/") || err != nil {
		return false
	}
	return !loopback.Host(at)
}

// NewTunnel is a tunnel of a kind, from words as a person writes them: a port
// alone means one on 127.0.0.1. It fails with what is wrong, and with the word,
// listener or reach, that it is wrong with.
func NewTunnel(kind, listener, reach string) (t Tunnel, word string, err error) {
	full, ok := endpoint(listener)
	if !ok {
		return t, listener, fmt.Errorf("a door is a port, ADDRESS:PORT or the path of a socket, not %q", sanitize.Line(listener, 40))
	}
	switch kind {
	case "roam":
		return Tunnel{Roam: full}, "", nil
	case "bring":
		t.Bring = full
	case "lend":
		t.Lend = full
	default:
		return t, kind, fmt.Errorf("%q is no tunnel; there are bring, lend and roam", sanitize.Line(kind, 20))
	}
	if t.Reach, ok = endpoint(reach); !ok {
		return t, reach, fmt.Errorf("a service is HOST:PORT, a port or the path of a socket, not %q", sanitize.Line(reach, 40))
	}
	return t, "", nil
}

// endpoint completes "5432" and checks HOST:PORT and paths. Port 0 asks the
// system for one.
func endpoint(word string) (string, bool) {
	if strings.HasPrefix(word, "/") {
		return word, utf8.ValidString(word) && sanitize.Line(word, len(word)+1) == word && len(word) < 4096
	}
	if !strings.Contains(word, ":") {
		word = "127.0.0.1:" + word
	}
	host, port, err := net.SplitHostPort(word)
	n, notNumber := strconv.Atoi(port)
	if err != nil || notNumber != nil || n < 0 || n > 65535 || !ValidHost(host) && host != "*" {
		return "", false
	}
	return word, true
}

// wrong says what is wrong with a tunnel, "" where nothing is.
func (t Tunnel) wrong() string {
	kind, listener := t.Kind()
	if _, _, err := NewTunnel(kind, listener, t.Reach); err != nil {
		return err.Error()
	}
	if kind == "lend" && t.Share != "" {
		return "lend takes no share: its door is on the far side"
	}
	if kind != "roam" && t.Only+t.Direct+t.Login != "" {
		return kind + " takes neither only nor direct nor login: these are a roaming door's"
	}
	for _, d := range strings.Fields(t.Only + " " + t.Direct) {
		if _, _, ok := Destination(d); !ok {
			return fmt.Sprintf("a destination is a host, a pattern as *.internal, or a network as 10.61.0.0/16, with or without :PORT, not %q", sanitize.Line(d, 40))
		}
	}
	if d, err := time.ParseDuration(t.Idle); t.Idle != "" && (err != nil || d < time.Second || d > 30*24*time.Hour) {
		return fmt.Sprintf(`idle is a time from 1s to 720h, as "30m", not %q`, sanitize.Line(t.Idle, 40))
	}
	if t.Rate != "" && t.BytesPerSecond() < 1000 {
		return fmt.Sprintf(`a rate is bytes a second from 1kB on, as "500kB" or "2MB", not %q`, sanitize.Line(t.Rate, 40))
	}
	if t.Login != "" && (len(t.Login) > 255 || sanitize.Line(t.Login, 300) != t.Login || strings.ContainsAny(t.Login, " ,:\"")) {
		return fmt.Sprintf("a door's login is a word, not %q", sanitize.Line(t.Login, 40))
	}
	return ""
}

// String is the tunnel as the route line has it: "bring 15432 from db:5432".
func (t Tunnel) String() string {
	kind, listener := t.Kind()
	s := kind + " " + strings.TrimPrefix(listener, "127.0.0.1:")
	if t.Reach != "" {
		s += " from " + t.Reach
	}
	for _, r := range tunnelRules {
		switch v := *r.of(&t); {
		case v == "":
		case r.flag:
			s += " " + r.word
		default:
			s += " " + r.word + " " + v
		}
	}
	return s
}

// TunnelsLine is tunnels in one line, parted by commas.
func TunnelsLine(list []Tunnel) string {
	parts := make([]string, len(list))
	for i, t := range list {
		parts[i] = t.String()
	}
	return strings.Join(parts, ", ")
}

// ParseTunnels reads what [TunnelsLine] writes.
func ParseTunnels(line string) ([]Tunnel, error) {
	var list []Tunnel
	for part := range strings.SplitSeq(line, ",") {
		words := strings.Fields(part)
		var rules Tunnel
		own := 4
		if len(words) > 0 && words[0] == "roam" {
			own = 2
		}
		if len(words) > own {
			var into *string
			for _, w := range words[own:] {
				if r := ruleNamed(w); r != nil {
					if into = r.of(&rules); r.flag {
						*into, into = "true", nil
					}
					continue
				}
				if into == nil {
					return nil, fmt.Errorf(`%q is not understood: behind a tunnel come idle 30m, rate 2MB or share, behind a roaming one only, direct or login, too, as in "roam 1080 only *.internal 10.61.0.0/16"`, sanitize.Line(w, 40))
				}
				*into = strings.TrimSpace(*into + " " + w)
			}
			words = words[:own]
		}
		if len(words) == 4 && words[2] == "from" && words[0] != "roam" {
			words = []string{words[0], words[1], words[3]}
		} else if len(words) != 2 || words[0] != "roam" {
			return nil, fmt.Errorf(`%q is no tunnel; write them like "bring 15432 from db.internal:5432, roam 1080"`, sanitize.Line(part, 60))
		} else {
			words = append(words, "")
		}
		t, _, err := NewTunnel(words[0], words[1], words[2])
		if err != nil {
			return nil, err
		}
		for _, r := range tunnelRules {
			*r.of(&t) = *r.of(&rules)
		}
		if say := t.wrong(); say != "" {
			return nil, errors.New(say)
		}
		list = append(list, t)
	}
	return list, nil
}

// tunnelsText is tunnels as TOML.
func tunnelsText(list []Tunnel) string {
	parts := make([]string, len(list))
	for i, t := range list {
		kind, listener := t.Kind()
		parts[i] = fmt.Sprintf("{ %s = %s", kind, quote(listener))
		if t.Reach != "" {
			parts[i] += ", reach = " + quote(t.Reach)
		}
		for _, r := range tunnelRules {
			v := *r.of(&t)
			switch {
			case v == "":
			case r.flag:
				parts[i] += ", " + r.word + " = true"
			case r.list:
				var each []string
				for _, d := range strings.Fields(v) {
					each = append(each, quote(d))
				}
				parts[i] += fmt.Sprintf(", %s = [%s]", r.word, strings.Join(each, ", "))
			default:
				parts[i] += fmt.Sprintf(", %s = %s", r.word, quote(v))
			}
		}
		parts[i] += " }"
	}
	if len(parts) == 1 {
		return "[" + parts[0] + "]"
	}
	return "[\n  " + strings.Join(parts, ",\n  ") + ",\n]"
}
