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
	{"actions", ":", "find anything that can be done, by its words"},
	{"help", "?", "all keys of this place"},
	{"leave", "q", "put this away; on Routes, leave the program"},

	{"find", "/", "find in what is listed"},
	{"filter", "|", "narrow what is listed to one kind"},
	{"order", "o", "order what is listed"},
	{"group", "g", "group what is listed"},
	{"details", "d", "show details"},
	{"read", "r", "read again what stands on disk"},
	{"fold", "z", "fold or unfold what needs you"},
	{"narrower", "[", "move the divide to the left or up"},
	{"wider", "]", "move the divide to the right or down"},
	{"longer", "+", "a longer time"},
	{"shorter", "-", "a shorter time"},

	{"new", "n", "make or add one"},
	{"another", "N", "another like the one there is"},
	{"edit", "e", "change values"},
	{"edit-many", "E", "change something at many places at once"},
	{"rename", "R", "give it another name"},
	{"remove", "D", "remove, retire, end or close it, once you say so"},
	{"remove-all", "Z", "remove, end or close all of it, once you say so"},
	{"undo", "u", "take an edit back"},
	{"redo", "U", "do an edit again"},
	{"mark", "space", "mark it"},

	{"mend", "m", "put right what is wrong"},
	{"mend-more", "M", "other ways to put it right"},
	{"mistakes", "!", "the mistakes of the sessions file"},
	{"check", "c", "check it"},
	{"check-all", "C", "check all"},
	{"how-often", "F", "how often all are checked"},
	{"variant", "v", "which of several variants"},
	{"via", "V", "what goes through it"},
	{"at", "@", "where it stands in the estate, and the ways to it"},
	{"exposure", "*", "what is open to whom"},
	{"ask", "a", "ask: which key opens it; what a gateway knows; or whether to be asked"},
	{"run-many", "A", "run a command at many machines"},

	{"shell", "s", "to its live shell"},
	{"tunnels", "t", "open or close its tunnels"},
	{"doors", "p", "doors that programs on this machine come in by"},
	{"new-door", "P", "open another door"},
	{"time", "w", "how long: wait for it, how long it lasts, the last hours"},
	{"lend", "l", "lend keys, or hold one in memory to lend it"},
	{"lock", "L", "lock or unlock"},
	{"hosts", "h", "which hosts it is limited to"},
	{"better", "B", "another way to have the same"},
	{"background", "b", "go on with it in the background"},
	{"import", "i", "take in from a file"},
	{"install", "I", "install at a machine"},
	{"sweep", "S", "look for what should not lie there"},
	{"unseal", "O", "open something sealed with it"},

	{"files", "f", "the files of its machine"},
	{"carry", ">", "carry the plan out"},
	{"copy", "y", "copy to the clipboard"},
	{"draw", "x", "draw it, as a picture to hand on"},
	{"write", "X", "write it to a file"},

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
