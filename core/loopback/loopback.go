// Package loopback keeps what is for this machine alone to it: addresses to listen at, and the hosts that requests name.
package loopback

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// Host reports whether a host, with a port or without, is a loopback address or "localhost".
func Host(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	addr, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return strings.EqualFold(host, "localhost") || err == nil && addr.Unmap().IsLoopback()
}

// Listen listens at a TCP address, which has to be a loopback address with a port.
func Listen(address string) (net.Listener, error) {
	if _, _, err := net.SplitHostPort(address); err != nil || !Host(address) {
		return nil, fmt.Errorf("%q is no loopback address with a port; write 127.0.0.1:PORT, as it is for this machine only", address)
	}
	return net.Listen("tcp", address)
}

// Only answers the requests whose Host (RFC 9110 section 7.2) is this machine, and refuses others: a web page elsewhere can
// have a name of its own lead here.
func Only(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !Host(r.Host) {
			http.Error(w, "for this machine only: use a loopback address", http.StatusMisdirectedRequest)
			return
		}
		h.ServeHTTP(w, r)
	})
}
