package prefs

import (
	"fmt"
	"sort"
	"strings"

	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// Letter is a key that means one thing in every place where it means anything.
type Letter struct {
	Verb  string // its name in the settings
	Key   string // as it is built in
	Means string
}

// Letters are all of them, in the order they are documented in. What moves a cursor, enter, esc
// and tab are not among them and cannot be changed.
var Letters = []Letter{
	{"actions", ":", "find an action by its words"},
	{"help", "?", "all keys of this place"},
	{"leave", "q", "close; on Routes, leave the program"},

	{"find", "/", "find in what is listed"},
	{"filter", "|", "filter the list"},
	{"order", "o", "order what is listed"},
	{"group", "g", "group what is listed"},
	{"details", "d", "show details"},
	{"read", "r", "reload"},
	{"fold", "z", "fold or unfold the problems"},
	{"narrower", "[", "move the divide to the left or up"},
	{"wider", "]", "move the divide to the right or down"},
	{"longer", "+", "a longer time"},
	{"shorter", "-", "a shorter time"},

	{"new", "n", "make or add one"},
	{"another", "N", "copy"},
	{"edit", "e", "change values"},
	{"edit-many", "E", "change something at many places at once"},
	{"rename", "R", "rename"},
	{"remove", "D", "remove, retire, end or close it, once you say so"},
	{"remove-all", "Z", "remove, end or close all of it, once you say so"},
	{"undo", "u", "undo an edit"},
	{"redo", "U", "redo an edit"},
	{"mark", "space", "mark it"},

	{"mend", "m", "fix the problem"},
	{"mend-more", "M", "other remedies"},
	{"mistakes", "!", "the mistakes of the sessions file"},
	{"check", "c", "check it"},
	{"check-all", "C", "check all"},
	{"how-often", "F", "repeat checks"},
	{"variant", "v", "next variant"},
	{"via", "V", "sessions through a bastion"},
	{"at", "@", "the instance and routes to it"},
	{"exposure", "*", "open ports and who reaches them"},
	{"ask", "a", "find the accepted key; ask a gateway; confirm each use"},
	{"run-many", "A", "run a command at many machines"},

	{"shell", "s", "another shell"},
	{"tunnels", "t", "open or close port forwards"},
	{"doors", "p", "port forwards, one by one; sharing the agent"},
	{"new-door", "P", "open a new port forward"},
	{"time", "w", "wait; a time limit; the last hours"},
	{"lend", "l", "agent forwarding; add a key to the agent"},
	{"lock", "L", "lock or unlock"},
	{"hosts", "h", "limit to hosts"},
	{"better", "B", "an alternative"},
	{"background", "b", "continue in the background"},
	{"import", "i", "import"},
	{"install", "I", "install on a machine"},
	{"sweep", "S", "search an account for stray keys"},
	{"unseal", "O", "decrypt a first password"},

	{"files", "f", "files of the machine"},
	{"carry", ">", "start the transfer"},
	{"copy", "y", "copy to the clipboard"},
	{"draw", "x", "draw a picture"},
	{"write", "X", "write to a file"},

	{"routes", "0", "the place Routes"},
	{"trail", "T", "the place Trail"},
	{"estate", "Y", "the place Estate"},
	{"cargo", "Q", "the place Cargo"},
	{"hosts-place", "H", "the place Hosts"},
	{"keys", "K", "the place Keys"},
	{"watch", "W", "the place Watch"},
	{"ring", "G", "the place Ring"},
	{"jobs", "J", "the place Jobs"},
	{"leases", "9", "the place Leases"},
}

// fixed are keys that no verb can have: they are typed, move a cursor, or end things.
var fixed = map[string]bool{
	"enter": true, "esc": true, "tab": true, "shift+tab": true, "up": true, "down": true, "left": true, "right": true,
	"pgup": true, "pgdown": true, "home": true, "end": true, "backspace": true, "delete": true, "ctrl+c": true, "": true,
}

// checkKeys tells the first mistake among the keys that are chosen, and at which key of the
// table it is.
func checkKeys(keys map[string]string) (verb, mistake string) {
	on := map[string]string{}
	for _, l := range Letters {
		key, chosen := keys[l.Verb]
		if !chosen {
			on[l.Key] = l.Verb
		} else if fixed[key] || strings.ContainsAny(key, " \t") || sanitize.Line(key, 20) != key {
			return l.Verb, fmt.Sprintf("%q is no key that %s can have", sanitize.Line(key, 20), l.Verb)
		}
	}
	verbs := make([]string, 0, len(keys))
	for verb := range keys {
		verbs = append(verbs, verb)
	}
	sort.Strings(verbs)
	for _, verb := range verbs {
		if !known(verb) {
			return verb, "there is nothing called " + sanitize.Line(verb, 40) + " that has a key; docs/keys.md lists what does"
		}
		if other := on[keys[verb]]; other != "" {
			return verb, fmt.Sprintf("%s is the key of %s, too; give one of them another", keys[verb], other)
		}
		on[keys[verb]] = verb
	}
	return "", ""
}

func known(verb string) bool {
	for _, l := range Letters {
		if l.Verb == verb {
			return true
		}
	}
	return false
}

// place is the line and column of a key of a table in a text, from 1.
func place(text []byte, table, key string) (line, column int) {
	line, column = 1, 1
	in := ""
	_ = tomltext.Read(text, func(e tomltext.Entry) {
		if e.Header {
			in = e.Keys[0].Text
			return
		}
		path := []string{in}
		if in == "" {
			path = nil
		}
		for _, w := range e.Keys {
			path = append(path, w.Text)
		}
		if strings.Join(path, ".") == table+"."+key {
			before := text[:e.Keys[len(e.Keys)-1].From]
			line = 1 + strings.Count(string(before), "\n")
			column = len(before) - strings.LastIndexByte(string(before), '\n')
		}
	})
	return line, column
}
