package tunnel

import (
	"fmt"
	"net"
	"net/netip"
	"path"
	"strings"

	"meatus/core/book"
)

// rules are the destinations that a roaming listener leads to, and which of them from
// here. They look at what was asked for alone: a name is not resolved to see whether
// its address is in a network of theirs.
type rules struct{ only, direct []destination }

type destination struct {
	pattern string       // of names, or an address
	network netip.Prefix // where it is one
	port    string       // "" for any
}

func newRules(t book.Tunnel) rules {
	read := func(list string) []destination {
		var all []destination
		for _, d := range strings.Fields(list) {
			host, port, ok := book.Destination(d)
			if !ok {
				continue // the book has refused it
			}
			r := destination{pattern: strings.ToLower(strings.TrimSuffix(host, ".")), port: port}
			if p, err := netip.ParsePrefix(host); err == nil {
				r.network = p.Masked()
			}
			all = append(all, r)
		}
		return all
	}
	return rules{read(t.Only), read(t.Direct)}
}

func (r destination) fits(host, port string) bool {
	if r.port != "" && r.port != port {
		return false
	}
	ip, err := netip.ParseAddr(host)
	if ip = ip.Unmap().WithZone(""); r.network.IsValid() {
		return err == nil && r.network.Contains(ip)
	}
	// A star alone is everything. A pattern of numbers is one of addresses: a name like
	// 10.61.lantern.example must not fit "10.61.*".
	numbers := strings.Trim(r.pattern, "0123456789.*?") == ""
	if r.pattern == "*" {
		return true
	}
	if err == nil {
		if own, oerr := netip.ParseAddr(r.pattern); oerr == nil {
			return own.Unmap() == ip
		}
		ok, _ := path.Match(r.pattern, ip.String())
		return numbers && ok
	}
	if numbers {
		return false
	}
	ok, _ := path.Match(r.pattern, strings.ToLower(strings.TrimSuffix(host, ".")))
	return ok
}

func anyFits(list []destination, host, port string) bool {
	for _, r := range list {
		if r.fits(host, port) {
			return true
		}
	}
	return false
}

// errNotAllowed says that a destination is not one of the listener's.
type errNotAllowed string

func (e errNotAllowed) Error() string {
	return fmt.Sprintf("%s is not an allowed destination of this proxy", string(e))
}

// judge tells whether a destination may be reached, and whether from here.
func (r rules) judge(reach string) (direct bool, err error) {
	host, port, err := net.SplitHostPort(reach)
	if err != nil {
		return false, err
	}
	if anyFits(r.direct, host, port) {
		return true, nil
	}
	if len(r.only) > 0 && !anyFits(r.only, host, port) {
		return false, errNotAllowed(reach)
	}
	return false, nil
}
