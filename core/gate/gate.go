// Package gate is the shared vocabulary of checks and walks: what must hold at
// a hop, how it was judged, what mends it, and the error a shut gate becomes.
//
// It promises values only: nothing here reads a file, opens a socket or locks.
package gate

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Kind is one thing that must hold at a hop.
type Kind uint8

// The gates of a hop, in the order they are passed.
const (
	State    Kind = iota // the instance runs, and its checks are passed; of hops that are bound to one
	Proxy                // what stands before the first hop connects us onward; most ways have none
	Address              // the name has an address
	Rules                // the estate's rules let the hop before in at the port; of hops that are instances
	Port                 // something answers there
	Identity             // it is the machine it was
	Lease                // its issuer gives us a login for a while; of hops that have leases
	Key                  // our key can be used
	Login                // the account lets us in
	Channel              // what we came for opens
)

// Kinds lists every gate in the order it is passed.
var Kinds = [...]Kind{State, Proxy, Address, Rules, Port, Identity, Lease, Key, Login, Channel}

var kindNames = [...]string{"state", "proxy", "address", "rules", "port", "identity", "lease", "key", "login", "channel"}

func (k Kind) String() string { return kindNames[k] }

// MarshalText gives the gate's name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// Verdict is how a gate was judged.
type Verdict uint8

// Verdicts, from the least known to the worst.
const (
	Untried Verdict = iota // not looked at, or not knowable from here
	Open                   // holds
	Ajar                   // holds, but something is off
	Shut                   // will fail, or failed
)

var verdictNames = [...]string{"untried", "open", "ajar", "shut"}

func (v Verdict) String() string { return verdictNames[v] }

var plainNames = [...]string{"not checked", "open", "warning", "blocked"}

// Plain is the verdict in the word that a person reads; [Verdict.String] is the one in data.
func (v Verdict) Plain() string { return plainNames[v] }

// ParseVerdict is the verdict of a word that [Verdict.String] gave, untried for others.
func ParseVerdict(word string) Verdict {
	for v, name := range verdictNames {
		if name == word {
			return Verdict(v)
		}
	}
	return Untried
}

// MarshalText gives the verdict's word.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// Act names something the program itself can do to mend a gate.
type Act uint8

// The acts a remedy can carry.
const (
	ByHand   Act = iota // only the sentence: a person does it
	MendKey             // set the key file's mode; Subject is its path
	MendFile            // set the mode of a file of the workspace; Subject is its path
	Settle              // decide what a changed identity means
	Choose              // one of several ways, which have to be looked for
	Wait                // wait until it opens by itself
	AskKeys             // ask the server which keys it would take
	Start               // start the instance, and wait until it runs
	Runs                // wait until the instance runs
	LetIn               // add the rules that it lacks for a time
	HandOn              // copy what is to be asked of whoever owns the rules; Subject is the text
)

// Remedy is what mends a gate: one sentence, and where the program can do it
// itself, the act and what it is done to.
type Remedy struct {
	Say     string
	Act     Act
	Subject string
}

// IsZero tells whether there is nothing to do.
func (r Remedy) IsZero() bool { return r.Say == "" }

// MarshalText gives the sentence, which is all that is told outside the program.
func (r Remedy) MarshalText() ([]byte, error) { return []byte(r.Say), nil }

// Gate is one judged gate. Its form in JSON is the one that "meatus check --json" promises.
type Gate struct {
	Kind    Kind     `json:"gate"`
	Verdict Verdict  `json:"verdict"`
	Seen    string   `json:"seen"`   // the fact, short: "shore.pem, owner only"
	Reason  string   `json:"reason"` // why it is not open, one sentence
	Detail  []string `json:"detail,omitempty"`
	Remedy  Remedy   `json:"remedy"`
}

// Hop is one station of a report.
type Hop struct {
	Name    string `json:"name"`
	User    string `json:"user"`
	Address string `json:"address"`
	Gates   []Gate `json:"gates"`
	Gateway bool   `json:"gateway,omitempty"` // it is no machine, but a relay that machines have dialled out to
}

// Where says where a hop is, and as whom it is logged in to.
func (h Hop) Where() string {
	if h.Gateway {
		return "gateway at " + h.Address
	}
	return h.User + "@" + h.Address
}

// Worst returns the hop's worst gate; its verdict is the hop's.
func (h Hop) Worst() Gate { return worst(h.Gates) }

// Report is the judgement of a whole route.
type Report struct {
	Session string
	Hops    []Hop
	// Broken says why the session could not be made into a route at all.
	Broken string
}

// Verdict is that of the worst gate where one is ajar or shut, Open where every
// gate is, and else Untried. A session that is no route is Shut.
func (r Report) Verdict() Verdict {
	if r.Broken != "" {
		return Shut
	}
	g, at := r.Worst()
	if at < 0 || g.Verdict != Open {
		return g.Verdict
	}
	for _, h := range r.Hops {
		for _, g := range h.Gates {
			if g.Verdict == Untried {
				return Untried
			}
		}
	}
	return Open
}

// Answers is what is known of the machine at the end where it was looked at and answered, ""
// else.
func (r Report) Answers() string {
	if len(r.Hops) == 0 {
		return ""
	}
	for _, g := range r.Hops[len(r.Hops)-1].Gates {
		if g.Kind == Port && g.Verdict == Open {
			return strings.Replace(g.Seen, ", answers as ", ", ", 1)
		}
	}
	return ""
}

// Word is the report's verdict in the word that a person reads. A machine that was looked at and answers is not
// "not checked", though nobody logged in.
func (r Report) Word() string {
	if v := r.Verdict(); v != Untried || r.Answers() == "" {
		return v.Plain()
	}
	return "answers"
}

// Worst returns the first of the worst gates and the index of its hop, or a
// zero Gate and -1 for a report without hops.
func (r Report) Worst() (Gate, int) {
	var found Gate
	at := -1
	for i, h := range r.Hops {
		if g := h.Worst(); at < 0 || g.Verdict > found.Verdict {
			found, at = g, i
		}
	}
	return found, at
}

// Printed is a report with its verdict, which is derived, in the form that
// "meatus check --json" promises.
type Printed struct {
	Session string  `json:"session"`
	Verdict Verdict `json:"verdict"`
	Hops    []Hop   `json:"hops"`
	Broken  string  `json:"broken,omitempty"`
	Answers string  `json:"answers,omitempty"`
}

// Printed is the report as it is printed.
func (r Report) Printed() Printed {
	hops := r.Hops
	if hops == nil {
		hops = []Hop{}
	}
	return Printed{r.Session, r.Verdict(), hops, r.Broken, r.Answers()}
}

// MarshalJSON writes [Report.Printed].
func (r Report) MarshalJSON() ([]byte, error) { return json.Marshal(r.Printed()) }

// Set replaces the gate of g's kind at hop i, or adds it in its place. What answers at a port that the
// estate's rules keep shut shows that the estate is not known as it is.
func (r *Report) Set(i int, g Gate) {
	if i < 0 || i >= len(r.Hops) {
		return
	}
	r.Hops = append([]Hop(nil), r.Hops...) // what was handed out stays as it was
	r.set(i, g)
	if g.Kind == Port || g.Kind == Rules {
		r.compare(i)
	}
}

// compare holds what the rules say against what a knock found.
func (r *Report) compare(i int) {
	var rules, port Gate
	for _, g := range r.Hops[i].Gates {
		switch g.Kind {
		case Rules:
			rules = g
		case Port:
			port = g
		}
	}
	if rules.Kind == Rules && rules.Verdict == Shut && port.Verdict == Open {
		rules.Verdict = Ajar
		rules.Detail = append([]string{rules.Reason}, rules.Detail...)
		rules.Reason = "it answers, though the estate knows of nothing that lets it in: what is known of the estate is old, or not whole"
		rules.Remedy = Remedy{Say: "read the estate again"}
		r.set(i, rules)
	}
}

func (r *Report) set(i int, g Gate) {
	gates := append([]Gate(nil), r.Hops[i].Gates...)
	for n := range gates {
		if gates[n].Kind == g.Kind {
			gates[n] = g
			r.Hops[i].Gates = gates
			return
		}
		if gates[n].Kind > g.Kind {
			r.Hops[i].Gates = append(gates[:n], append([]Gate{g}, gates[n:]...)...)
			return
		}
	}
	r.Hops[i].Gates = append(gates, g)
}

func worst(gates []Gate) Gate {
	var found Gate
	for i, g := range gates {
		if i == 0 || g.Verdict > found.Verdict {
			found = g
		}
	}
	return found
}

// Failure is a gate found shut: where, what was seen, why, and what mends it.
// It is the error a walk ends with.
type Failure struct {
	Hop    string // the session name of the hop
	Gate   Kind
	Cause  Cause
	Seen   string
	Why    string
	Detail []string // lists: keys tried, algorithms of both sides, what it said
	Remedy Remedy
	Err    error // the underlying error, if any
}

// Error gives hop, gate, reason and remedy in one line.
func (f *Failure) Error() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s: %s", f.Hop, f.Gate, f.Why)
	if len(f.Detail) > 0 {
		fmt.Fprintf(&b, " (%s)", strings.Join(f.Detail, "; "))
	}
	if f.Remedy.Say != "" {
		fmt.Fprintf(&b, "; %s", f.Remedy.Say)
	}
	return b.String()
}

func (f *Failure) Unwrap() error { return f.Err }

// Judged is the shut gate this failure leaves on the card.
func (f *Failure) Judged() Gate {
	return Gate{Kind: f.Gate, Verdict: Shut, Seen: f.Seen, Reason: f.Why, Detail: f.Detail, Remedy: f.Remedy}
}

// Cause tells failures apart for a program; the words for a person are in the
// failure itself.
type Cause string

// Every way a walk can fail.
const (
	NoAddress       Cause = "no address"         // the name does not resolve
	NoAnswer        Cause = "no answer"          // nothing answered in time
	Refused         Cause = "refused"            // the machine answers, the port does not
	Unreachable     Cause = "unreachable"        // no way to the machine
	NotSSH          Cause = "not ssh"            // something else answers there
	Busy            Cause = "busy"               // the server turns connections away for a time
	NoCommon        Cause = "no common"          // no algorithm both sides know
	IdentityUnknown Cause = "identity unknown"   // not vouched for, and nobody said yes
	IdentityChanged Cause = "identity changed"   // another key than the vouched one
	KeyUnusable     Cause = "key unusable"       // file missing, too open, damaged, locked
	LeaseRefused    Cause = "lease refused"      // its issuer gives no lease, or the one it gave has ended
	NoKeyAccepted   Cause = "no key accepted"    // the server takes none of what was offered
	OtherLogin      Cause = "other login"        // it lets the login in, says that it wants another, and ends it
	OnwardForbidden Cause = "onward forbidden"   // the bastion does not let us on
	ProxyRefused    Cause = "proxy refused"      // the proxy lets us not on, or our login not in
	FarUnreachable  Cause = "far unreachable"    // the bastion cannot reach it
	ServerClosed    Cause = "server closed"      // the other side hung up
	LinkLost        Cause = "link lost"          // keepalives went unanswered
	ChannelRefused  Cause = "channel refused"    // logged in, but no shell or command
	Cancelled       Cause = "cancelled"          // a person stopped it
	CannotAsk       Cause = "cannot ask"         // an answer is needed and nobody is there
	Unexpected      Cause = "unexpected failure" // none of the above
)
