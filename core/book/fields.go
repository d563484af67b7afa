package book

import (
	"errors"
	"fmt"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/pelletier/go-toml/v2/unstable"

	"meatus/core/sanitize"
)

// field is one key a table can have. set puts the value into the table, or says
// what is wrong with it and how to write it.
type field struct {
	name string
	in   uint8 // the layers it has a meaning in, as bits
	set  func(t *table, n *unstable.Node, o Origin) (say, hint string)
}

const (
	anywhere    = 1<<InDefaults | 1<<InSite | 1<<InLike | 1<<InSession
	sessionOnly = 1 << InSession
)

var fields = []field{
	{"host", sessionOnly, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Host, n, o, checkHost)
	}},
	{"port", anywhere, setPort},
	{"user", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.User, n, o, checkUser)
	}},
	{"key", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setList(&t.settings.Keys, n, o, "a path", checkPath)
	}},
	{"via", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setList(&t.settings.Via, n, o, "a session's name", nil)
	}},
	{"dial", sessionOnly, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Dial, n, o, checkDial)
	}},
	{"keepalive", anywhere, setKeepalive},
	{"agent", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Agent, n, o, oneOf("off", "ask", "lend"))
	}},
	{"lends", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setList(&t.settings.Lends, n, o, "a path", checkPath)
	}},
	{"lends_to", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setList(&t.settings.LendsTo, n, o, "a host or a pattern of hosts", checkPattern)
	}},
	{"links", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Links, n, o, oneOf("1", "2", "3", "4"))
	}},
	{"windows", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Windows, n, o, oneOf("on", "off"))
	}},
	{"knock", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Knock, n, o, oneOf("on", "off"))
	}},
	{"ring", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Ring, n, o, oneOf("on", "off"))
	}},
	{"hosts", 1 << InKey, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setList(&t.terms.Hosts, n, o, "a host or a pattern of hosts", checkPattern)
	}},
	{"stay", 1 << InKey, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setTime(&t.terms.Stay, n, o, "for a key to stay", "end")
	}},
	{"confirm", 1 << InKey, func(t *table, n *unstable.Node, o Origin) (string, string) {
		if n.Kind != unstable.Bool {
			return fmt.Sprintf("true or false is wanted, not %s", kindWord(n)), "write it without quotes"
		}
		t.terms.Confirm = Value[bool]{string(n.Data) == "true", o, true}
		return "", ""
	}},
	{"reconnect", anywhere, setReconnect},
	{"backspace", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Backspace, n, o, oneOf("del", "bs"))
	}},
	{"term", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Term, n, o, checkTerm)
	}},
	{"colours", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Colours, n, o, oneOf("all", "16", "none"))
	}},
	{"env", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setList(&t.settings.Env, n, o, "NAME=VALUE", checkEnv)
	}},
	{"folder", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Folder, n, o, checkPath)
	}},
	{"arrive", anywhere, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.settings.Arrive, n, o, nil)
	}},
	{"tunnels", sessionOnly, setTunnels},
	{"site", sessionOnly, func(t *table, n *unstable.Node, o Origin) (string, string) {
		return setText(&t.site, n, o, nil)
	}},
	{"name", 1 << InLike, setPattern},
}

func fieldNamed(name string) *field {
	for i := range fields {
		if fields[i].name == name {
			return &fields[i]
		}
	}
	return nil
}

// layersOf says in words where a key has a meaning.
func layersOf(f *field) string {
	switch f.in {
	case 1 << InLike:
		return "a like"
	case 1 << InKey:
		return "the table of a key"
	}
	return "the session itself"
}

// setText takes a string that check, where given, finds nothing wrong with.
func setText(v *Value[string], n *unstable.Node, o Origin, check func(string) (say, hint string)) (string, string) {
	if n.Kind != unstable.String {
		return fmt.Sprintf("a text is wanted, not %s", kindWord(n)), "put it in quotes"
	}
	s := string(n.Data)
	if strings.TrimSpace(s) == "" {
		return "it is empty", "leave the line out where there is no value"
	}
	if sanitize.Line(s, len(s)+1) != s {
		return "it holds control characters or blanks at its ends", "write it anew"
	}
	if check != nil {
		if say, hint := check(s); say != "" {
			return say, hint
		}
	}
	*v = Value[string]{s, o, true}
	return "", ""
}

// setList takes one string or a list of them.
func setList(v *Value[[]string], n *unstable.Node, o Origin, of string, check func(string) (say, hint string)) (string, string) {
	var list []string
	take := func(n *unstable.Node) (string, string) {
		var one Value[string]
		if n.Kind != unstable.String {
			return fmt.Sprintf("%s or a list of them is wanted, not %s", of, kindWord(n)), "put it in quotes"
		}
		say, hint := setText(&one, n, o, check)
		list = append(list, one.V)
		return say, hint
	}
	if n.Kind != unstable.Array {
		if say, hint := take(n); say != "" {
			return say, hint
		}
	} else {
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.Comment {
				continue
			}
			if say, hint := take(it.Node()); say != "" {
				return say, hint
			}
		}
	}
	*v = Value[[]string]{list, o, true}
	return "", ""
}

func setPort(t *table, n *unstable.Node, o Origin) (string, string) {
	const hint = "write a whole number from 1 to 65535, without quotes"
	if n.Kind != unstable.Integer {
		return fmt.Sprintf("a number is wanted, not %s", kindWord(n)), hint
	}
	port, err := strconv.Atoi(strings.ReplaceAll(string(n.Data), "_", ""))
	if err != nil || port < 1 || port > 65535 {
		return fmt.Sprintf("%s is no port", sanitize.Line(string(n.Data), 20)), hint
	}
	t.settings.Port = Value[int]{port, o, true}
	return "", ""
}

func setKeepalive(t *table, n *unstable.Node, o Origin) (string, string) {
	const hint = `write it like "30s" or "2m", from "1s" to "1h", or "off"`
	if n.Kind != unstable.String {
		return fmt.Sprintf("a time is wanted, not %s", kindWord(n)), hint
	}
	d, err := ParseKeepalive(string(n.Data))
	if err != nil {
		return err.Error(), hint
	}
	t.settings.Keepalive = Value[time.Duration]{d, o, true}
	return "", ""
}

// ParseKeepalive reads "30s", "2m" or "off" (which is 0). It fails outside of
// one second to one hour.
func ParseKeepalive(s string) (time.Duration, error) {
	if s == "off" {
		return 0, nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < time.Second || d > time.Hour {
		return 0, fmt.Errorf("%q is no time between keepalives", sanitize.Line(s, 20))
	}
	return d, nil
}

func setPattern(t *table, n *unstable.Node, o Origin) (string, string) {
	var name Value[string]
	if say, hint := setText(&name, n, o, nil); say != "" {
		return say, hint
	}
	if _, err := path.Match(name.V, "x"); err != nil {
		return fmt.Sprintf("%q is no pattern", name.V), "use * for any letters, ? for one"
	}
	t.name = name.V
	return "", ""
}

func checkHost(s string) (string, string) {
	if !ValidHost(s) {
		return fmt.Sprintf("%q is no host", sanitize.Line(s, 60)), "write a name or an address alone; user and port have lines of their own"
	}
	return "", ""
}

// ValidHost tells whether s can be a host: an address, or a name of letters,
// digits, dots, hyphens and underscores, at most 253 bytes (RFC 1035 section
// 2.3.4). An IPv6 address stands without brackets.
func ValidHost(s string) bool {
	if ip, _, _ := strings.Cut(s, "%"); net.ParseIP(ip) != nil {
		return true
	}
	if s == "" || len(s) > 253 || s[0] == '-' {
		return false
	}
	for _, r := range s {
		ok := r == '.' || r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 127 && (unicode.IsLetter(r) || unicode.IsMark(r))
		if !ok {
			return false
		}
	}
	return true
}

func checkUser(s string) (string, string) {
	if !ValidUser(s) {
		return fmt.Sprintf("%q is no login name", sanitize.Line(s, 40)), "write the account's name alone"
	}
	return "", ""
}

// ValidUser tells whether s can be a login name: printable, without blanks,
// colons and slashes.
func ValidUser(s string) bool {
	return s != "" && !strings.ContainsAny(s, " \t:/") && sanitize.Line(s, len(s)+1) == s
}

func checkPath(s string) (string, string) {
	if strings.ContainsRune(s, 0) {
		return "a path cannot hold a null character", ""
	}
	return "", ""
}

func checkDial(s string) (string, string) {
	host, port, err := net.SplitHostPort(s)
	n, perr := strconv.Atoi(port)
	if err != nil || perr != nil || host == "" || n < 1 || n > 65535 {
		return fmt.Sprintf("%q is no address with a port", sanitize.Line(s, 60)), `write it like "127.0.0.1:40022"`
	}
	return "", ""
}

// oneOf takes one of a few words.
func oneOf(words ...string) func(string) (say, hint string) {
	quoted := strings.Join(quoteAll(words), " or ")
	return func(s string) (string, string) {
		if slices.Contains(words, s) {
			return "", ""
		}
		return fmt.Sprintf("%q is not one of the words it can be", sanitize.Line(s, 40)), "write " + quoted
	}
}

func checkTerm(s string) (string, string) {
	if strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r > '~' || r == '/' }) || len(s) > 64 {
		return fmt.Sprintf("%q is no terminal's name", sanitize.Line(s, 40)), `write it like "xterm-256color" or "vt220"`
	}
	return "", ""
}

func checkEnv(s string) (string, string) {
	name, _, ok := strings.Cut(s, "=")
	if !ok || name == "" || strings.ContainsFunc(name, func(r rune) bool {
		return r != '_' && (r > '~' || !unicode.IsLetter(r) && !unicode.IsDigit(r))
	}) {
		return fmt.Sprintf("%q sets no variable", sanitize.Line(s, 40)), `write it like "LANG=C.UTF-8"`
	}
	return "", ""
}

func checkPattern(s string) (string, string) {
	if _, err := path.Match(s, "x"); err != nil || strings.ContainsAny(s, " \t") {
		return fmt.Sprintf("%q is no host and no pattern", sanitize.Line(s, 40)), "write an address, a session's name, or a pattern: * for any letters, ? for one"
	}
	return "", ""
}

func setReconnect(t *table, n *unstable.Node, o Origin) (string, string) {
	return setTime(&t.settings.Reconnect, n, o, "to go on trying", "off")
}

// setTime takes a time from a second to a day, or a word for 0.
func setTime(v *Value[time.Duration], n *unstable.Node, o Origin, what, never string) (string, string) {
	hint := fmt.Sprintf("write it like \"10m\" or \"2h\", up to \"24h\", or %q", never)
	if n.Kind != unstable.String {
		return fmt.Sprintf("a time is wanted, not %s", kindWord(n)), hint
	}
	d, err := time.ParseDuration(string(n.Data))
	if string(n.Data) == never {
		d, err = 0, nil
	} else if err == nil && (d < time.Second || d > 24*time.Hour) {
		err = errOutside
	}
	if err != nil {
		return fmt.Sprintf("%q is no time %s", sanitize.Line(string(n.Data), 20), what), hint
	}
	*v = Value[time.Duration]{d, o, true}
	return "", ""
}

var errOutside = errors.New("outside of its range")

// setTunnels reads the shape of tunnels; opening them is not this package's.
func setTunnels(t *table, n *unstable.Node, o Origin) (string, string) {
	const hint = `write them like { bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" }`
	if n.Kind != unstable.Array {
		return fmt.Sprintf("a list of tunnels is wanted, not %s", kindWord(n)), hint
	}
	var list []Tunnel
	for it := n.Children(); it.Next(); {
		if it.Node().Kind == unstable.Comment {
			continue
		}
		tunnel, ok := readTunnel(it.Node())
		if !ok {
			return "one of them is no tunnel", hint
		}
		if say := tunnel.wrong(); say != "" {
			return say, hint
		}
		list = append(list, tunnel)
	}
	t.settings.Tunnels = Value[[]Tunnel]{list, o, true}
	return "", ""
}

func readTunnel(n *unstable.Node) (Tunnel, bool) {
	var t Tunnel
	if n.Kind != unstable.InlineTable {
		return t, false
	}
	for it := n.Children(); it.Next(); {
		if it.Node().Kind != unstable.KeyValue {
			continue
		}
		key := it.Node().Key()
		key.Next()
		word := string(key.Node().Data)
		part := map[string]*string{"bring": &t.Bring, "lend": &t.Lend, "roam": &t.Roam, "reach": &t.Reach}[word]
		rule := ruleNamed(word)
		if rule != nil {
			part = rule.of(&t)
		}
		value := it.Node().Value()
		if rule != nil && rule.list && *part == "" && value.Kind == unstable.Array {
			for each := value.Children(); each.Next(); {
				n := each.Node()
				if n.Kind == unstable.Comment {
					continue
				}
				if n.Kind != unstable.String || len(strings.Fields(string(n.Data))) != 1 {
					return t, false
				}
				*part = strings.TrimSpace(*part + " " + string(n.Data))
			}
			continue
		}
		if part == nil || *part != "" || value.Kind != unstable.String || len(value.Data) == 0 {
			return t, false
		}
		*part = string(value.Data)
	}
	doors := 0
	for _, door := range []string{t.Bring, t.Lend, t.Roam} {
		if door != "" {
			doors++
		}
	}
	return t, doors == 1 && (t.Reach == "") == (t.Roam != "")
}

// kindWord names what stands where something else was wanted.
func kindWord(n *unstable.Node) string {
	switch n.Kind {
	case unstable.String:
		return "a text"
	case unstable.Bool:
		return "true or false"
	case unstable.Integer, unstable.Float:
		return "a number"
	case unstable.Array:
		return "a list"
	case unstable.InlineTable:
		return "a table"
	}
	return "a date"
}
