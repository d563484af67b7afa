package localaddr

import (
	"net"
	"net/netip"
)

// Own is the address that this machine's connections to other networks come from, as it knows itself; not ok
// where it has no way there. Nothing is sent.
func Own() (at netip.Addr, ok bool) {
	conn, err := net.Dial("udp", "192.0.2.1:9") // RFC 5737; the kernel chooses an address by its routes alone
	if err != nil {
		return at, false
	}
	defer conn.Close()
	from, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil || from.Addr().IsLoopback() {
		return at, false
	}
	return from.Addr().Unmap(), true
}

// Outside is the address that this machine is seen as outside, as far as it knows itself: not valid where that is
// one of a private network (RFC 1918, RFC 4193), which is another one outside, or where there is none.
func Outside() netip.Addr {
	if at, ok := Own(); ok && !at.IsPrivate() {
		return at
	}
	return netip.Addr{}
}
