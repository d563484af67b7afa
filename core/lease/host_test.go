package lease_test

import (
	"meatus/core/lease"
	"net/netip"
	"strings"
	"testing"
)

func TestWhichHostsACertificateMayBeFor(t *testing.T) {
	for host, want := range map[string]bool{"reef": true, "reef-1.bay.internal": true, "a_b": true, "10.61.4.20": true, "2001:db8::1": true,
		"": false, "*": false, "Reef": false, "reef.": false, ".reef": false, "-reef": false, "reef-.x": false, "1.2.3": false, "127.0.0.1": false, "127.1": false,
		"::1": false, "0.0.0.0": false, "::": false, "2001:DB8::1": false, "fe80::1%eth0": false, "localhost": false, "a.localhost": false, "re ef": false, "re\nef": false, "réef": false, "x/y": false, strings.Repeat("a", 64): false} {
		if lease.ValidHost(host) != want {
			t.Errorf("%q: %v", host, !want)
		}
	}
}

func FuzzValidHost(f *testing.F) {
	for _, seed := range []string{"reef.internal", "127.0.0.1", "::ffff:1.2.3.4", "*", "a\x00b", "0x7f.1", "1e9"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, host string) {
		if !lease.ValidHost(host) {
			return
		}
		if strings.ContainsAny(host, "*?[]%/\\ \t\r\n\x00@,\"'") || strings.ToLower(host) != host {
			t.Errorf("%q holds what no host does", host)
		}
		if addr, err := netip.ParseAddr(host); err == nil && addr.IsLoopback() {
			t.Errorf("%q is this machine", host)
		}
	})
}
