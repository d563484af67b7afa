// Package routeline is the one-line language for a session:
//
//	tide-db = keeper@10.61.4.20:22 via quay with tide.pem bring 15432 from db:5432
//
// It promises that every mistake is told at the word it is in, that a line
// being typed is read as far as it goes, and that nothing is looked up or run:
// what exists is given to it as [Known]. It costs one pass over the line.
package routeline

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"

	"meatus/core/book"
	"meatus/core/sanitize"
)

// Role says what a word of the line is.
type Role uint8

// The roles a word can have.
const (
	Name Role = iota
	Sign      // "="
	Target
	Clause // "via", "with", "site", "every", "bring" and so on, and "from"
	Hop
	Key
	Site
	Time
	Listener
	Service
	Value
	Stray
)

// Word is one word of the line: its role and where it stands, as byte offsets.
type Word struct {
	Role     Role
	From, To int
	Text     string
}

// Mistake is something wrong at one place of the line. To equals From where
// something is missing there.
type Mistake struct {
	From, To int
	Say      string
	// Unfinished marks a mistake that typing on may still put right.
	Unfinished bool
}

// Known is what a line can refer to.
type Known struct {
	Sessions []string
	Sites    []string
	Keys     []string // as they are written in a line: "tide.pem"
	Users    []string
	Hosts    map[string]string // the session that has a host, by host
	// Downloads are key files elsewhere, by the path they are written with.
	Downloads []string
}

// Line is a line read.
type Line struct {
	Draft    book.Draft
	Hops     []book.Draft // new sessions for hops that are written as USER@HOST, in the order of the route
	Words    []Word
	Mistakes []Mistake
}

// clause is a word that opens a part of the line.
type clause struct {
	word string
	role Role // of what follows
	what string
	most int  // how many words may follow, 0 for any number
	many bool // the clause may stand more than once
	take func(l *Line, known Known, w Word)
}

var clauses []clause

func init() { // a hop is read as a target, which no clause may be
	clauses = []clause{
		{"via", Hop, "a session to go through", 0, false, takeHop},
		{"with", Key, "a key file", 0, false, takeKey},
		{"site", Site, "a site", 1, false, takeSite},
		{"every", Time, "the time between keepalives", 1, false, takeEvery},
		{"bring", Listener, "a door here, as in bring 15432 from db.internal:5432", 3, true, nil},
		{"lend", Listener, "a door over there, as in lend 9000 from 127.0.0.1:3000", 3, true, nil},
		{"roam", Listener, "a door here, as in roam 1080", 1, true, nil},
		{"set", Value, "values of the sessions file, as in set careful=on note=\"mind the tide\"", 0, false, takeValue},
		{"lend-agent", Stray, "", -1, false, nil},
	}
}

func clauseNamed(word string) *clause {
	for i := range clauses {
		if clauses[i].word == word {
			return &clauses[i]
		}
	}
	return nil
}

// maxLine is how long a line can be, in bytes.
const maxLine = 4096

// Parse reads a line.
func Parse(line string, known Known) Line {
	l := Line{}
	if len(line) > maxLine {
		l.miss(maxLine, len(line), "a line is at most 4096 bytes long", false)
		return l
	}
	if clean := sanitize.Line(line, len(line)+1); clean != strings.Join(strings.Fields(line), " ") {
		l.miss(0, len(line), "the line holds characters that cannot be shown", false)
		return l
	}
	words := split(line)
	if len(words) == 0 {
		l.miss(0, 0, "write who and where: keeper@10.61.4.20 via quay", true)
		return l
	}
	words = l.takeName(words, known)
	if len(words) == 0 {
		l.miss(len(line), len(line), "the host is missing: user@host", true)
		return l
	}
	l.takeTarget(words[0])
	l.takeClauses(words[1:], known, len(line))
	for _, h := range l.Hops {
		known.Sessions = append(slices.Clip(known.Sessions), h.Name)
	}
	l.inventName(known)
	sort.SliceStable(l.Mistakes, func(i, j int) bool { return l.Mistakes[i].From < l.Mistakes[j].From })
	return l
}

// split cuts the line into words. Quotes keep blanks together, also behind the "=" of a
// value; the first "=" is a word of its own, unless "set" stands before it.
func split(line string) []Word {
	var words []Word
	signs := "="
	for i := 0; i < len(line); {
		switch c := line[i]; {
		case c == ' ' || c == '\t' || c == ',':
			i++
		case c == '=' && signs != "":
			signs = ""
			words = append(words, Word{Sign, i, i + 1, "="})
			i++
		case c == '"' || c == '\'':
			end := strings.IndexByte(line[i+1:], c)
			to, text := len(line), line[i+1:]
			if end >= 0 {
				to, text = i+end+2, line[i+1:i+1+end]
			}
			words = append(words, Word{Stray, i, to, text})
			i = to
		default:
			to := i
			for to < len(line) && !strings.ContainsRune(" \t,"+signs, rune(line[to])) {
				if q := line[to]; to > i && line[to-1] == '=' && (q == '"' || q == '\'') {
					if end := strings.IndexByte(line[to+1:], q); end >= 0 {
						to += end + 1
					}
				}
				to++
			}
			words = append(words, Word{Stray, i, to, line[i:to]})
			if line[i:to] == "set" {
				signs = ""
			}
			i = to
		}
	}
	return words
}

func (l *Line) miss(from, to int, say string, unfinished bool) {
	l.Mistakes = append(l.Mistakes, Mistake{from, to, say, unfinished})
}

func (l *Line) mark(role Role, w Word) Word {
	w.Role = role
	l.Words = append(l.Words, w)
	return w
}

// takeName takes "NAME =" where the line has it.
func (l *Line) takeName(words []Word, known Known) []Word {
	at := -1
	for i, w := range words {
		if w.Role == Sign {
			at = i
			break
		}
	}
	if at < 0 {
		return words
	}
	if at == 0 {
		l.miss(words[0].From, words[0].To, "the name is missing before =", false)
	}
	for i, w := range words[:at] {
		if i > 0 {
			l.miss(w.From, w.To, "a name is one word", false)
			l.mark(Stray, w)
			continue
		}
		l.mark(Name, w)
		l.Draft.Name = w.Text
		if !book.ValidName(w.Text) {
			l.miss(w.From, w.To, "a name is made of letters, digits, dots, hyphens and underscores", false)
		} else if slices.Contains(known.Sessions, w.Text) {
			l.miss(w.From, w.To, fmt.Sprintf("there is a session %s already", w.Text), false)
		}
	}
	l.mark(Sign, words[at])
	return words[at+1:]
}

// takeTarget takes "[USER@]HOST[:PORT]".
func (l *Line) takeTarget(w Word) {
	if c := clauseNamed(w.Text); c != nil {
		l.miss(w.From, w.To, "the host is missing before "+w.Text, false)
		l.mark(Stray, w)
		return
	}
	l.mark(Target, w)
	rest, at := w.Text, w.From
	uri := strings.HasPrefix(rest, scheme)
	if uri {
		rest, at = rest[len(scheme):], at+len(scheme)
		if i := strings.IndexByte(rest, '/'); i >= 0 {
			if i+1 < len(rest) {
				l.miss(at+i, w.To, "what follows the host has no meaning here", false)
			}
			rest, w.To = rest[:i], at+i
		}
	}
	if i := strings.LastIndexByte(rest, '@'); i >= 0 {
		l.Draft.User = rest[:i]
		if uri { // RFC 3986 section 3.2.1, with the parameters some write behind the user
			l.Draft.User, _, _ = strings.Cut(l.Draft.User, ";")
			if plain, err := url.PathUnescape(l.Draft.User); err == nil {
				l.Draft.User = plain
			}
		}
		if !book.ValidUser(l.Draft.User) {
			l.miss(at, at+max(i, 1), "that is no login name", false)
		}
		rest, at = rest[i+1:], at+i+1
	}
	host, port, hasPort := rest, "", false
	switch {
	case strings.HasPrefix(rest, "["):
		end := strings.IndexByte(rest, ']')
		if end < 0 {
			l.miss(at, w.To, "the bracket of the address is not closed", true)
			return
		}
		host = rest[1:end]
		port, hasPort = strings.CutPrefix(rest[end+1:], ":")
		if end+1 < len(rest) && !hasPort {
			l.miss(at+end+1, w.To, "after the address only a port can follow: [2001:db8::1]:22", false)
		}
	case strings.Count(rest, ":") == 1:
		host, port, hasPort = strings.Cut(rest, ":")
	case strings.Count(rest, ":") > 1 && net.ParseIP(rest) == nil:
		l.miss(at, w.To, "that is no address; with a port write [2001:db8::1]:22", false)
		return
	}
	l.Draft.Host = host
	if host == "" {
		l.miss(at, w.To, "the host is missing", true)
	} else if !book.ValidHost(host) || strings.HasPrefix(host, "-") {
		l.miss(at, at+len(host), fmt.Sprintf("%q is no host", sanitize.Line(host, 40)), false)
	} else if dotted(host) && net.ParseIP(host) == nil {
		l.miss(at, at+len(host), "an address has four numbers from 0 to 255", true)
	}
	if !hasPort {
		return
	}
	n, err := strconv.Atoi(port)
	if err != nil || n < 1 || n > 65535 {
		l.miss(w.To-len(port), w.To, "a port is a number from 1 to 65535", port == "")
		return
	}
	l.Draft.Port = n
}

// dotted tells whether a host is made of digits and dots alone.
func dotted(host string) bool {
	return strings.Trim(host, "0123456789.") == "" && strings.Contains(host, ".")
}

func (l *Line) takeClauses(words []Word, known Known, end int) {
	var open *clause
	var opener Word
	var tunnel []Word // what follows the word of a tunnel
	taken := 0
	closeClause := func() {
		switch {
		case open == nil:
		case open.word == "lend-agent":
			l.Draft.Agent = "lend"
		case taken == 0:
			l.miss(opener.From, opener.To, fmt.Sprintf("%s wants %s", open.word, open.what), true)
		case open.role == Listener:
			l.takeTunnel(opener, tunnel)
		}
		tunnel = nil
	}
	seen := map[string]bool{}
	for i, w := range words {
		last := i == len(words)-1
		if c := clauseNamed(w.Text); c != nil {
			closeClause()
			open, opener, taken = c, l.mark(Clause, w), 0
			if seen[w.Text] && !c.many {
				l.miss(w.From, w.To, fmt.Sprintf("%s stands here twice; list what follows it: via quay, inner", w.Text), false)
			}
			seen[w.Text] = true
			continue
		}
		if open == nil || open.most != 0 && taken >= open.most {
			l.stray(w, last)
			continue
		}
		taken++
		if open.role == Listener {
			tunnel = append(tunnel, l.mark([]Role{Listener, Clause, Service}[taken-1], w))
			continue
		}
		open.take(l, known, l.mark(open.role, w))
	}
	closeClause()
}

// takeTunnel takes "DOOR" or "DOOR from SERVICE" behind the word of a tunnel.
func (l *Line) takeTunnel(kind Word, words []Word) {
	last, reach := words[len(words)-1], ""
	if kind.Text != "roam" {
		switch {
		case len(words) > 1 && words[1].Text != "from":
			l.miss(words[1].From, words[1].To, fmt.Sprintf("%s %s from SERVICE: from is missing", kind.Text, sanitize.Line(words[0].Text, 20)), strings.HasPrefix("from", words[1].Text))
			return
		case len(words) < 3:
			l.miss(last.From, last.To, fmt.Sprintf("%s %s from … a service: HOST:PORT", kind.Text, sanitize.Line(words[0].Text, 20)), true)
			return
		}
		reach = words[2].Text
	}
	t, wrong, err := book.NewTunnel(kind.Text, words[0].Text, reach)
	if err == nil {
		l.Draft.Tunnels = append(l.Draft.Tunnels, t)
		return
	}
	at := words[0]
	if wrong == reach && reach != "" {
		at = words[2]
	}
	l.miss(at.From, at.To, err.Error(), at.To == last.To)
}

// stray tells what a word that belongs nowhere was likely meant to be.
func (l *Line) stray(w Word, last bool) {
	l.mark(Stray, w)
	var words []string
	for _, c := range clauses {
		words = append(words, c.word)
		if last && w.Text != "" && strings.HasPrefix(c.word, w.Text) {
			l.miss(w.From, w.To, strings.TrimSuffix(fmt.Sprintf("%s … %s", c.word, c.what), " … "), true)
			return
		}
	}
	say := fmt.Sprintf("%q means nothing here; after the host come %s", sanitize.Line(w.Text, 30), strings.Join(words, ", "))
	if near := book.Nearest(w.Text, words); near != "" {
		say = fmt.Sprintf("did you mean %s?", near)
	}
	l.miss(w.From, w.To, say, false)
}

// unknown tells that a word names nothing there is.
func (l *Line) unknown(w Word, what string, there []string) {
	say := fmt.Sprintf("there is no %s %q", what, sanitize.Line(w.Text, 40))
	unfinished := false
	for _, t := range there {
		unfinished = unfinished || strings.HasPrefix(t, w.Text)
	}
	if near := book.Nearest(w.Text, there); near != "" && !unfinished {
		say += fmt.Sprintf("; did you mean %s?", near)
	}
	l.miss(w.From, w.To, say, unfinished)
}

func takeHop(l *Line, known Known, w Word) {
	if strings.Contains(w.Text, "@") {
		l.newHop(known, w)
		return
	}
	for _, name := range book.Either(w.Text) {
		switch {
		case name == l.Draft.Name && name != "":
			l.miss(w.From, w.To, "a session cannot go through itself", false)
		case !slices.Contains(known.Sessions, name):
			l.unknown(Word{Text: name, From: w.From, To: w.To}, "session", known.Sessions)
		}
	}
	l.Draft.Via = append(l.Draft.Via, strings.Join(book.Either(w.Text), " | "))
}

// newHop makes a session of a hop that is written as USER@HOST, unless a session has that host already.
func (l *Line) newHop(known Known, w Word) {
	hop := Line{}
	hop.takeTarget(w)
	l.Mistakes = append(l.Mistakes, hop.Mistakes...)
	if len(hop.Mistakes) > 0 {
		return
	}
	if name := known.Hosts[hop.Draft.Host]; name != "" {
		l.Draft.Via = append(l.Draft.Via, name)
		return
	}
	taken := slices.Clone(known.Sessions)
	for _, h := range l.Hops {
		taken = append(taken, h.Name)
	}
	hop.inventName(Known{Sessions: append(taken, l.Draft.Name)})
	if len(hop.Mistakes) > 0 {
		l.miss(w.From, w.To, "no session name can be made of that host; write the bastion as a session of its own first", false)
		return
	}
	hop.Draft.Via = l.Draft.Via // it is reached through those before it
	l.Hops = append(l.Hops, hop.Draft)
	l.Draft.Via = []string{hop.Draft.Name}
}

// takeValue takes "KEY=VALUE" behind "set".
func takeValue(l *Line, _ Known, w Word) {
	key, value, is := strings.Cut(w.Text, "=")
	if n := len(value); n > 1 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] {
		value = value[1 : n-1]
	}
	switch {
	case !is:
		l.miss(w.From, w.To, "a value is written KEY=VALUE", true)
	case !slices.Contains(book.Fields, key):
		say := fmt.Sprintf("there is no setting %q", sanitize.Line(key, 30))
		if near := book.Nearest(key, book.Fields); near != "" {
			say += fmt.Sprintf("; did you mean %s?", near)
		}
		l.miss(w.From, w.From+len(key), say, false)
	case own[key] != "":
		l.miss(w.From, w.From+len(key), key+" has a word of its own in the line: "+own[key], false)
	case slices.ContainsFunc(l.Draft.Settings, func(s book.Setting) bool { return s.Key == key }):
		l.miss(w.From, w.From+len(key), key+" stands here twice", false)
	case value == "":
		l.miss(w.To, w.To, "the value is missing behind "+key+"=", true)
	default:
		if wrong := book.WrongText(key, value); wrong != "" {
			l.miss(w.From+len(key)+1, w.To, wrong, false)
		}
		l.Draft.Settings = append(l.Draft.Settings, book.Setting{Key: key, Value: value})
	}
}

// own are the settings that the line has a word for.
var own = map[string]string{"host": "USER@HOST", "user": "USER@HOST", "port": "USER@HOST:PORT", "via": "via", "key": "with", "site": "site", "keepalive": "every", "tunnels": "bring, lend, roam"}

func takeKey(l *Line, known Known, w Word) {
	path := w.Text
	switch {
	case slices.Contains(known.Keys, w.Text):
		if !strings.ContainsRune(w.Text, '/') {
			path = "keys/" + w.Text
		}
	case download(known, w.Text) != "":
		path = download(known, w.Text)
	case !strings.ContainsRune(w.Text, '/'):
		l.unknown(w, "key", known.Keys)
	}
	l.Draft.Keys = append(l.Draft.Keys, path)
}

// download is the key file of that name elsewhere, "" where there is none.
func download(known Known, name string) string {
	for _, path := range known.Downloads {
		if path[strings.LastIndexByte(path, '/')+1:] == name {
			return path
		}
	}
	return ""
}

func takeSite(l *Line, known Known, w Word) {
	if !slices.Contains(known.Sites, w.Text) {
		l.unknown(w, "site", known.Sites)
	}
	l.Draft.Site = w.Text
}

func takeEvery(l *Line, _ Known, w Word) {
	if _, err := book.ParseKeepalive(w.Text); err != nil {
		l.miss(w.From, w.To, "a time from 1s to 1h, or off", true)
		return
	}
	l.Draft.Keepalive = w.Text
}

// scheme is how a URI of this protocol begins.
const scheme = "ssh://"

// inventName names a session that was given no name after its host.
func (l *Line) inventName(known Known) {
	if l.Draft.Name != "" || l.Draft.Host == "" {
		return
	}
	base := l.Draft.Host
	if net.ParseIP(base) == nil {
		base, _, _ = strings.Cut(base, ".")
	}
	base = strings.Map(func(r rune) rune {
		if r == ':' || r == '%' {
			return '-'
		}
		return r
	}, strings.TrimLeft(base, ":.-_"))
	if !book.ValidName(base) {
		l.miss(0, 0, "give it a name: name = …", false)
		return
	}
	name := base
	for n := 2; slices.Contains(known.Sessions, name); n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	l.Draft.Name = name
}
