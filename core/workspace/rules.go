package workspace

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/localaddr"
	"meatus/core/reach"
	"meatus/core/route"
)

// judges judge who gets where in what is known of the estates; they are made when they are first asked for.
type judges struct {
	mu  sync.Mutex
	of  map[string]*reach.Judge       // by source
	at  map[netip.Addr][]estate.Match // who has an address, in all of them
	all []estate.Kept

	seen  netip.Addr // as which this machine is seen outside,
	asked time.Time  // and when that was looked up
}

// seenFor is how long it is taken as it was, since looking it up asks the system.
const seenFor = 5 * time.Second

// made are those that were made.
func (j *judges) made() map[string]*reach.Judge {
	if j == nil {
		return nil
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	return maps.Clone(j.of)
}

// Judge is the judge of what is known of a source's estate, nil where nothing is.
func (w *Workspace) Judge(source string) *reach.Judge {
	if w.judges == nil {
		return nil
	}
	w.judges.mu.Lock()
	defer w.judges.mu.Unlock()
	if j := w.judges.of[source]; j != nil {
		return j
	}
	for k := range w.judges.all {
		if kept := &w.judges.all[k]; kept.Source == source && !kept.Read.IsZero() {
			j := reach.NewJudge(&kept.Snapshot)
			w.judges.of[source] = j
			return j
		}
	}
	return nil
}

// instanceAt is the instance that has an address, where one alone has it.
func (w *Workspace) instanceAt(text string) (m estate.Match, ok bool) {
	ip, err := netip.ParseAddr(text)
	if err != nil || w.judges == nil {
		return m, false
	}
	w.judges.mu.Lock()
	defer w.judges.mu.Unlock()
	if w.judges.at == nil {
		w.judges.at = map[netip.Addr][]estate.Match{}
		for k := range w.judges.all {
			kept := &w.judges.all[k]
			for i := range kept.Snapshot.Instances {
				n := &kept.Snapshot.Instances[i]
				if n.State == estate.Ended {
					continue
				}
				for _, a := range n.Addresses {
					w.judges.at[a.IP] = append(w.judges.at[a.IP], estate.Match{Kept: kept, Instance: n})
				}
			}
		}
	}
	at := w.judges.at[ip.Unmap()]
	if len(at) != 1 {
		return m, false
	}
	return at[0], true
}

// InstanceOf is the instance that a hop leads to: the one that it is bound to, else the one alone that has its
// address.
func (w *Workspace) InstanceOf(h route.Hop) (source string, i *estate.Instance) {
	if h.Instance == nil {
		if m, ok := w.instanceAt(h.Host); ok {
			return m.Kept.Source, m.Instance
		}
		return "", nil
	}
	j := w.Judge(h.Instance.Source)
	if j == nil {
		return "", nil
	}
	return h.Instance.Source, j.Instance(h.Instance.ID)
}

// Seen is as which address this machine is seen outside, not valid where that is not known.
func (w *Workspace) Seen() netip.Addr {
	if w.Here.IsValid() {
		return w.Here
	}
	if w.judges == nil {
		return localaddr.Outside()
	}
	w.judges.mu.Lock()
	defer w.judges.mu.Unlock()
	if time.Since(w.judges.asked) > seenFor {
		w.judges.seen, w.judges.asked = localaddr.Outside(), time.Now()
	}
	return w.judges.seen
}

// Asked is what was asked of the rules, and the answer.
type Asked struct {
	Source string
	From   reach.From
	Here   bool // from this machine, as it is seen outside
	To     *estate.Instance
	At     netip.Addr // the address of it that is gone to
	Port   reach.Port
	Answer reach.Answer
}

// AskHop asks whether hop i of a route is let in, from the machine before it or from here. ok is false where the estate
// says nothing about it: the hop is no known instance that runs and is in groups of rules. As whom this machine is seen
// is not known where it stands inside, or behind a proxy.
func (w *Workspace) AskHop(r route.Route, i int) (a Asked, ok bool) {
	h := r.Hops[i]
	if i > 0 && r.Hops[i-1].Gateway != nil { // the machine has dialled out: nothing need let anybody in
		return a, false
	}
	a.Source, a.To = w.InstanceOf(h)
	if a.To == nil || len(a.To.Groups) == 0 || a.To.State != estate.Running || h.Port < 1 || h.Port > 65535 {
		return a, false
	}
	a.Port = reach.Port{Protocol: "tcp", Number: uint16(h.Port)}
	at, err := netip.ParseAddr(h.Host)
	if err != nil {
		return a, false
	}
	at = at.Unmap()
	outside := slices.ContainsFunc(a.To.Addresses, func(b estate.Address) bool { return b.IP == at && b.Outside })
	switch {
	case i > 0:
		source, before := w.InstanceOf(r.Hops[i-1])
		if before == nil || len(before.Groups) == 0 || source != a.Source || before.State != estate.Running {
			return a, false
		}
		a.From.Instance = before
	case !outside || h.Proxy != (book.Proxy{}):
		return a, false
	default:
		a.Here, a.From.Address = true, w.Seen()
	}
	a.At = at
	a.Answer = w.Judge(a.Source).AskAt(a.From, a.To, at, a.Port)
	return a, true
}

// AskFar asks whether the machine at the end of a route is let in to a service, "host:port", that it reaches.
func (w *Workspace) AskFar(r route.Route, service string) (a Asked, ok bool) {
	at := strings.LastIndexByte(service, ':')
	if at < 0 {
		return a, false
	}
	port, err := strconv.ParseUint(service[at+1:], 10, 16)
	ip, bad := netip.ParseAddr(strings.Trim(service[:at], "[]"))
	if err != nil || bad != nil || ip.IsLoopback() {
		return a, false
	}
	source, from := w.InstanceOf(r.Target())
	m, known := w.instanceAt(ip.String())
	if from == nil || len(from.Groups) == 0 || !known || m.Kept.Source != source || from.State != estate.Running || len(m.Instance.Groups) == 0 || m.Instance.State != estate.Running || m.Instance.ID == from.ID {
		return a, false
	}
	a = Asked{Source: source, From: reach.From{Instance: from}, To: m.Instance, At: ip.Unmap(), Port: reach.Port{Protocol: "tcp", Number: uint16(port)}}
	a.Answer = w.Judge(source).AskAt(a.From, a.To, ip.Unmap(), a.Port)
	return a, true
}

// RulesGate judges whether hop i of a route is let in at its port, by what is known of its estate.
func (w *Workspace) RulesGate(r route.Route, i int) (g gate.Gate, ok bool) {
	a, ok := w.AskHop(r, i)
	if !ok {
		return g, false
	}
	g = a.gate()
	for _, k := range w.Estates {
		if k.Source == a.Source && k.Failed != "" {
			as := "as of " + k.Read.Local().Format("2 Jan 15:04")
			g.Seen += ", " + as
			g.Detail = append(g.Detail, fmt.Sprintf("%s: estate %s could not be read since: %s", as, k.Source, k.Failed))
		}
	}
	if g.Verdict == gate.Ajar && i < len(r.Hops)-1 { // whom it is open to besides is that machine's own matter
		g.Verdict, g.Reason, g.Remedy = gate.Open, "", gate.Remedy{}
	}
	return g, true
}

// FarGate judges whether the machine at the end of a route is let in to a service that it reaches.
func (w *Workspace) FarGate(r route.Route, service string) (g gate.Gate, ok bool) {
	a, ok := w.AskFar(r, service)
	if !ok {
		return g, false
	}
	g = a.gate()
	g.Reason = "the door to " + service + ": " + g.Reason
	for i := range g.Detail {
		g.Detail[i] = service + ": " + g.Detail[i]
	}
	return g, true
}

// gate is the answer as a gate.
func (a Asked) gate() gate.Gate {
	g := gate.Gate{Kind: gate.Rules}
	answer := a.Answer
	for _, l := range answer.Proof {
		g.Detail = append(g.Detail, l.Say)
	}
	switch {
	case answer.Open && answer.Everybody:
		g.Seen = answer.By
		g.Verdict, g.Reason = gate.Ajar, fmt.Sprintf("everybody is let in at %s", a.Port)
		g.Remedy.Say = "let in the addresses alone that one comes from, and drop that rule"
	case answer.Open:
		g.Seen = answer.By
		g.Verdict = gate.Open
	case a.Here && !a.From.Address.IsValid() && answer.Shut() == reach.In && len(answer.Others) > 0:
		g.Seen = "lets in some, not everybody"
		g.Detail = append(answer.Others, "the public address of this machine is not known")
	default:
		g.Verdict, g.Reason = gate.Shut, answer.Proof[len(answer.Proof)-1].Say
		g.Seen = "shut by " + answer.Shut().String()
		g.Remedy = gate.Remedy{Say: answer.Change.Say, Act: gate.Choose}
	}
	return g
}

// What can still be the cause where the rules let something in, and a knock got no answer, or a refusal.
const (
	leftSilent  = "the estate's rules let it in; what is left is a machine that hangs, a filter of its own, or rules of its network that the estate does not tell"
	leftRefused = "the estate's rules let it in; what is left is that nothing listens there, or a filter of the machine's own that refuses"
)

// Explain is a failure at a port with what the rules say of its cause: what is left where they let it in, and
// where they do not, that.
func (w *Workspace) Explain(r route.Route, f *gate.Failure) *gate.Failure {
	if f.Gate != gate.Port || f.Cause != gate.NoAnswer && f.Cause != gate.Refused {
		return f
	}
	i := slices.IndexFunc(r.Hops, func(h route.Hop) bool { return h.Name == f.Hop })
	if i < 0 {
		return f
	}
	a, ok := w.AskHop(r, i)
	if !ok {
		return f
	}
	again, say := *f, leftSilent
	switch g := a.gate(); {
	case g.Verdict == gate.Untried:
		return f
	case g.Verdict == gate.Shut:
		say = "by estate " + a.Source + ", " + g.Reason
		again.Remedy = g.Remedy
	case f.Cause == gate.Refused:
		say = leftRefused
	}
	again.Detail = append(slices.Clone(f.Detail), say)
	return &again
}

// LetIn is what something lacks to get through.
type LetIn struct {
	Source  string
	Edits   []reach.Edit
	Lines   []string // the same as lines of a change file
	Of      string   // what is let in, in words
	Session string
	For     time.Duration
}

// Lacks are the rules that something lacks; ok is false where it gets through, or rules alone do not do it.
func (w *Workspace) Lacks(a Asked) (l LetIn, ok bool) {
	j := w.Judge(a.Source)
	if j == nil || a.Here && !a.From.Address.IsValid() {
		return l, false
	}
	edits, ok := j.Missing(a.From, a.To, a.At, a.Port)
	l = LetIn{Source: a.Source, Edits: edits, Of: fmt.Sprintf("%s at %s", called(a.To), a.Port)}
	for _, e := range edits {
		l.Lines = append(l.Lines, j.Line(e))
	}
	return l, ok && len(edits) > 0
}

func called(i *estate.Instance) string {
	if i.Name == "" {
		return i.ID
	}
	return i.Name
}

// WaysTo are the ways from here to a port of an instance, or the nearest misses. visits is when sessions were used
// last, nil for never.
func (w *Workspace) WaysTo(source string, to *estate.Instance, port reach.Port, visits map[string]time.Time) (ways, misses []reach.Way) {
	j := w.Judge(source)
	i := slices.IndexFunc(w.Estates, func(k estate.Kept) bool { return k.Source == source })
	if j == nil || i < 0 {
		return nil, nil
	}
	if to = j.Instance(to.ID); to == nil {
		return nil, nil
	}
	return j.Ways(reach.Finding{Here: w.Seen(), To: to, Port: port, Means: w.MeansOf(&w.Estates[i], visits)})
}

// Leads tells whether a session's way is by the machines of some hops.
func (w *Workspace) Leads(session string, hops []reach.Hop) bool {
	r, err := w.Planner().Plan(session)
	if err != nil || len(r.Hops) != len(hops) {
		return false
	}
	for n, h := range r.Hops {
		if _, i := w.InstanceOf(h); i == nil || i.ID != hops[n].ID {
			return false
		}
	}
	return true
}

// Probes are what sessions and their tunnels want to get through in a source's estate, each once.
func (w *Workspace) Probes(source string) []reach.Probe {
	var all []reach.Probe
	planner := w.Planner()
	for _, s := range w.Book.Sessions {
		r, err := planner.Plan(s.Name)
		if err != nil {
			continue
		}
		for i := range r.Hops {
			if a, ok := w.AskHop(r, i); ok && a.Source == source {
				all = append(all, a.probe(s.Name, false))
			}
		}
		for _, t := range r.Target().Tunnels {
			if kind, _ := t.Kind(); kind == "bring" {
				if a, ok := w.AskFar(r, t.Reach); ok && a.Source == source {
					all = append(all, a.probe(s.Name, true))
				}
			}
		}
	}
	return all
}

func (a Asked) probe(session string, tunnel bool) reach.Probe {
	return reach.Probe{Session: session, What: fmt.Sprintf("%s at %s", called(a.To), a.Port), Tunnel: tunnel, From: a.From, To: a.To, At: a.At, Port: a.Port}
}

// WhatIf tells what edits of the rules of a source's estate do. probes are what sessions want, as [Workspace.Probes]
// has them; they are looked up where they are nil.
func (w *Workspace) WhatIf(source string, edits []reach.Edit, probes []reach.Probe, visits map[string]time.Time) (reach.Effects, error) {
	j := w.Judge(source)
	i := slices.IndexFunc(w.Estates, func(k estate.Kept) bool { return k.Source == source })
	if j == nil || i < 0 {
		return reach.Effects{}, fmt.Errorf("nothing is known of estate %s", source)
	}
	after, err := j.With(edits)
	if err != nil {
		return reach.Effects{}, err
	}
	if probes == nil {
		probes = w.Probes(source)
	}
	return j.Compare(after, edits, probes, reach.Finding{Here: w.Seen(), Means: w.MeansOf(&w.Estates[i], visits)}), nil
}

// Drafts are the sessions that a way needs and that there are not yet, its machine's last: each bound to its instance,
// through the one before. last is the session that leads there by then; none are needed where one does already.
func (w *Workspace) Drafts(source string, way reach.Way) (drafts []book.Draft, last string) {
	taken := map[string]bool{}
	for n, h := range way.Hops {
		if s := h.Means.Session; s != "" && w.Leads(s, way.Hops[:n+1]) {
			last = s
			continue
		}
		d := w.DraftOf(source, h.Instance)
		for name, k := d.Name, 2; taken[d.Name]; k++ {
			d.Name = fmt.Sprintf("%s-%d", name, k)
		}
		taken[d.Name] = true
		if d.Via = nil; last != "" {
			d.Via = []string{last}
		}
		drafts, last = append(drafts, d), d.Name
	}
	return drafts, last
}

// UsedAt tells when a session from here last came to an instance, or by a tunnel to a port of it; visits is when each
// was logged in to. Zero is never.
func (w *Workspace) UsedAt(source string, visits map[string]time.Time) func(i *estate.Instance, rule estate.Rule) time.Time {
	type use struct {
		port uint16
		at   time.Time
	}
	uses := map[string][]use{} // by instance
	planner := w.Planner()
	for _, s := range w.Book.Sessions {
		at := visits[s.Name]
		if at.IsZero() {
			continue
		}
		r, err := planner.Plan(s.Name)
		if err != nil {
			continue
		}
		if of, i := w.InstanceOf(r.Target()); i != nil && of == source {
			uses[i.ID] = append(uses[i.ID], use{uint16(r.Target().Port), at})
		}
		for _, t := range r.Target().Tunnels {
			if a, ok := w.AskFar(r, t.Reach); ok && a.Source == source {
				uses[a.To.ID] = append(uses[a.To.ID], use{a.Port.Number, at})
			}
		}
	}
	return func(i *estate.Instance, rule estate.Rule) (last time.Time) {
		for _, u := range uses[i.ID] {
			if rule.About("tcp", u.port) && u.at.After(last) {
				last = u.at
			}
		}
		return last
	}
}

// LetsIn is what one rule of a source lets in, with when a session from here used it last, zero for never.
type LetsIn struct {
	reach.Arrow
	Source string
	Called string // the group that has the rule
	Say    string // the rule
	Used   time.Time
}

// UnusedFor is from when on what nobody here uses is told as unused.
const UnusedFor = 7 * 24 * time.Hour

// LetIn is what the rules of all sources let in, those to everybody first. With unused it is what nobody here used
// for [UnusedFor] before now, the oldest first. Of instances those alone count that meant chooses, all where it is nil.
func (w *Workspace) LetIn(visits map[string]time.Time, meant func(*estate.Kept, *estate.Instance) bool, unused bool, now time.Time) []LetsIn {
	var all []LetsIn
	for k := range w.Estates {
		kept := &w.Estates[k]
		j := w.Judge(kept.Source)
		if j == nil {
			continue
		}
		used := w.UsedAt(kept.Source, visits)
		for _, a := range j.Arrows() {
			if meant != nil {
				a.To = slices.DeleteFunc(slices.Clone(a.To), func(i *estate.Instance) bool { return !meant(kept, i) })
			}
			one := LetsIn{Arrow: a, Source: kept.Source, Called: j.GroupName(a.Group), Say: a.Rule.Sentence(j.GroupName(a.Rule.Group))}
			for _, i := range a.To {
				if at := used(i, a.Rule); at.After(one.Used) {
					one.Used = at
				}
			}
			if len(a.To) > 0 && !(unused && now.Sub(one.Used) < UnusedFor) {
				all = append(all, one)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b LetsIn) int {
		if unused {
			return a.Used.Compare(b.Used)
		}
		return int(a.Rank) - int(b.Rank)
	})
	return all
}

// LacksOn is what a session lacks: at its first hop that rules block, else at a service of its tunnels. It fails where
// there is nothing that rules alone can open.
func (w *Workspace) LacksOn(session string) (l LetIn, err error) {
	r, err := w.Planner().Plan(session)
	if err != nil {
		return l, err
	}
	var asked []Asked
	for i := range r.Hops {
		if a, ok := w.AskHop(r, i); ok {
			asked = append(asked, a)
		}
	}
	for _, t := range r.Target().Tunnels {
		if kind, _ := t.Kind(); kind == "bring" {
			if a, ok := w.AskFar(r, t.Reach); ok {
				asked = append(asked, a)
			}
		}
	}
	for _, a := range asked {
		if a.Answer.Open {
			continue
		}
		if l, ok := w.Lacks(a); ok {
			return l, nil
		}
		if a.Here && !a.From.Address.IsValid() {
			return l, ErrNotSeen
		}
		return l, fmt.Errorf("firewall rules alone do not allow it:\n%s", a.Answer)
	}
	if len(asked) == 0 {
		return l, fmt.Errorf("no estate knows the firewall rules on the way to %s", session)
	}
	return l, fmt.Errorf("no firewall rule blocks %s: there is nothing to open", session)
}

// ErrNotSeen is the error where a rule needs the address that this machine has outside, and nobody told it.
var ErrNotSeen = errors.New("the address of this machine as others see it is not known")
