package watch

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"meatus/core/link"
	"meatus/core/meter"
	"meatus/core/remote"
	"meatus/core/tunnel"
	"meatus/core/words"
)

// stop is one line of the map: a link, hung from the one it goes through, or a way that is lost.
type stop struct {
	liveLink
	rails []bool   // for each rail that leads to it, from here on, whether it goes on below
	hops  []string // of a lost way, nil for a link
	lost  time.Time
	whose string // the session of a lost way, or the other program's
}

// liveLink is a live link of this program or of another.
type liveLink struct {
	link.State
	key   string       // of its series
	other *tunnel.Seen // nil for one of this program
}

// row is one line of the list: a group's head, a listener, a flow, or a shell.
type row struct {
	head     string
	listener *tunnel.Line
	other    *tunnel.Seen // the other program whose it is, or nil
	session  string
	at       string // the listener of a flow
	flow     *tunnel.Flow
	program  *remote.State
	in, out  float64 // bytes a second
	words    string  // what it is found by
	key      string  // of its series
	group    string
}

// id tells a row from others, however they are sorted and grouped.
func (r row) id() string {
	if r.head != "" {
		return "group " + r.head
	}
	return r.key
}

// id tells a way of the map from others. A link that comes back is the same.
func (s stop) id() string {
	if s.hops != nil {
		return "lost " + s.whose
	}
	return s.key
}

// bytes are what a row has carried.
func (r row) bytes() uint64 {
	switch {
	case r.flow != nil:
		return r.flow.In + r.flow.Out
	case r.program != nil:
		return r.program.In + r.program.Out
	}
	return 0
}

func (r row) began() time.Time {
	if r.flow != nil {
		return r.flow.Began
	}
	return r.program.Began
}

func (r row) last() time.Time {
	if r.flow != nil {
		return r.flow.Last
	}
	return r.program.Last
}

// counts are how many of each are alive.
type counts struct{ shells, tunnels, flows int }

// orders are what the list is sorted by, and groups what it is parted by.
var (
	orders = []string{"rate", "bytes", "age", "idle"}
	groups = []string{"tunnel", "host", "program", "nothing"}
)

const shellsGroup = "shells and commands"

// look makes rows of links, flows and shells as they were last told.
func (m *Model) look() {
	m.frame++
	now := time.Now()
	own, shells := m.alive.own, m.alive.shells
	m.listeners, m.others = nil, m.alive.others
	for _, l := range own.Lines {
		m.listeners = append(m.listeners, listener{Line: l})
	}
	m.counts = counts{shells: len(shells), tunnels: len(m.listeners), flows: len(own.Flows)}
	for i := range m.others {
		for _, l := range m.others[i].Lines {
			m.listeners = append(m.listeners, listener{l, &m.others[i]})
		}
	}
	m.lookAtLinks(shells)
	all := m.everything(now)
	slices.SortStableFunc(all, func(a, b row) int {
		switch orders[m.order] {
		case "rate":
			return cmp.Compare(b.in+b.out, a.in+a.out)
		case "bytes":
			return cmp.Compare(b.bytes(), a.bytes())
		case "idle":
			return b.last().Compare(a.last())
		}
		return a.began().Compare(b.began())
	})
	m.rows.Set(m.grouped(all))
	m.fit()
}

// everything are the rows of all flows and shells, of this program and of others, that are
// looked for, with what they carry now.
func (m *Model) everything(now time.Time) []row {
	var all []row
	find := strings.ToLower(m.find)
	add := func(r row, group [3]string, words ...string) {
		r.words = strings.Join(words, " ")
		if find != "" && !strings.Contains(strings.ToLower(r.words), find) {
			return
		}
		switch groups[m.group] {
		case "tunnel":
			r.group = group[0]
		case "host":
			r.group = group[1]
		case "program":
			r.group = group[2]
		}
		r.in, r.out = m.series(r.key).Now(now)
		all = append(all, r)
	}
	flow := func(r row) {
		add(r, [3]string{r.at, host(r.flow.To), r.flow.Who()}, r.session, r.flow.Who(), r.flow.From, r.flow.To, r.at)
	}
	program := func(r row) {
		p := r.program
		r.session = p.Session
		add(r, [3]string{shellsGroup, p.Hop, p.What}, p.Session, p.Hop, p.What)
	}
	own := &m.alive.own
	for i := range own.Flows {
		f := &own.Flows[i]
		flow(row{session: f.Session, at: f.Listener, flow: &f.Flow, key: f.Key()})
	}
	for i := range own.Shells {
		program(row{program: &own.Shells[i], key: tunnel.ProgramKey(own.Shells[i])})
	}
	for i := range m.others {
		o := &m.others[i]
		for n := range o.Flows {
			f := &o.Flows[n]
			flow(row{other: o, session: f.Session, at: f.Listener, flow: &f.Flow, key: o.FlowKey(*f)})
		}
		for n := range o.Shells {
			program(row{other: o, program: &o.Shells[n], key: o.Key(tunnel.ProgramKey(o.Shells[n]))})
		}
	}
	return all
}

// grouped puts the heads of the groups between the rows; listeners have one even where
// nothing runs through them.
func (m *Model) grouped(all []row) []row {
	var out []row
	switch groups[m.group] {
	case "nothing":
		for i := range m.listeners {
			out = append(out, m.listeners[i].row())
		}
		return append(out, all...)
	case "tunnel":
		of := map[string][]row{}
		for _, r := range all {
			of[r.group] = append(of[r.group], r)
		}
		for i := range m.listeners {
			out = append(append(out, m.listeners[i].row()), of[m.listeners[i].Listener]...)
		}
		if shells := of[shellsGroup]; len(shells) > 0 {
			out = append(append(out, row{head: shellsGroup, in: sum(shells).in, out: sum(shells).out}), shells...)
		}
		return out
	}
	of := map[string][]row{}
	var names []string
	for _, r := range all {
		if of[r.group] == nil {
			names = append(names, r.group)
		}
		of[r.group] = append(of[r.group], r)
	}
	slices.Sort(names)
	for _, name := range names {
		head := sum(of[name])
		head.head = name
		out = append(append(out, head), of[name]...)
	}
	return out
}

// listener is a tunnel of this program or of another.
type listener struct {
	tunnel.Line
	other *tunnel.Seen
}

func (d *listener) row() row {
	r := row{listener: &d.Line, other: d.other, session: d.Session, at: d.Listener, key: tunnel.ListenerKey(d.Session, d.Listener)}
	if d.other != nil {
		r.key = d.other.Key(r.key)
	}
	return r
}

func sum(rows []row) (total row) {
	for _, r := range rows {
		total.in += r.in
		total.out += r.out
	}
	return total
}

// host is the host of HOST:PORT.
func host(at string) string {
	if i := strings.LastIndexByte(at, ':'); i > 0 {
		return at[:i]
	}
	return at
}

// lookAtLinks makes the map's lines: the links as the tree of ways that they are, each program's
// by themselves, and the ways that are lost and walked again.
func (m *Model) lookAtLinks(shells []shellState) {
	var stops []stop
	stops, m.links = addLinks(nil, m.alive.own.Links, nil)
	for i := range m.others {
		stops, _ = addLinks(stops, m.others[i].Links, &m.others[i])
	}
	lost := map[string]bool{}
	gone := func(whose string, hops []string, since time.Time) {
		if !lost[whose] {
			lost[whose] = true
			stops = append(stops, stop{hops: hops, lost: since, whose: whose})
		}
	}
	for _, l := range m.listeners {
		if l.other == nil && !l.Up && !l.Lost.IsZero() {
			gone(l.Session, l.Hops, l.Lost)
		}
	}
	for _, s := range shells {
		if !s.lost.IsZero() {
			gone(s.session, s.hops, s.lost)
		}
	}
	// From here a rail goes on to the last of those that hang from it.
	last := -1
	for i, s := range stops {
		if len(s.rails) <= 1 {
			last = i
		}
	}
	for i := range stops {
		if len(stops[i].rails) == 0 {
			stops[i].rails = []bool{true}
		}
		stops[i].rails[0] = i < last
	}
	m.stops.Set(stops)
}

// addLinks adds one program's links to the map's lines, and returns them also by their id.
func addLinks(stops []stop, links []link.State, other *tunnel.Seen) (_ []stop, byID map[link.ID]liveLink) {
	byID = make(map[link.ID]liveLink, len(links))
	for _, l := range links {
		key := l.Key.String()
		if other != nil {
			key = other.Key(key)
		}
		byID[l.ID] = liveLink{l, key, other}
	}
	under := map[link.ID][]link.ID{}
	for _, l := range links {
		below := l.Below
		if _, known := byID[below]; !known {
			below = 0
		}
		under[below] = append(under[below], l.ID)
	}
	whose := ""
	if other != nil {
		whose = other.What
	}
	var hang func(from link.ID, rails []bool)
	hang = func(from link.ID, rails []bool) {
		all := under[from]
		for i, id := range all {
			mine := append(slices.Clone(rails), i < len(all)-1)
			stops = append(stops, stop{liveLink: byID[id], rails: mine, whose: whose})
			hang(id, mine)
		}
	}
	hang(0, nil)
	return stops, byID
}

// selected is the row that is chosen.
func (m *Model) selected() (row, bool) { return m.rows.Selected() }

// link is the link that is chosen on the map, or that the chosen row goes by.
func (m *Model) link() (liveLink, bool) {
	if r, ok := m.selected(); ok && m.onList && r.program != nil && r.other == nil {
		l, ok := m.links[r.program.Link]
		return l, ok
	}
	s, ok := m.stops.Selected()
	return s.liveLink, ok && s.hops == nil
}

// listener is where the chosen tunnel's listener is, "" where none is chosen.
func (m *Model) listener() string {
	if r, ok := m.selected(); ok && m.onList {
		return r.at
	}
	return ""
}

// takes says what goes down with a link.
func (m *Model) takes(l liveLink) string {
	under := map[link.ID]bool{l.ID: true}
	links, shells := 0, 0
	for changed := true; changed; {
		changed = false
		for id, o := range m.links {
			if under[o.Below] && !under[id] {
				under[id], changed = true, true
				links++
			}
		}
	}
	for _, p := range m.alive.own.Shells {
		if under[p.Link] {
			shells++
		}
	}
	return words.Plural(links, "link behind it", "links behind it") + ", " + words.Plural(shells, "shell or command", "shells and commands") + ", " + words.Count(l.Channels, "channel")
}

// subject is what the chart is of: the chosen flow or shell, or a link.
func (m *Model) subject() (name string, series *meter.Series) {
	if r, ok := m.selected(); ok && m.onList && r.key != "" {
		switch {
		case r.flow != nil:
			name = r.flow.Who() + " to " + r.flow.To
		case r.listener != nil:
			name = r.session + ", door " + r.at
		default:
			name = r.program.What + " of " + r.program.Session
		}
		return name, m.series(r.key)
	}
	if l, ok := m.link(); ok {
		return l.Hop, m.series(l.key)
	}
	return "", nil
}

// series is what is held of a key, an empty one where nothing is counted yet.
func (m *Model) series(key string) *meter.Series {
	if m.s.Keeper != nil {
		if s := m.s.Keeper.Series(key); s != nil {
			return s
		}
	}
	return &meter.Series{}
}
