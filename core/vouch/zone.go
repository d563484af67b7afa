package vouch

import (
	"strings"
	"unicode"
)

// sshfp is one SSHFP record (RFC 4255 section 3.1), its fields as they are written.
type sshfp struct {
	owner  string // without the dot at its end
	kind   string // of the digest
	digest string // hexadecimal digits
}

// zoneRecords reads the SSHFP records of a zone file (RFC 1035 section 5.1): with
// comments, parentheses over several lines, an origin, and owners left out. What is no
// such record is passed over.
func zoneRecords(text string) []sshfp {
	var found []sshfp
	origin, owner := "", ""
	for _, entry := range zoneEntries(text) {
		words := entry.words
		if strings.EqualFold(words[0], "$ORIGIN") && len(words) > 1 {
			origin = strings.TrimSuffix(words[1], ".")
			continue
		}
		if !entry.indented {
			owner, words = absolute(words[0], origin), words[1:]
		}
		// A time to live and a class may stand before the type, in any order.
		for len(words) > 0 && !strings.EqualFold(words[0], "SSHFP") {
			words = words[1:]
		}
		if len(words) == 0 {
			continue
		}
		r := sshfp{owner: owner}
		if len(words) >= 4 { // the digest may be in several parts
			r.kind, r.digest = words[2], strings.ToLower(strings.Join(words[3:], ""))
		}
		found = append(found, r)
	}
	return found
}

// absolute is a name with the origin behind it, where it does not end in a dot.
func absolute(name, origin string) string {
	switch {
	case name == "@":
		return origin
	case strings.HasSuffix(name, ".") || origin == "":
		return strings.TrimSuffix(name, ".")
	}
	return name + "." + origin
}

// zoneEntry is one entry of a zone file.
type zoneEntry struct {
	words    []string // at least one
	indented bool     // it is of the owner before
}

// zoneEntries cuts a zone file into entries: a line each, or as many as parentheses hold
// together.
func zoneEntries(text string) []zoneEntry {
	var all []zoneEntry
	var now zoneEntry
	open := false
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, ";")
		if !open {
			now = zoneEntry{indented: line != "" && unicode.IsSpace(rune(line[0]))}
		}
		for _, word := range strings.Fields(strings.NewReplacer("(", " ( ", ")", " ) ").Replace(line)) {
			switch word {
			case "(":
				open = true
			case ")":
				open = false
			default:
				now.words = append(now.words, word)
			}
		}
		if !open && len(now.words) > 0 {
			all = append(all, now)
		}
	}
	if open && len(now.words) > 0 {
		all = append(all, now)
	}
	return all
}

// isName tells whether s can be a host's name: at most 253 bytes of labels of at most 63
// (RFC 1035 section 2.3.4), of letters, digits, hyphens and underscores.
func isName(s string) bool {
	if s == "" || len(s) > 253 {
		return false
	}
	for label := range strings.SplitSeq(strings.TrimSuffix(s, "."), ".") {
		if label == "" || len(label) > 63 || strings.ContainsFunc(label, func(r rune) bool {
			return r != '-' && r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r)
		}) {
			return false
		}
	}
	return true
}
