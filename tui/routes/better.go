package routes

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/remote"
	"meatus/core/route"
)

// better is a way that needs nothing lent, in the place of one that did.
type better struct {
	line string // the route line of a session that does not exist yet, or
	have string // the session that goes that way
}

// betterWay finds how a host that was reached with a lent key is reached without:
// as the next hop of the route. ok is false where the request did not tell enough.
func (m *Model) betterWay(e remote.Lent) (b better, ok bool) {
	if e.Refuse != nil || e.Session == "" || e.Login == "" || len(e.At) == 0 {
		return b, false
	}
	r, ok := m.s.Plan(e.Session)
	if !ok {
		return b, false
	}
	key, ways := "", []route.Route{r}
	for _, s := range m.s.Shells() {
		ways = append(ways, s.Route()) // which may lend what the session does not
	}
	for _, way := range ways {
		for _, path := range way.Target().Lends {
			if way.Session == e.Session && filepath.Base(path) == e.Key.Name {
				key = path
			}
		}
	}
	for _, session := range m.ws.Book.Sessions {
		if session.Host.V != e.At[0] {
			continue
		}
		name := session.Name
		have, ok := m.s.Plan(name)
		if !ok || len(have.Hops) < 2 {
			continue
		}
		last, before := have.Target(), have.Hops[len(have.Hops)-2]
		through := before.Host == r.Target().Host && before.Port == r.Target().Port
		if last.Host == e.At[0] && last.User == e.Login && through && (key == "" || slices.Contains(last.Keys, key)) {
			return better{have: name}, true
		}
	}
	if key == "" {
		return b, false
	}
	bare := strings.NewReplacer(".", "-", ":", "-").Replace(e.At[0])
	name := bare
	for n := 2; m.ws.Book.Session(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", bare, n)
	}
	return better{line: fmt.Sprintf("%s = %s@%s via %s with %s", name, e.Login, e.At[0], e.Session, m.ws.Written(key))}, true
}

// offerBetter has the card of a session say that there is a better way than lending.
func (m *Model) offerBetter(e remote.Lent) {
	b, ok := m.betterWay(e)
	if !ok {
		return
	}
	m.better[e.Session] = b
	say := fmt.Sprintf("A better way: %s goes there through this machine, with nothing lent. %s goes to it.", b.have, m.s.Press("better"))
	if b.have == "" {
		var hops []string
		if r, ok := m.s.Plan(e.Session); ok {
			for _, h := range r.Hops {
				hops = append(hops, h.Name)
			}
		}
		hops = append(hops, e.At[0])
		say = fmt.Sprintf("A better way: here ▸ %s as a route of %d hops, with nothing lent. %s makes that session.", strings.Join(hops, " ▸ "), len(hops), m.s.Press("better"))
	}
	m.s.Board.Say(e.Session, say)
}

// Better tells whether there is a better way to where a lent key was used.
func (m *Model) Better(e remote.Lent) bool {
	_, ok := m.betterWay(e)
	return ok
}

// takeBetter goes to the better way of a session, or opens the line that makes it.
func (m *Model) takeBetter(session string) tea.Cmd {
	b, ok := m.better[session]
	switch {
	case !ok:
		m.s.Tell("there is nothing better to offer: no lent key was used from there")
		return nil
	case b.have != "":
		m.Select(b.have)
		return nil
	}
	return m.writeLine(b.line)
}
