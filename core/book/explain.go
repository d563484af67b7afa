package book

import "slices"

// Parts are the parts that settings are shown in.
var Parts = [...]string{"who and where", "route", "keys", "port forwards", "agent", "staying connected", "terminal", "on arrival"}

// Explanation explains a setting to a person who edits it.
type Explanation struct {
	Part    string // one of [Parts]
	Says    string // one sentence: what the setting does
	Example string // a value, as it is typed, or "" where the usual values say enough
	Basic   bool   // it is shown where it is not set, too
}

// explanations are of all settings that are edited in a sheet, in the order they are shown.
var explanations = []struct {
	key string
	Explanation
}{
	{"name", Explanation{Parts[0], "The sessions that take these values, by a pattern for their names.", "gauge-*", true}},
	{"host", Explanation{Parts[0], "The machine to log in to. Behind a bastion, the bastion resolves the name.", "tide-db.internal", true}},
	{"port", Explanation{Parts[0], "The TCP port of the machine's SSH server.", "2222", true}},
	{"user", Explanation{Parts[0], "The user name to log in as.", "keeper", true}},
	{"site", Explanation{Parts[0], "The group the session belongs to; it inherits the group's values.", "reef", false}},
	{"instance", Explanation{Parts[0], "The cloud instance to follow in place of a fixed host: its current address is used.", "tag:role=gauge name=gauge-1", false}},
	{"address", Explanation{Parts[0], "The address of the instance to connect to.", "inside", false}},
	{"network", Explanation{Parts[0], "The private network of the address: through every bastion of that network, the same host key is expected.", "reef", false}},
	{"note", Explanation{Parts[0], "A note for everyone who connects: shown on the card and above shells.", "do not restart before Tuesday", false}},
	{"careful", Explanation{Parts[0], "Marks a machine that needs care: destructive actions ask for its name.", "on", false}},

	{"via", Explanation{Parts[1], "The bastions (jump hosts) on the route, in order. With | several are tried in turn.", "quay | mole", true}},
	{"dial", Explanation{Parts[1], "Another address and port to connect to in place of host and port, as for a mapped port.", "127.0.0.1:2222", false}},
	{"proxy", Explanation{Parts[1], "The HTTP or SOCKS proxy for the first connection of the route.", "http://proxy.example:3128", false}},
	{"proxy_login", Explanation{Parts[1], "The file with the proxy's user name and password. Without it, they are asked for.", "proxy.login", false}},

	{"key", Explanation{Parts[2], "The key files to log in with, in the order in which they are offered.", "keys/tide.pem", true}},
	{"lease", Explanation{Parts[2], "The issuer of short-lived certificates; a certificate is requested before keys are offered.", "bay", false}},
	{"ring", Explanation{Parts[2], "Whether keys stay unlocked in memory after their first use.", "on", false}},
	{"key_age", Explanation{Parts[2], "The age of key files from which a warning is shown.", "365d", false}},
	{"key_list", Explanation{Parts[2], "The authorized keys file on the machine, for installing and rotating keys.", ".ssh/authorized_keys", false}},

	{"tunnels", Explanation{Parts[3], "The port forwards: bring (local), lend (remote) and roam (SOCKS proxy).", "bring 15432 from db.internal:5432", false}},
	{"at_start", Explanation{Parts[3], "Whether the port forwards open when the full screen starts.", "on", false}},
	{"knock", Explanation{Parts[3], "Whether the connection is made only when a program first connects to a local port.", "on", false}},
	{"links", Explanation{Parts[3], "The number of parallel connections for the port forwards: more is faster over long distances.", "2", false}},

	{"agent", Explanation{Parts[4], "Whether the machine may use keys from here (agent forwarding).", "ask", false}},
	{"lends", Explanation{Parts[4], "The keys that the machine may use.", "keys/gauge.pem", false}},
	{"lends_to", Explanation{Parts[4], "The hosts that forwarded keys may be used for, by pattern.", "gauge-*", false}},
	{"lend_uses", Explanation{Parts[4], "The number of uses after which forwarding ends.", "5", false}},
	{"lend_for", Explanation{Parts[4], "The time after which forwarding ends.", "10m", false}},

	{"keepalive", Explanation{Parts[5], "The interval of keepalive messages, which detect a lost connection.", "30s", true}},
	{"reconnect", Explanation{Parts[5], "How long reconnecting is tried after a connection is lost.", "10m", false}},
	{"alert", Explanation{Parts[5], "How a lost connection is announced.", "notify", false}},

	{"term", Explanation{Parts[6], "The terminal type that programs on the machine see ($TERM).", "xterm-256color", false}},
	{"backspace", Explanation{Parts[6], "The character that the backspace key sends.", "del", false}},
	{"colours", Explanation{Parts[6], "The number of colours that shells show.", "16", false}},
	{"windows", Explanation{Parts[6], "Whether graphical programs may use the X display here. They see all its windows and keys.", "off", false}},

	{"folder", Explanation{Parts[7], "The folder that new shells change to.", "/srv/tide", false}},
	{"env", Explanation{Parts[7], "Environment variables for shells and commands; servers accept only configured ones.", "LANG=C.UTF-8", false}},
	{"arrive", Explanation{Parts[7], "Text that is typed into each new shell.", "uptime", false}},
}

// Explain explains a setting. ok is false for one that no sheet shows.
func Explain(key string) (e Explanation, ok bool) {
	for _, x := range explanations {
		if x.key == key {
			return x.Explanation, true
		}
	}
	return e, false
}

// Explained are the settings of a table in the order they are shown, by parts.
func Explained(layer Layer) []string {
	var keys []string
	of := FieldsOf(layer)
	for _, x := range explanations {
		if slices.Contains(of, x.key) {
			keys = append(keys, x.key)
		}
	}
	return keys
}
