package tunnel

import "meatus/core/gate"

// Gate is one thing that must hold for a tunnel.
type Gate struct {
	Name    string       // "listener", "service", "first bytes"
	Verdict gate.Verdict // of it
	Seen    string       // what was seen, or ""
}

// Standing is how a tunnel stands as a whole, and what is off, in words: untried as long
// as its way is not there and was not lost.
func (l Line) Standing() (v gate.Verdict, off string) {
	answers := gate.ParseVerdict(l.Answers)
	switch {
	case l.Error != "":
		return gate.Shut, l.Error
	case !l.Up && !l.Lost.IsZero():
		return gate.Ajar, "connection lost, the local port stays"
	case !l.Up:
		return gate.Untried, ""
	case answers >= gate.Ajar:
		return answers, l.Proof
	}
	return gate.Open, ""
}

// Gates are a tunnel's: its listener; for one that is brought also whether the service
// answers, tried from the far side, and whether it was heard to speak, as some protocols
// do by themselves.
func (l Line) Gates() []Gate {
	listener := Gate{Name: "door", Verdict: gate.Open}
	answers := gate.ParseVerdict(l.Answers)
	switch {
	case l.Error != "":
		listener.Verdict, listener.Seen = gate.Shut, l.Error
	case l.Kind == "lend":
		listener.Verdict, listener.Seen = answers, l.Proof
	case l.Beyond:
		listener.Verdict, listener.Seen = gate.Ajar, "it listens for other machines"
	}
	if l.Kind != "bring" {
		return []Gate{listener}
	}
	service := Gate{Name: "service", Verdict: answers, Seen: l.Proof}
	first := Gate{Name: "first bytes"}
	switch {
	case l.Heard != "":
		first.Verdict, first.Seen = answers, l.Heard
	case answers == gate.Open:
		first.Seen = "none by itself"
	}
	return []Gate{listener, service, first}
}
