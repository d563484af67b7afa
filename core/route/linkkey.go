package route

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"meatus/core/book"
)

// LinkKey names the way up to and with a hop, and what is lent there. Routes with equal keys can share the link there.
// It is comparable; the zero value names no way.
type LinkKey struct {
	way  string
	lent Lent
}

// Lent is what is lent at the end of a way. A server does not say which shell asks to use a forwarded key, so what lends
// something else has a link of its own.
type Lent struct {
	Agent string // "ask" or "lend", "" where nothing is lent
	Keys  string // key files, quoted, in order
	To    string // patterns of hosts, quoted, in order
	Uses  int
	For   time.Duration
}

// Lent returns what is lent at the end of the way.
func (k LinkKey) Lent() Lent { return k.lent }

// Bare is the key of the same way with nothing lent at its end.
func (k LinkKey) Bare() LinkKey { return LinkKey{way: k.way} }

// String writes a key so that no two keys have the same text.
func (k LinkKey) String() string {
	if k.lent == (Lent{}) {
		return k.way
	}
	return fmt.Sprintf("%s\tlends %s %s to %s, %d, %s\n", k.way, k.lent.Agent, k.lent.Keys, k.lent.To, k.lent.Uses, k.lent.For)
}

// MarshalText writes a key for another program, which compares it.
func (k LinkKey) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText takes a key of another program. It equals none of this program's that lends something.
func (k *LinkKey) UnmarshalText(text []byte) error {
	*k = LinkKey{way: string(text)}
	return nil
}

// Link is the key of the link at hop i.
func (r Route) Link(i int) LinkKey {
	k := LinkKey{way: wayOf(r.Hops[:i+1])}
	if i == len(r.Hops)-1 {
		k.lent = r.Hops[i].lent()
	}
	return k
}

// Links are the keys of the links at every hop, in order.
func (r Route) Links() []LinkKey {
	all := make([]LinkKey, len(r.Hops))
	var b strings.Builder
	ends := make([]int, len(r.Hops))
	for i, h := range r.Hops {
		h.writeWay(&b)
		ends[i] = b.Len()
	}
	whole := b.String() // which all of them share
	for i := range all {
		all[i].way = whole[:ends[i]]
	}
	if len(all) > 0 {
		all[len(all)-1].lent = r.Hops[len(all)-1].lent()
	}
	return all
}

// End is the key of the link to the route's machine.
func (r Route) End() LinkKey { return r.Link(len(r.Hops) - 1) }

func wayOf(hops []Hop) string {
	var b strings.Builder
	for _, h := range hops {
		h.writeWay(&b)
	}
	return b.String()
}

// writeWay writes what makes a link to the hop another one.
func (h Hop) writeWay(b *strings.Builder) {
	fmt.Fprintf(b, "%q@%q %q with %q %q\n", h.User, h.Address(), h.Dial, h.Keys, h.Alone)
	if h.Instance != nil { // its key is judged as that of the instance
		fmt.Fprintf(b, "instance %q\n", h.At().String())
	}
	if g := h.Gateway; g != nil {
		fmt.Fprintf(b, "gateway %#v\n", *g)
	}
	if h.Lease != nil {
		fmt.Fprintf(b, "lease of %q for %q\n", h.Lease.Issuer, h.Lease.Machine)
	}
	if h.Proxy != (book.Proxy{}) {
		fmt.Fprintf(b, "by %q with %q\n", h.Proxy.String(), h.ProxyFile)
	}
	if h.Lane > 0 {
		fmt.Fprintf(b, "lane %d\n", h.Lane)
	}
}

func (h Hop) lent() Lent {
	if !h.Lending() {
		return Lent{}
	}
	return Lent{h.Agent, fmt.Sprintf("%q", h.Lends), fmt.Sprintf("%q", h.LendsTo), h.LendUses, h.LendFor}
}

// Turned is the route with the way of that key first, as [Route.End] gives it, and the others behind it in their order.
// Where it has none it stays as it is.
func (r Route) Turned(end LinkKey) Route {
	ways := r.Ways()
	for i, way := range ways {
		if i > 0 && way.End() == end {
			way.Others = slices.Delete(ways, i, i+1)
			return way
		}
	}
	return r
}
