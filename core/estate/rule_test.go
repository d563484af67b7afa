package estate

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
)

func reefOnly(name string) (string, error) {
	if name == "reef" {
		return "g-reef", nil
	}
	return "", errors.New("there is no group " + name)
}

func TestARuleIsReadAsItIsTold(t *testing.T) {
	for _, r := range []Rule{
		{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix("198.51.100.7/32")},
		{Inbound: true, Protocol: "udp", From: 7, To: 8080, CIDR: netip.MustParsePrefix("2001:db8::/32")},
		{Inbound: true, Protocol: "tcp", To: 65535, Group: "g-reef"},
		{Protocol: "any", To: 65535, CIDR: netip.MustParsePrefix("0.0.0.0/0")},
		{Protocol: "132", From: 9, To: 9, CIDR: netip.MustParsePrefix("::/0")},
		{Inbound: true, Protocol: "icmp", To: 65535, CIDR: netip.MustParsePrefix("10.61.0.0/16")},
	} {
		said := r.Sentence("reef")
		if back, err := ParseRule(said, reefOnly); err != nil || !back.Same(r) {
			t.Errorf("%q is read as %+v, %v; want %+v", said, back, err, r)
		}
	}
	if r, err := ParseRule("lets  in tcp 22 from everybody", reefOnly); err != nil || r.CIDR.String() != "0.0.0.0/0" || !r.Inbound {
		t.Errorf("everybody is %+v, %v", r, err)
	}
	for _, bad := range []string{"", "lets in", "lets in tcp 22", "lets in tcp 22 to 10.0.0.1", "lets in tcp 80-22 from 10.0.0.1", "lets in tcp x from 10.0.0.1", "lets in tcp 70000 from 10.0.0.1", "lets in tcp 22 from 10.0.0.1/8", "lets in tcp 22 from whoever is in shore", "lets in tcp 22 from nowhere", "lets in t\x1b[31m 22 from 10.0.0.1", "lets on tcp 22 from 10.0.0.1"} {
		if _, err := ParseRule(bad, reefOnly); err == nil || strings.Contains(err.Error(), "\x1b") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

func FuzzParseRule(f *testing.F) {
	f.Add("lets in tcp 22 from everybody (0.0.0.0/0)")
	f.Add("lets out all udp to whoever is in reef")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ParseRule(text, reefOnly)
		if err != nil {
			return
		}
		if back, err := ParseRule(r.Sentence("reef"), reefOnly); err != nil || !back.Same(r) {
			t.Fatalf("%q is %+v, and told %q is %+v, %v", text, r, r.Sentence("reef"), back, err)
		}
	})
}
