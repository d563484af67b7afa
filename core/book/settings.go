package book

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// setting is one key that a table can have, with all that the program does with it:
// how it is read from the file and written into it, how a person reads and writes it,
// how it is inherited, what holds where nobody says it, and what can be said.
type setting struct {
	name  string
	in    uint16 // the layers it has a meaning in, as bits
	group        // of a session: the part of it that the setting is a field of
	list  bool   // several texts: an array in a list of sessions
	hint  string // what it can be, for who edits it

	read    func(t *table, v tomltext.Value, o Origin) (say, hint string) // what is wrong with it, and how to write it
	text    func(s *Session) (string, Origin)                             // as a person writes it
	literal func(value string) string                                     // that as TOML
	inherit func(near, far *Session)                                      // nil where it is a session's alone
	preset  func(s *Session)                                              // nil where nothing holds
}

// powers says of a value what it does besides describing a machine, "" where nothing: it
// acts there or here, lends something of ours, listens, or leads somewhere else.
var powers = map[string]func(value string) string{
	"arrive":   func(string) string { return "is typed into each new shell" },
	"env":      func(string) string { return "is set for every shell and command on the machine" },
	"dial":     func(string) string { return "is connected to in place of the host" },
	"lends":    func(string) string { return "can be used from the machine" },
	"lends_to": func(string) string { return "can be logged in to from the machine with keys from here" },
	"agent": func(value string) string {
		switch value {
		case "off":
			return ""
		case "ask":
			return "lets the machine use keys from here, each time confirmed"
		}
		return "lets the machine use keys from here without asking"
	},
	"windows": func(value string) string {
		if value == "off" {
			return ""
		}
		return "lets programs on the machine use the X display here, and see all of it"
	},
	"at_start": func(value string) string {
		if value == "off" {
			return ""
		}
		return "opens its port forwards when the program starts"
	},
	"proxy": func(value string) string {
		if value == "off" {
			return ""
		}
		return "is connected to, and sees the destinations"
	},
	"proxy_login": func(string) string { return "is read, and sent to the proxy" },
	"tunnels": func(value string) string {
		list, err := ParseTunnels(value)
		for _, t := range list {
			if t.Beyond() {
				return "listens for other machines, too"
			}
		}
		if err != nil {
			return "opens ports"
		}
		return "opens ports on this machine or on the remote machine"
	},
}

// Power says what a value does besides describing a machine, "" where nothing.
func Power(key, value string) string {
	if p := powers[key]; p != nil && value != "" {
		return p(value)
	}
	return ""
}

// group is a part of a session that is shared between sessions which say nothing in it.
type group uint8

const (
	alone     group = iota // a field of the session itself, which is not inherited
	extras                 // a field of [Extras], which is not inherited either
	access                 // a field of [Access]
	behaviour              // a field of [Behaviour]
)

const (
	anywhere    = 1<<InDefaults | 1<<InSite | 1<<InLike | 1<<InSession | 1<<InFleet
	sessionOnly = 1 << InSession
)

// settings are all of them, in the order they are shown. One is a field of [Session],
// [Extras], [Access] or [Behaviour], and a line here.
var settings = []setting{
	inFleets(oneText("site", alone, func(s *Session) *Value[string] { return &s.Site }, nil, "", "the name of a site")),
	oneText("host", alone, func(s *Session) *Value[string] { return &s.Host }, checkHost, "", "a host name or an address"),
	portNumber("port", access, func(s *Session) *Value[int] { return &s.Port }, DefaultPort, "1 to 65535"),
	oneText("user", access, func(s *Session) *Value[string] { return &s.User }, checkUser, "", "a user name"),
	inGateways(texts("key", access, func(s *Session) *Value[[]string] { return &s.Keys }, "a path", checkPath, "key files, separated by commas")),
	oneText("lease", access, func(s *Session) *Value[string] { return &s.Lease }, checkLease, "", "ISSUER, or ISSUER/MACHINE where its name there differs; off: none"),
	texts("via", access, func(s *Session) *Value[[]string] { return &s.Via }, "a session's name", nil, "sessions, separated by commas; quay | mole: the first that answers"),
	inGateways(period("keepalive", access, func(s *Session) *Value[time.Duration] { return &s.Keepalive }, readKeepalive, DefaultKeepalive, "1s to 1h, or off")),
	oneText("agent", access, func(s *Session) *Value[string] { return &s.Agent }, oneOf("off", "ask", "lend"), "off", "off, lend, or ask before each use"),
	inFleets(tunnelList("tunnels", extras, func(s *Session) *Value[[]Tunnel] { return &s.Tunnels }, "bring 15432 from db.internal:5432, roam 1080")),
	inFleets(oneText("note", extras, func(s *Session) *Value[string] { return &s.Note }, nil, "", "one line of text")),
	oneText("careful", behaviour, func(s *Session) *Value[string] { return &s.Careful }, oneOf("on", "off"), "", "on or off"),
	oneText("at_start", behaviour, func(s *Session) *Value[string] { return &s.AtStart }, oneOf("on", "off"), "", "on or off"),
	texts("lends", behaviour, func(s *Session) *Value[[]string] { return &s.Lends }, "a path", checkPath, "key files, separated by commas"),
	texts("lends_to", behaviour, func(s *Session) *Value[[]string] { return &s.LendsTo }, "a host or a pattern of hosts", checkPattern, "hosts or sessions; * for any letters, separated by commas"),
	oneText("lend_uses", behaviour, func(s *Session) *Value[string] { return &s.LendUses }, checkCount, "", "1 to 1000"),
	period("lend_for", behaviour, func(s *Session) *Value[time.Duration] { return &s.LendFor }, upToADay("for keys to be lent", "end"), 0, "1s to 24h, or end: with the shell"),
	oneText("knock", behaviour, func(s *Session) *Value[string] { return &s.Knock }, oneOf("on", "off"), "", "on or off"),
	oneText("links", behaviour, func(s *Session) *Value[string] { return &s.Links }, oneOf("1", "2", "3", "4"), "", "1 to 4"),
	oneText("windows", behaviour, func(s *Session) *Value[string] { return &s.Windows }, oneOf("on", "off"), "", "on or off"),
	oneText("ring", behaviour, func(s *Session) *Value[string] { return &s.Ring }, oneOf("on", "off"), "", "on or off; not set: keys with a passphrase stay"),
	oneText("key_age", behaviour, func(s *Session) *Value[string] { return &s.KeyAge }, checkAge, "", "days, as 365d, or off"),
	oneText("key_list", behaviour, func(s *Session) *Value[string] { return &s.KeyList }, checkList, DefaultKeyList, "a path from the home folder, or from /"),
	oneText("dial", extras, func(s *Session) *Value[string] { return &s.Dial }, checkDial, "", "ADDRESS:PORT"),
	inGateways(oneText("proxy", behaviour, func(s *Session) *Value[string] { return &s.Proxy }, checkProxy, "", "http://HOST:PORT, https:// or socks5://, or off")),
	inGateways(oneText("proxy_login", behaviour, func(s *Session) *Value[string] { return &s.ProxyFile }, checkPath, "", "a file with LOGIN:PASSWORD, mode 0600")),
	oneText("network", access, func(s *Session) *Value[string] { return &s.Network }, checkNetwork, "", "a name"),
	oneText("instance", extras, func(s *Session) *Value[string] { return &s.Instance }, nil, "", "a name, an id, or a query that matches one instance"),
	inFleets(oneText("address", extras, func(s *Session) *Value[string] { return &s.Address }, nil, "", "inside, outside, or the name of a network")),
	period("reconnect", behaviour, func(s *Session) *Value[time.Duration] { return &s.Reconnect }, upToADay("to go on trying", "off"), DefaultReconnect, "1s to 24h, or off"),
	oneText("backspace", behaviour, func(s *Session) *Value[string] { return &s.Backspace }, oneOf("del", "bs"), "del", "del or bs"),
	oneText("term", behaviour, func(s *Session) *Value[string] { return &s.Term }, checkTerm, DefaultTerm, "a terminal type, as xterm-256color"),
	oneText("alert", behaviour, func(s *Session) *Value[string] { return &s.Alert }, oneOf("off", "bell", "notify"), "off", "off, bell or notify"),
	oneText("colours", behaviour, func(s *Session) *Value[string] { return &s.Colours }, oneOf("all", "16", "none"), "all", "all, 16 or none"),
	texts("env", behaviour, func(s *Session) *Value[[]string] { return &s.Env }, "NAME=VALUE", checkEnv, "NAME=VALUE, separated by commas"),
	oneText("folder", behaviour, func(s *Session) *Value[string] { return &s.Folder }, checkPath, "", "a path on the machine"),
	oneText("arrive", behaviour, func(s *Session) *Value[string] { return &s.Arrive }, nil, "", "a command line"),

	// Of a like, and of the table of a key.
	{name: "name", in: 1 << InLike, hint: "* for any letters, ? for one", literal: textLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			var name Value[string]
			say, hint := readText(&name, v, o, checkGlob)
			t.name = name.V
			return say, hint
		}},
	{name: "hosts", in: 1 << InKey, literal: listLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readTexts(&t.terms.Hosts, v, o, "a host or a pattern of hosts", checkPattern)
		}},
	{name: "stay", in: 1 << InKey, literal: textLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readPeriod(&t.terms.Stay, v, o, upToADay("for a key to stay", "end"))
		}},
	{name: "confirm", in: 1 << InKey, literal: boolLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			if v.Kind() != tomltext.Bool {
				return fmt.Sprintf("true or false is wanted, not %s", v.Kind()), "write it without quotes"
			}
			t.terms.Confirm = Value[bool]{v.Text() == "true", o, true}
			return "", ""
		}},

	// Of a fleet.
	{name: "query", in: 1 << InFleet, literal: textLiteral, hint: "a query, as tag:role=gauge state=running",
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readText(&t.fleet.Query, v, o, nil)
		}},
	{name: "called", in: 1 << InFleet, literal: textLiteral, hint: "a name with * for the name of the instance",
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readText(&t.fleet.Called, v, o, checkCalled)
		}},

	// Of the table of an estate.
	ofEstate("kind", func(e *EstateSource) *Value[string] { return &e.Kind }, oneOf("document", "openstack")),
	ofEstate("cloud", func(e *EstateSource) *Value[string] { return &e.Cloud }, nil),
	ofEstate("region", func(e *EstateSource) *Value[string] { return &e.Region }, nil),
	{name: "hosts", in: 1 << InEstate, literal: listLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readTexts(&t.estate.Hosts, v, o, "a host", checkHost)
		}},
	ofEstate("file", func(e *EstateSource) *Value[string] { return &e.File }, checkPath),
	orOfGateway(ofEstate("url", func(e *EstateSource) *Value[string] { return &e.URL }, checkAddress), func(g *Gateway, v tomltext.Value, o Origin) (string, string) {
		return readTexts(&g.URL, v, o, "an address", checkGateway)
	}),
	orOfGateway(ofEstate("token_file", func(e *EstateSource) *Value[string] { return &e.TokenFile }, checkPath), func(g *Gateway, v tomltext.Value, o Origin) (string, string) {
		return readText(&g.TokenFile, v, o, checkPath)
	}),
	ofEstate("token_env", func(e *EstateSource) *Value[string] { return &e.TokenEnv }, nil),
	{name: "every", in: 1 << InEstate, literal: textLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readPeriod(&t.estate.Every, v, o, upToADay("between two readings", "off"))
		}},
	{name: "command", in: 1 << InEstate, literal: listLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readTexts(&t.estate.Command, v, o, "a program and its arguments", nil)
		}},
	orOfGateway(setting{name: "token_command", in: 1 << InEstate, literal: listLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readTexts(&t.estate.TokenCommand, v, o, "a program and its arguments", nil)
		}}, func(g *Gateway, v tomltext.Value, o Origin) (string, string) {
		return readTexts(&g.TokenCommand, v, o, "a program and its arguments", nil)
	}),

	// Of the table of a gateway.
	ofGateway("ca", func(g *Gateway) *Value[string] { return &g.CA }, checkPath),
	{name: "host_key", in: inServices, literal: listLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readTexts(&t.gateway.HostKeys, v, o, "a fingerprint", checkFingerprint)
		}},
	ofGateway("device", func(g *Gateway) *Value[string] { return &g.Device }, checkAddress),
	ofGateway("device_client", func(g *Gateway) *Value[string] { return &g.DeviceClient }, nil),
	ofGateway("certificate", func(g *Gateway) *Value[string] { return &g.Certificate }, checkPath),
}

// inFleets is a setting of a session alone that has a meaning in a fleet, too.
func inFleets(s setting) setting {
	s.in |= 1 << InFleet
	return s
}

// checkCalled takes what can be a session's name with an instance's in place of the asterisk.
func checkCalled(s string) (say, hint string) {
	if strings.Count(s, "*") != 1 || !ValidName(strings.ReplaceAll(s, "*", "x")) {
		return fmt.Sprintf("%q cannot be what a fleet's sessions are called", sanitize.Line(s, 40)), `write a name with one * for the instance's, as in "reef-*"`
	}
	return "", ""
}

// ofEstate is a text of an estate's table.
func ofEstate(name string, of func(*EstateSource) *Value[string], check func(string) (string, string)) setting {
	return setting{name: name, in: 1 << InEstate, literal: textLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readText(of(t.estate), v, o, check)
		}}
}

// checkAddress takes https, and http on this machine alone: a document is not read over a line
// that others can write to.
func checkAddress(s string) (say, hint string) {
	u, err := url.Parse(s)
	switch {
	case err != nil || u.Host == "" || u.User != nil:
		return fmt.Sprintf("%q is no address", sanitize.Line(s, 60)), "write https://HOST/PATH; a token stands in token_file or token_env"
	case u.Scheme == "https", u.Scheme == "http" && (u.Hostname() == "127.0.0.1" || u.Hostname() == "::1" || u.Hostname() == "localhost"):
		return "", ""
	}
	return "a document is read over https alone", "write https://HOST/PATH"
}

// Fields are the keys of a session that [Set] can set, in the order they are shown.
var Fields = FieldsOf(InSession)

// FieldsOf are the keys that [SetIn] can set in a table, in the order they are
// shown.
func FieldsOf(layer Layer) []string {
	var keys []string
	for i := range settings {
		if settings[i].in&(1<<layer) == 0 {
			continue
		}
		if settings[i].name == "name" { // what a like is for is shown first
			keys = slices.Insert(keys, 0, "name")
		} else {
			keys = append(keys, settings[i].name)
		}
	}
	return keys
}

// HintOf says what a key's value can be.
func HintOf(key string) string {
	if s := settingNamed(key); s != nil {
		return s.hint
	}
	return ""
}

// Text is a setting of a session as a person writes it, and where it is from.
func (s *Session) Text(key string) (value string, origin Origin) {
	if f := settingNamed(key); f != nil && f.text != nil {
		return f.text(s)
	}
	return "", Origin{}
}

func settingNamed(name string) *setting {
	for i := range settings {
		if settings[i].name == name {
			return &settings[i]
		}
	}
	return nil
}

// layersOf says in words where a key has a meaning.
func layersOf(f *setting) string {
	switch f.in {
	case 1 << InLike:
		return "a like"
	case 1 << InKey:
		return "the table of a key"
	case 1 << InEstate:
		return "the table of an estate"
	case 1 << InFleet:
		return "a fleet"
	case inServices:
		return "the table of a gateway or an issuer"
	case 1<<InEstate | inServices:
		return "the table of an estate, a gateway or an issuer"
	}
	return "the session itself"
}

// layersIn are the layers where a setting of a group has a meaning.
func layersIn(g group) uint16 {
	if g == alone || g == extras {
		return sessionOnly
	}
	return anywhere
}

// inherited makes what a setting that may stand anywhere is inherited by, nil for one
// of a session alone.
func inherited[T any](group group, of func(*Session) *Value[T]) func(near, far *Session) {
	if group == alone || group == extras {
		return nil
	}
	return func(near, far *Session) { of(near).orElse(*of(far)) }
}

// preset makes the value that holds where nobody says another.
func preset[T comparable](of func(*Session) *Value[T], v T) func(*Session) {
	var none T
	if v == none {
		return nil
	}
	return func(s *Session) { of(s).orElse(Value[T]{V: v, Set: true}) }
}

// check says what is wrong with a text, and how to write it; "" where nothing is.
type check func(string) (say, hint string)

// oneText is a setting that is a text.
func oneText(name string, group group, of func(*Session) *Value[string], check check, holds, hint string) setting {
	return setting{
		name: name, in: layersIn(group), group: group, hint: hint, literal: textLiteral, inherit: inherited(group, of), preset: preset(of, holds),
		read: func(t *table, v tomltext.Value, o Origin) (string, string) { return readText(of(&t.own), v, o, check) },
		text: func(s *Session) (string, Origin) { return of(s).V, of(s).Origin },
	}
}

// texts is a setting that is one text or a list of them; what says what each is.
func texts(name string, group group, of func(*Session) *Value[[]string], what string, check check, hint string) setting {
	s := setting{
		name: name, in: layersIn(group), group: group, list: true, hint: hint, literal: listLiteral, inherit: inherited(group, of),
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readTexts(of(&t.own), v, o, what, check)
		},
		text: func(s *Session) (string, Origin) { return strings.Join(of(s).V, ", "), of(s).Origin },
	}
	if name == "key" {
		s.literal = oneOrListLiteral
	}
	return s
}

// period is a setting that is a time.
func period(name string, group group, of func(*Session) *Value[time.Duration], parse parsePeriod, holds time.Duration, hint string) setting {
	return setting{
		name: name, in: layersIn(group), group: group, hint: hint, literal: textLiteral, inherit: inherited(group, of), preset: preset(of, holds),
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readPeriod(of(&t.own), v, o, parse)
		},
		text: func(s *Session) (string, Origin) { return durationText(*of(s)), of(s).Origin },
	}
}

// portNumber is a setting that is a port.
func portNumber(name string, group group, of func(*Session) *Value[int], holds int, hint string) setting {
	return setting{
		name: name, in: layersIn(group), group: group, hint: hint, literal: numberLiteral, inherit: inherited(group, of), preset: preset(of, holds),
		read: func(t *table, v tomltext.Value, o Origin) (string, string) { return readPort(of(&t.own), v, o) },
		text: func(s *Session) (string, Origin) {
			if of(s).V == 0 {
				return "", of(s).Origin
			}
			return strconv.Itoa(of(s).V), of(s).Origin
		},
	}
}

// tunnelList is the setting that is a list of tunnels.
func tunnelList(name string, group group, of func(*Session) *Value[[]Tunnel], hint string) setting {
	return setting{
		name: name, in: layersIn(group), group: group, list: true, hint: hint, inherit: inherited(group, of),
		read: func(t *table, v tomltext.Value, o Origin) (string, string) { return readTunnels(of(&t.own), v, o) },
		text: func(s *Session) (string, Origin) { return TunnelsLine(of(s).V), of(s).Origin },
		literal: func(value string) string {
			if list, err := ParseTunnels(value); err == nil {
				return tunnelsText(list)
			}
			return textLiteral(value)
		},
	}
}

// literal writes a value as TOML, as its key wants it.
func literal(key, value string) string {
	if f := settingNamed(key); f != nil {
		return f.literal(value)
	}
	return textLiteral(value)
}

func textLiteral(value string) string { return quote(strings.TrimSpace(value)) }

func numberLiteral(value string) string {
	if n, err := strconv.Atoi(strings.TrimSpace(value)); err == nil {
		return strconv.Itoa(n)
	}
	return textLiteral(value)
}

func boolLiteral(value string) string {
	if word := strings.TrimSpace(value); word == "true" || word == "false" {
		return word
	}
	return textLiteral(value)
}

// parts are the texts of a list as a person writes it.
func parts(value string) []string {
	all := strings.FieldsFunc(value, func(r rune) bool { return r == ',' })
	for i := range all {
		all[i] = strings.TrimSpace(all[i])
	}
	return slices.DeleteFunc(all, func(s string) bool { return s == "" })
}

func listLiteral(value string) string {
	return "[" + strings.Join(quoteAll(parts(value)), ", ") + "]"
}

func oneOrListLiteral(value string) string {
	if all := parts(value); len(all) == 1 {
		return quote(all[0])
	}
	return listLiteral(value)
}

func durationText(v Value[time.Duration]) string {
	if v.Set && v.V == 0 {
		return "off"
	}
	return shortDuration(v.V.String())
}

// readText takes a string that check, where given, finds nothing wrong with.
// plainText tells of most texts that there is nothing in them to be made safe: visible ASCII alone.
func plainText(s string) bool {
	for i := range len(s) {
		if s[i] <= ' ' || s[i] > '~' {
			return false
		}
	}
	return true
}

func readText(into *Value[string], v tomltext.Value, o Origin, check check) (string, string) {
	if v.Kind() != tomltext.String {
		return fmt.Sprintf("a text is wanted, not %s", v.Kind()), "put it in quotes"
	}
	s := v.Text()
	if strings.TrimSpace(s) == "" {
		return "it is empty", "leave the line out where there is no value"
	}
	if !plainText(s) && sanitize.Line(s, len(s)+1) != s {
		return "it holds control characters or blanks at its ends", "write it anew"
	}
	if check != nil {
		if say, hint := check(s); say != "" {
			return say, hint
		}
	}
	*into = Value[string]{s, o, true}
	return "", ""
}

// readTexts takes one string or a list of them.
func readTexts(into *Value[[]string], v tomltext.Value, o Origin, of string, check check) (string, string) {
	var list []string
	take := func(v tomltext.Value) (string, string) {
		var one Value[string]
		if v.Kind() != tomltext.String {
			return fmt.Sprintf("%s or a list of them is wanted, not %s", of, v.Kind()), "put it in quotes"
		}
		say, hint := readText(&one, v, o, check)
		list = append(list, one.V)
		return say, hint
	}
	if v.Kind() != tomltext.Array {
		if say, hint := take(v); say != "" {
			return say, hint
		}
	} else {
		for item := range v.Items() {
			if say, hint := take(item); say != "" {
				return say, hint
			}
		}
	}
	*into = Value[[]string]{list, o, true}
	return "", ""
}

func readPort(into *Value[int], v tomltext.Value, o Origin) (string, string) {
	const hint = "write a whole number from 1 to 65535, without quotes"
	if v.Kind() != tomltext.Integer {
		return fmt.Sprintf("a number is wanted, not %s", v.Kind()), hint
	}
	port, err := strconv.Atoi(strings.ReplaceAll(v.Text(), "_", ""))
	if err != nil || port < 1 || port > 65535 {
		return fmt.Sprintf("%s is no port", sanitize.Line(v.Text(), 20)), hint
	}
	*into = Value[int]{port, o, true}
	return "", ""
}

// parsePeriod reads a time as a person writes it; hint says how to write one.
type parsePeriod func(s string) (d time.Duration, say, hint string)

func readPeriod(into *Value[time.Duration], v tomltext.Value, o Origin, parse parsePeriod) (string, string) {
	d, say, hint := parse(v.Text())
	if v.Kind() != tomltext.String {
		return fmt.Sprintf("a time is wanted, not %s", v.Kind()), hint
	}
	if say == "" {
		*into = Value[time.Duration]{d, o, true}
	}
	return say, hint
}

func readKeepalive(s string) (d time.Duration, say, hint string) {
	d, err := ParseKeepalive(s)
	if err != nil {
		say = err.Error()
	}
	return d, say, `write it like "30s" or "2m", from "1s" to "1h", or "off"`
}

// upToADay reads a time from a second to a day, or a word for 0.
func upToADay(what, never string) parsePeriod {
	return func(s string) (d time.Duration, say, hint string) {
		hint = fmt.Sprintf("write it like \"10m\" or \"2h\", up to \"24h\", or %q", never)
		if s == never {
			return 0, "", hint
		}
		d, err := time.ParseDuration(s)
		if err != nil || d < time.Second || d > 24*time.Hour {
			say = fmt.Sprintf("%q is no time %s", sanitize.Line(s, 20), what)
		}
		return d, say, hint
	}
}

const tunnelHint = `write them like { bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" }`

// readTunnels reads the shape of tunnels; opening them is not this package's.
func readTunnels(into *Value[[]Tunnel], v tomltext.Value, o Origin) (string, string) {
	const hint = tunnelHint
	if v.Kind() != tomltext.Array {
		return fmt.Sprintf("a list of tunnels is wanted, not %s", v.Kind()), hint
	}
	var list []Tunnel
	for item := range v.Items() {
		tunnel, ok := readTunnel(item)
		if !ok {
			return "one of them is no tunnel", hint
		}
		if say := tunnel.wrong(); say != "" {
			return say, hint
		}
		list = append(list, tunnel)
	}
	*into = Value[[]Tunnel]{list, o, true}
	return "", ""
}

func readTunnel(v tomltext.Value) (Tunnel, bool) {
	var t Tunnel
	if v.Kind() != tomltext.Table {
		return t, false
	}
	for words, value := range v.Pairs() {
		if len(words) > 1 || !t.take(words[0].Text, value) {
			return t, false
		}
	}
	return t, t.whole()
}

// take takes one value of a tunnel, and tells whether it is one.
func (t *Tunnel) take(word string, value tomltext.Value) bool {
	part := map[string]*string{"bring": &t.Bring, "lend": &t.Lend, "roam": &t.Roam, "reach": &t.Reach}[word]
	rule := ruleNamed(word)
	if rule != nil {
		part = rule.of(t)
	}
	switch {
	case part == nil || *part != "":
		return false
	case rule != nil && rule.list && value.Kind() == tomltext.Array:
		for each := range value.Items() {
			if each.Kind() != tomltext.String || len(strings.Fields(each.Text())) != 1 {
				return false
			}
			*part = strings.TrimSpace(*part + " " + each.Text())
		}
		return true
	case rule != nil && rule.flag:
		if value.Kind() != tomltext.Bool {
			return false
		}
		if value.Text() == "true" {
			*part = "true"
		}
		return true
	}
	*part = value.Text()
	return value.Kind() == tomltext.String && *part != ""
}

// whole tells whether a tunnel has one listener, and a service where it wants one.
func (t *Tunnel) whole() bool {
	listeners := 0
	for _, listener := range []string{t.Bring, t.Lend, t.Roam} {
		if listener != "" {
			listeners++
		}
	}
	return listeners == 1 && (t.Reach == "") == (t.Roam != "")
}
