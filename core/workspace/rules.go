package workspace

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

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
}

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

// Asked is what was asked of the rules, and the answer.
type Asked struct {
	Source string
	From   reach.From
	Here   bool // from this machine, as it is seen outside
	To     *estate.Instance
	Port   reach.Port
	Answer reach.Answer
}

// AskHop asks whether hop i of a route is let in, from the machine before it or from here; ok is false where what
// is known says nothing of it. Nobody knows who this machine is seen as where it stands inside, or behind a proxy.
func (w *Workspace) AskHop(r route.Route, i int) (a Asked, ok bool) {
	h := r.Hops[i]
	a.Source, a.To = w.InstanceOf(h)
	if a.To == nil || a.To.State != estate.Running || h.Port < 1 || h.Port > 65535 {
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
		if before == nil || source != a.Source || before.State != estate.Running {
			return a, false
		}
		a.From.Instance = before
	case !outside || h.Proxy != (book.Proxy{}):
		return a, false
	default:
		a.Here, a.From.Address = true, localaddr.Outside()
	}
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
	if from == nil || !known || m.Kept.Source != source || from.State != estate.Running || m.Instance.State != estate.Running || m.Instance.ID == from.ID {
		return a, false
	}
	a = Asked{Source: source, From: reach.From{Instance: from}, To: m.Instance, Port: reach.Port{Protocol: "tcp", Number: uint16(port)}}
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
	seen := func() {
		if n := len(answer.Proof); n > 0 {
			g.Seen = answer.Proof[n-1].Say
		}
	}
	switch {
	case answer.Open && answer.Everybody:
		seen()
		g.Verdict, g.Reason = gate.Ajar, fmt.Sprintf("everybody is let in at %s: %s", a.Port, g.Seen)
		g.Remedy.Say = "let in the addresses alone that one comes from, and drop that rule"
	case answer.Open:
		seen()
		g.Verdict = gate.Open
	case a.Here && !a.From.Address.IsValid() && answer.Shut() == reach.In && len(answer.Others) > 0:
		g.Seen = "lets in some, not everybody"
		g.Detail = append(answer.Others, "as which of them this machine is seen outside is not known here")
	default:
		seen()
		g.Verdict, g.Reason = gate.Shut, g.Seen
		g.Seen = "shut by " + answer.Shut().String()
		g.Remedy = gate.Remedy{Say: answer.Change.Say, Act: gate.Choose}
	}
	return g
}

// left are what can still be the cause where the rules let something in, and a knock got no answer.
const left = "the estate's rules let it in; what is left is that nothing listens there, a filter of the machine's own, or rules of its network that the estate does not tell"

// Explain is a failure with what is left that can be its cause, where it is at a port that the rules let in.
func (w *Workspace) Explain(r route.Route, f *gate.Failure) *gate.Failure {
	if f.Gate != gate.Port || f.Cause != gate.NoAnswer && f.Cause != gate.Refused {
		return f
	}
	i := slices.IndexFunc(r.Hops, func(h route.Hop) bool { return h.Name == f.Hop })
	if i < 0 {
		return f
	}
	if a, ok := w.AskHop(r, i); !ok || !a.Answer.Open {
		return f
	}
	again := *f
	again.Detail = append(slices.Clone(f.Detail), left)
	return &again
}
