package routeline

import (
	"maps"
	"meatus/core/book"
	"path"
	"slices"
	"strings"
)

// Complete returns what the word that ends at offset at could become, and where
// that word begins. With nothing typed yet it offers everything that fits.
func Complete(line string, at int, known Known) (from int, candidates []string) {
	at = min(max(at, 0), len(line))
	words := split(line[:at])
	typed := ""
	from = at
	if n := len(words); n > 0 && words[n-1].To == at && words[n-1].Role != Sign {
		typed, from = words[n-1].Text, words[n-1].From
		words = words[:n-1]
	}
	for _, c := range poolFor(words, typed, known) {
		if strings.HasPrefix(c, typed) && c != typed {
			candidates = append(candidates, c)
		}
	}
	return from, candidates
}

// poolFor tells what may follow the words before; typed is what of it stands
// there already.
func poolFor(words []Word, typed string, known Known) []string {
	target := false
	var open *clause
	taken := 0
	for i, w := range words {
		switch c := clauseNamed(w.Text); {
		case w.Role == Sign:
			target = false
		case c != nil && target:
			open, taken = c, 0
		case open != nil:
			taken++
		case i == 0 || words[i-1].Role == Sign:
			target = true
		}
	}
	if !target {
		return targets(typed, known)
	}
	var pool []string
	if open != nil {
		pool = open.pool(taken, typed, known)
	}
	if open == nil || taken > 0 && (open.role != Listener || taken == open.most) || open.most < 0 {
		for _, c := range clauses {
			pool = append(pool, c.word)
		}
	}
	return pool
}

// pool is what may follow a clause's word and taken words more; typed is what of it stands
// there already.
func (c *clause) pool(taken int, typed string, known Known) []string {
	switch {
	case c.role == Hop:
		if cut := strings.LastIndexByte(typed, '|') + 1; cut > 0 { // behind others of which one is gone through
			var behind []string
			for _, name := range known.Sessions {
				behind = append(behind, typed[:cut]+name)
			}
			return behind
		}
		return slices.Clone(known.Sessions)
	case c.role == Key:
		keys := slices.Clone(known.Keys)
		for _, file := range known.Downloads {
			keys = append(keys, quoted(path.Base(file)))
		}
		return keys
	case c.role == Value:
		var keys []string
		for _, key := range book.Fields {
			if own[key] == "" {
				keys = append(keys, key+"=")
			}
		}
		return keys
	case c.role == Site && taken == 0:
		return slices.Clone(known.Sites)
	case c.role == Time && taken == 0:
		return []string{"30s", "1m", "off"}
	case c.role == Listener && c.most == 3 && taken == 1:
		return []string{"from"}
	case c.role == Listener && c.word == "bring" && taken == 2:
		var services []string
		for _, host := range slices.Sorted(maps.Keys(known.Hosts)) {
			services = append(services, host+":")
		}
		return services
	}
	return nil
}

// quoted is a word as the line wants it.
func quoted(word string) string {
	if strings.ContainsAny(word, " \t,=") {
		return `"` + strings.ReplaceAll(word, `"`, "") + `"`
	}
	return word
}

// targets are logins, and behind a login hosts that are known.
func targets(typed string, known Known) []string {
	if typed == "" {
		return nil // a name may come first
	}
	user, _, hasUser := strings.Cut(typed, "@")
	var pool []string
	if hasUser {
		for _, host := range slices.Sorted(maps.Keys(known.Hosts)) {
			pool = append(pool, user+"@"+host)
		}
		return pool
	}
	for _, user := range known.Users {
		pool = append(pool, user+"@")
	}
	return pool
}
