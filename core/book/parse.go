package book

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// table is one table of the file on its way to becoming settings.
type table struct {
	layer   Layer
	name    string
	at      Place
	own     Session       // what it says itself; Extras, Access and Behaviour are nil where it says nothing in them
	used    bool          // a site that is nowhere in the file but in the sessions that stand in it
	terms   *KeyTerms     // of a key, nil for others
	estate  *EstateSource // of an estate
	fleet   *Fleet        // of a fleet
	gateway *Gateway      // of a gateway
	seen    []seen
	broken  *Problem
	blocks  bool    // its tunnels have headers of their own
	source  *source // of its values, nil before the first
}

// says is the origin of what the table says at a place.
func (t *table) says(at Place) Origin {
	if now := (source{t.layer, t.name}); t.source == nil || *t.source != now { // a like is named by a value of its own
		t.source = &now
	}
	return Origin{t.source, at}
}

// seen is a setting that was read, and where.
type seen struct {
	setting *setting
	at      Place
}

// reader turns a file into tables.
type reader struct {
	file     string
	text     []byte
	lines    []int // offset of each line's first byte
	problems []Problem
	layers
	sessions []*table
	named    map[string]*table // the last of each name
	keys     []*table
	estates  []*table
	fleets   []*table
	gateways []*table
	issuers  []*table
	current  *table
	path     []tomltext.Word        // of a header above tables, as [session]; current is nil there
	block    *tunnelBlock           // the tunnel whose values are read, nil for none
	implied  map[*table]bool        // tables that were only named in a longer header or a dotted key so far
	shared   map[string]inheritance // by the tables that are inherited from
}

// inheritance is what sessions take from the same tables where they say nothing themselves.
type inheritance struct {
	*Access
	*Behaviour
	broken *Problem
}

// layers are the tables that sessions inherit from.
type layers struct {
	defaults *table
	sites    map[string]*table
	likes    []*table
	order    []string // sites in order of appearance
}

// Parse reads a sessions file from memory; file is the name used in problems.
func Parse(file string, text []byte) *Book {
	r := &reader{file: file, text: text, lines: []int{0}, layers: layers{sites: map[string]*table{}}, named: map[string]*table{}}
	for i, c := range text {
		if c == '\n' {
			r.lines = append(r.lines, i+1)
		}
	}
	for start := 0; start >= 0; {
		start = r.readFrom(start)
		r.endBlock()
	}
	r.usedSites()
	b := &Book{Path: file, byName: make(map[string]*Session, len(r.sessions)), sites: r.order, far: r.layers}
	r.resolve(b)
	sort.SliceStable(r.problems, func(i, j int) bool {
		a, b := r.problems[i], r.problems[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	b.Problems = r.problems
	return b
}

// usedSites makes the sites that sessions stand in and that have no table: a site comes into
// being by being used, and has one when it gives values.
func (r *reader) usedSites() {
	for _, t := range append(r.sessions[:len(r.sessions):len(r.sessions)], r.fleets...) {
		site := t.own.Site
		if !site.Set || r.sites[site.V] != nil {
			continue
		}
		r.sites[site.V] = &table{layer: InSite, name: site.V, at: site.Origin.Place, used: true}
		r.order = append(r.order, site.V)
	}
}

// readFrom reads tables from an offset on. On a mistake in the grammar it tells
// it, and returns the offset of the next table after it, so that one mistake
// hides no other; else it returns -1.
func (r *reader) readFrom(start int) int {
	err := tomltext.Read(r.text[start:], func(e tomltext.Entry) {
		if e.Header {
			r.header(e, start)
		} else {
			r.keyValue(e, start)
		}
	})
	var mistake *tomltext.Mistake
	if !errors.As(err, &mistake) {
		return -1
	}
	at := start + mistake.At
	found := r.problem(r.place(at), "not TOML: "+sanitize.Line(mistake.Say, 160), "")
	if line := r.lines[found.Line-1]; !bytes.HasPrefix(bytes.TrimLeft(r.text[line:], " \t"), []byte("[")) {
		r.spoil(found) // a mistake in a header is none of the table before it
	}
	next := bytes.Index(r.text[at:], []byte("\n["))
	if next < 0 {
		return -1
	}
	return at + next + 1
}

func (r *reader) place(offset int) Place {
	line := sort.SearchInts(r.lines, offset+1) - 1
	return Place{int32(line + 1), int32(utf8.RuneCount(r.text[r.lines[line]:min(offset, len(r.text))]) + 1)}
}

// problem records something wrong.
func (r *reader) problem(at Place, say, hint string) *Problem {
	r.problems = append(r.problems, Problem{File: r.file, Place: at, Say: say, Hint: hint})
	p := r.problems[len(r.problems)-1]
	return &p
}

// spoil marks the current table as broken by p.
func (r *reader) spoil(p *Problem) {
	t := r.current
	if t == nil || t.layer == BuiltIn {
		return
	}
	if t.layer == InSession {
		p.Session = t.name
		r.problems[len(r.problems)-1].Session = t.name
	}
	if t.broken == nil {
		t.broken = p
	}
}

var tableWords = []string{"defaults", "site", "like", "session", "key", "estate", "fleet", "gateway", "issuer"}

func (r *reader) header(e tomltext.Entry, start int) {
	r.endBlock()
	r.path = nil
	switch n := len(e.Keys); {
	case e.Array && n > 1 && e.Keys[n-1].Text == "tunnels":
		r.tunnelHeader(e.Keys, start)
	case !e.Array && n == 1 && named(e.Keys[0].Text):
		r.current, r.path = nil, e.Keys // tables may follow as keys of it
	default:
		r.open(e.Keys, e.Array, start)
	}
}

// open begins a table.
func (r *reader) open(keys []tomltext.Word, array bool, start int) {
	var parts []string
	for _, k := range keys {
		parts = append(parts, k.Text)
	}
	at := r.place(start + keys[min(1, len(keys)-1)].From)
	if t := r.known(keys); t != nil && !array && len(r.implied) > 0 && r.implied[t] {
		delete(r.implied, t)
		t.at, r.current = at, t
		return
	}
	r.current = &table{layer: BuiltIn} // where the header is wrong, its keys are part of the same mistake
	switch {
	case parts[0] == "defaults" && len(parts) == 1 && !array:
		if r.defaults != nil {
			r.problem(at, fmt.Sprintf("defaults are given twice, first on line %d", r.defaults.at.Line), "put them in one table")
			return
		}
		r.defaults = &table{layer: InDefaults, at: at}
		r.current = r.defaults
	case parts[0] == "site" && len(parts) == 2 && !array:
		if old, ok := r.sites[parts[1]]; ok {
			r.problem(at, fmt.Sprintf("site %q is given twice, first on line %d", parts[1], old.at.Line), "put it in one table")
			return
		}
		r.current = &table{layer: InSite, name: parts[1], at: at}
		r.sites[parts[1]] = r.current
		r.order = append(r.order, parts[1])
	case parts[0] == "like" && len(parts) == 1 && array:
		r.current = &table{layer: InLike, at: at}
		r.likes = append(r.likes, r.current)
	case parts[0] == "fleet" && len(parts) == 1 && array:
		r.current = &table{layer: InFleet, at: at, fleet: &Fleet{At: at}}
		r.fleets = append(r.fleets, r.current)
	case parts[0] == "session" && len(parts) == 2 && !array:
		r.current = &table{layer: InSession, name: parts[1], at: at}
		if !ValidName(parts[1]) {
			r.spoil(r.problem(at, fmt.Sprintf("%q cannot be a session's name", sanitize.Line(parts[1], 40)), nameHint))
		}
		r.sessions = append(r.sessions, r.current)
		r.named[parts[1]] = r.current
	case parts[0] == "key" && len(parts) == 2 && !array:
		if r.twice(r.keys, "key", parts[1], at) {
			return
		}
		r.current = &table{layer: InKey, name: parts[1], at: at, terms: &KeyTerms{Path: parts[1], At: at}}
		r.keys = append(r.keys, r.current)
	case parts[0] == "estate" && len(parts) == 2 && !array:
		if r.twice(r.estates, "estate", parts[1], at) {
			return
		}
		r.current = &table{layer: InEstate, name: parts[1], at: at, estate: &EstateSource{Name: parts[1], At: at}}
		if !ValidName(parts[1]) {
			r.spoil(r.problem(at, fmt.Sprintf("%q cannot be an estate's name", sanitize.Line(parts[1], 40)), nameHint))
		}
		r.estates = append(r.estates, r.current)
	case (parts[0] == "gateway" || parts[0] == "issuer") && len(parts) == 2 && !array:
		r.current = &table{layer: InGateway, name: parts[1], at: at, gateway: &Gateway{Issuer: parts[0] == "issuer"}}
		if !ValidName(parts[1]) {
			r.spoil(r.problem(at, fmt.Sprintf("%q cannot be %s's name", sanitize.Line(parts[1], 40), withArticle(parts[0])), nameHint))
		}
		if r.current.gateway.Issuer {
			r.current.layer = InIssuer
			r.issuers = append(r.issuers, r.current)
		} else {
			r.gateways = append(r.gateways, r.current)
		}
	default:
		r.unknownTable(parts, array, at)
	}
}

// twice tells whether there is a table of that name already, and says so as a problem.
func (r *reader) twice(tables []*table, kind, name string, at Place) bool {
	i := slices.IndexFunc(tables, func(t *table) bool { return t.name == name })
	if i >= 0 {
		r.problem(at, fmt.Sprintf("%s %q is given twice, first on line %d", kind, sanitize.Line(name, 40), tables[i].at.Line), "put it in one table")
	}
	return i >= 0
}

func (r *reader) unknownTable(parts []string, array bool, at Place) {
	hint := meant(parts[0], tableWords)
	switch parts[0] {
	case "key":
		hint = `write [key."keys/tide.pem"]`
	case "session", "site", "estate", "gateway", "issuer":
		hint = fmt.Sprintf("write [%s.NAME]", parts[0])
	case "like", "fleet":
		hint = fmt.Sprintf("write [[%s]]", parts[0])
	case "defaults":
		hint = "write [defaults]"
	}
	written := "[" + strings.Join(parts, ".") + "]"
	if array {
		written = "[" + written + "]"
	}
	r.problem(at, fmt.Sprintf("%s is no table of a sessions file", sanitize.Line(written, 60)), hint)
}

// keyValue takes a key with its value.
func (r *reader) keyValue(e tomltext.Entry, start int) {
	switch {
	case r.block != nil:
		r.blockValue(e.Keys, e.Value, start)
	case r.current == nil:
		r.assign(append(r.path[:len(r.path):len(r.path)], e.Keys...), e.Value, start)
	default:
		r.value(e.Keys, e.Value, start)
	}
}

// value puts one value in the current table.
func (r *reader) value(keys []tomltext.Word, v tomltext.Value, start int) {
	key := keys[0].Text
	at := r.place(start + keys[0].From)
	t := r.current
	switch {
	case t.layer == BuiltIn:
		return
	case len(keys) > 1:
		r.spoil(r.problem(at, fmt.Sprintf("%q has no keys of its own, as in %q", sanitize.Line(key, 40), sanitize.Line(key+"."+keys[1].Text, 40)), "give it a value"))
		return
	}
	f := settingNamed(key)
	if f == nil || f.in&(1<<t.layer) == 0 {
		r.unknownKey(t, key, at, f)
		return
	}
	if i := slices.IndexFunc(t.seen, func(s seen) bool { return s.setting == f }); i >= 0 {
		r.spoil(r.problem(at, fmt.Sprintf("%q is given twice, first on line %d", key, t.seen[i].at.Line), "keep one of them"))
		return
	}
	t.seen = append(t.seen, seen{f, at})
	if where := v.Span(); where.To > where.From {
		at = r.place(start + where.From)
	}
	switch {
	case f.group == extras && t.own.Extras == nil:
		t.own.Extras = &Extras{}
	case f.group == access && t.own.Access == nil:
		t.own.Access = &Access{}
	case f.group == behaviour && t.own.Behaviour == nil:
		t.own.Behaviour = &Behaviour{}
	}
	if say, hint := f.read(t, v, t.says(at)); say != "" {
		r.spoil(r.problem(at, key+": "+say, hint))
	}
}

func (r *reader) unknownKey(t *table, key string, at Place, elsewhere *setting) {
	where := From(t.layer, t.name).String()
	switch t.layer {
	case InLike:
		where = "a like"
	case InFleet:
		where = "a fleet"
	}
	if elsewhere != nil {
		r.spoil(r.problem(at, fmt.Sprintf("%q has no meaning in %s", key, where), "give it in "+layersOf(elsewhere)))
		return
	}
	var known []string
	for i := range settings {
		if settings[i].in&(1<<t.layer) != 0 {
			known = append(known, settings[i].name)
		}
	}
	hint := meant(key, known)
	if hint == "" {
		hint = "known here: " + strings.Join(known, ", ")
	}
	r.spoil(r.problem(at, fmt.Sprintf("unknown key %q in %s", sanitize.Line(key, 40), where), hint))
}

// resolve makes sessions of tables.
func (r *reader) resolve(b *Book) {
	for _, like := range r.likes {
		if like.name == "" && like.broken == nil {
			r.current = like
			r.spoil(r.problem(like.at, "this like names no sessions", `give it a pattern: name = "gauge-*"`))
		}
	}
	for _, t := range r.sessions {
		if first, twice := b.byName[t.name]; twice {
			p := r.problem(t.at, fmt.Sprintf("session %q is given twice, first on line %d", sanitize.Line(t.name, 40), first.At.Line), "rename one of them")
			r.problems[len(r.problems)-1].Session = t.name
			if first.Broken == nil {
				first.Broken = p
			}
			continue
		}
		s := r.session(t)
		b.Sessions = append(b.Sessions, s)
		b.byName[t.name] = s
	}
	for _, t := range r.keys {
		b.Keys = append(b.Keys, *t.terms)
	}
	for _, t := range r.estates {
		b.Estates = append(b.Estates, r.estate(t))
	}
	for _, t := range r.fleets {
		b.Fleets = append(b.Fleets, r.fleet(t))
	}
	for _, t := range r.gateways {
		first := b.byName[t.name]
		if g := b.Gateway(t.name); first == nil && g != nil {
			first = g.Session
		}
		if first != nil { // both can be named in via
			r.problem(t.at, fmt.Sprintf("%q is given twice, first on line %d", sanitize.Line(t.name, 40), first.At.Line), "rename one of them")
			continue
		}
		b.Gateways = append(b.Gateways, r.gateway(t))
	}
	for _, t := range r.issuers {
		if first := b.Issuer(t.name); first != nil {
			r.problem(t.at, fmt.Sprintf("issuer %q is given twice, first on line %d", sanitize.Line(t.name, 40), first.At.Line), "put it in one table")
			continue
		}
		b.Issuers = append(b.Issuers, r.gateway(t))
	}
	r.checkVia(b)
	r.checkLeases(b)
}

// checkLeases finds sessions that name an issuer which there is not.
func (r *reader) checkLeases(b *Book) {
	for _, s := range b.Sessions {
		name, _ := s.Issuer()
		if name == "" || s.Broken != nil || b.Issuer(name) != nil {
			continue
		}
		var names []string
		for _, i := range b.Issuers {
			names = append(names, i.Name)
		}
		hint := meant(name, names)
		if len(names) == 0 {
			hint = fmt.Sprintf("write a table [issuer.%s] with its url", name)
		}
		r.breaks(s, s.Lease.Origin.Place, fmt.Sprintf("%s has leases of %q, and there is no such issuer", s.Name, sanitize.Line(name, 40)), hint)
	}
}

// fleet is what a rule that makes sessions of instances says.
func (r *reader) fleet(t *table) *Fleet {
	r.current = t
	if !t.fleet.Query.Set && t.broken == nil {
		r.spoil(r.problem(t.at, "this fleet does not say which instances it is made of", `write query = "tag:role=gauge state=running"`))
	}
	t.fleet.Broken, t.fleet.table = t.broken, t
	return t.fleet
}

// estate is what the table of an estate says. It names one of a file, an address and a command.
func (r *reader) estate(t *table) EstateSource {
	r.current = t
	e := *t.estate
	from := 0
	for _, set := range []bool{e.File.Set, e.URL.Set, e.Command.Set} {
		if set {
			from++
		}
	}
	tokens := 0
	for _, set := range []bool{e.TokenFile.Set, e.TokenEnv.Set, e.TokenCommand.Set} {
		if set {
			tokens++
		}
	}
	switch {
	case t.broken != nil:
	case !e.Kind.Set:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s does not say of what kind it is", t.name), `write kind = "document"`))
	case e.Kind.V == "openstack" && from+tokens > 0:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s names a cloud, and what is of a document", t.name), "keep cloud and region alone"))
	case e.Kind.V == "openstack" && !e.Cloud.Set:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s does not name its cloud", t.name), `write cloud = "NAME", as clouds.yaml has it`))
	case e.Kind.V == "openstack":
	case e.Cloud.Set || e.Region.Set:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s is a document, and names a cloud", t.name), `write kind = "openstack", or leave cloud and region out`))
	case from != 1:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s has to name one of a file, a url and a command", t.name), `write file = "PATH", for one`))
	case tokens > 0 && !e.URL.Set:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s has a token for no url", t.name), "leave it out, or name the url"))
	case tokens > 1:
		r.spoil(r.problem(t.at, fmt.Sprintf("estate %s names two tokens", t.name), "keep one of token_file, token_env and token_command"))
	}
	e.Every.orElse(Value[time.Duration]{V: DefaultEvery})
	e.Broken = t.broken
	return e
}

// session adds to what a session says itself what it takes from its likes (later ones
// first), its site and the defaults, and what holds where none of them says anything.
func (r *reader) session(t *table) *Session {
	s := t.own
	s.Name, s.At, s.Broken = t.name, t.at, t.broken
	var from []*table // a gateway says everything itself
	if t.gateway == nil {
		from = r.from(&s)
	}
	far := r.inherits(from)
	if s.Broken == nil {
		s.Broken = far.broken
	}
	if s.Extras == nil {
		s.Extras = noExtras
	}
	if s.Access == nil {
		s.Access = far.Access
	} else if t.layer == InFleet { // of which other sessions are made, too
		s.Access = clone(s.Access)
	}
	if s.Behaviour == nil {
		s.Behaviour = far.Behaviour
	} else if t.layer == InFleet {
		s.Behaviour = clone(s.Behaviour)
	}
	if t.own.Access != nil || t.own.Behaviour != nil {
		complete(&s, &Session{Access: far.Access, Behaviour: far.Behaviour})
	}
	switch {
	case s.Broken != nil, t.gateway != nil:
	case s.Host.Set && s.Instance.Set:
		r.breaks(&s, s.Instance.Origin.Place, fmt.Sprintf("session %q names a host and an instance", sanitize.Line(t.name, 40)), "keep one of them")
	case s.Address.Set && !s.Instance.Set && t.layer != InFleet:
		r.breaks(&s, s.Address.Origin.Place, "address says which of an instance's addresses is meant, and no instance is named", `write instance = "NAME", too`)
	case !s.Host.Set && !s.Instance.Set && t.layer != InFleet:
		r.breaks(&s, t.at, fmt.Sprintf("session %q has no host", sanitize.Line(t.name, 40)), `give it an address or a name: host = "203.0.113.10"`)
	}
	return &s
}

// from are the tables that a session takes values from, the nearest first.
func (r *reader) from(s *Session) []*table {
	var from []*table
	for _, like := range slices.Backward(r.likes) {
		if ok, _ := path.Match(like.name, s.Name); ok {
			from = append(from, like)
		}
	}
	if s.Site.Set {
		from = append(from, r.sites[s.Site.V])
	}
	if r.defaults != nil {
		from = append(from, r.defaults)
	}
	return from
}

// inherits is what a session takes from some tables where it says nothing itself. It is
// made once for all sessions that take from the same ones. Where a table is broken so are
// they, since what was meant for them is not known.
func (r *reader) inherits(from []*table) inheritance {
	key := ""
	for _, far := range from {
		key += fmt.Sprintf("%p ", far)
	}
	found, ok := r.shared[key]
	if !ok {
		s := emptySession()
		for _, far := range from {
			complete(&s, &far.own)
			if s.Broken == nil {
				s.Broken = far.broken
			}
		}
		for i := range settings {
			if preset := settings[i].preset; preset != nil {
				preset(&s)
			}
		}
		found = inheritance{s.Access, s.Behaviour, s.Broken}
		if r.shared == nil {
			r.shared = map[string]inheritance{}
		}
		r.shared[key] = found
	}
	return found
}

// complete gives a session what a farther one says and it does not. A part that the
// two share is left alone.
func complete(s, far *Session) {
	for i := range settings {
		inherit, group := settings[i].inherit, settings[i].group
		if inherit == nil || group == access && (far.Access == nil || far.Access == s.Access) ||
			group == behaviour && (far.Behaviour == nil || far.Behaviour == s.Behaviour) {
			continue
		}
		inherit(s, far)
	}
}

func clone[T any](p *T) *T {
	again := *p
	return &again
}

func (r *reader) breaks(s *Session, at Place, say, hint string) {
	p := r.problem(at, say, hint)
	r.problems[len(r.problems)-1].Session = s.Name
	if s.Broken == nil {
		s.Broken = p
	}
}

// hops are the sessions that its via names.
func (s *Session) hops() []string {
	var names []string
	for _, via := range s.Via.V {
		names = append(names, Either(via)...)
	}
	return names
}

// checkVia finds hops that name nothing and ways that run in a circle.
func (r *reader) checkVia(b *Book) {
	var names []string
	for _, s := range b.Sessions {
		for _, hop := range s.hops() {
			if b.byName[hop] == nil && b.Gateway(hop) == nil && len(b.Fleets) == 0 { // else it may be of a fleet
				if names == nil {
					names = b.Hops()
				}
				r.breaks(s, s.Via.Origin.Place, fmt.Sprintf("%s goes via %q, and there is no such session", s.Name, sanitize.Line(hop, 40)), meant(hop, names))
			}
		}
		for _, later := range s.Via.V[min(len(s.Via.V), 1):] {
			for _, hop := range Either(later) {
				if b.Gateway(hop) != nil {
					r.breaks(s, s.Via.Origin.Place, fmt.Sprintf("%s goes to the gateway %s from another hop", s.Name, hop), "name the gateway first: it is reached from here alone")
				}
			}
		}
	}
	const fresh, walking, done = 0, 1, 2
	state := make(map[*Session]int, len(b.Sessions))
	var trail []string
	var visit func(s *Session)
	visit = func(s *Session) {
		state[s] = walking
		trail = append(trail, s.Name)
		for _, hop := range s.hops() {
			next := b.byName[hop]
			if next == nil {
				continue
			}
			switch state[next] {
			case walking:
				from := len(trail) - 1
				for trail[from] != next.Name {
					from--
				}
				ring := strings.Join(append(append([]string{}, trail[from:]...), next.Name), " → ")
				r.breaks(s, s.Via.Origin.Place, "the way runs in a circle: "+ring, "leave one of these hops out")
				for _, name := range trail[from:] {
					if b.byName[name].Broken == nil {
						b.byName[name].Broken = s.Broken
					}
				}
			case fresh:
				visit(next)
			}
		}
		trail = trail[:len(trail)-1]
		state[s] = done
	}
	for _, s := range b.Sessions {
		if state[s] == fresh {
			visit(s)
		}
	}
}

const nameHint = "use letters, digits, dots, hyphens and underscores"

// ValidName tells whether a session can have that name: letters, digits and
// "._-", starting with a letter or digit, at most 64 characters.
func ValidName(name string) bool {
	if name == "" || utf8.RuneCountInString(name) > 64 || name == "here" {
		return false
	}
	for i, r := range name {
		letter := unicode.IsLetter(r) || unicode.IsDigit(r)
		if !letter && (i == 0 || !strings.ContainsRune("._-", r)) {
			return false
		}
	}
	return true
}
