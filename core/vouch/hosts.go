package vouch

import (
	"encoding/base64"
	"errors"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
)

// PublicKey is the key itself.
func (v Vouch) PublicKey() (ssh.PublicKey, error) {
	wire, err := base64.StdEncoding.DecodeString(v.Key)
	if err != nil {
		return nil, err
	}
	return ssh.ParsePublicKey(wire)
}

// Host is everything that is or was vouched for one host.
type Host struct {
	Name string
	Port int
	Way  string  // as in [At]
	Keys []Vouch // oldest first; those that are not current are history
}

// At is the host.
func (h Host) At() At { return At{h.Name, h.Port, h.Way} }

// Current are the keys that are accepted now.
func (h Host) Current() []Vouch {
	return slices.DeleteFunc(slices.Clone(h.Keys), func(v Vouch) bool { return !v.Current() })
}

// Hosts lists every host with a vouch, by name.
func (r *Record) Hosts() ([]Host, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	var hosts []Host
	for _, list := range r.vouches {
		hosts = append(hosts, Host{list[0].Host, list[0].Port, list[0].Way, list})
	}
	slices.SortFunc(hosts, func(a, b Host) int {
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		if a.Port != b.Port {
			return a.Port - b.Port
		}
		return strings.Compare(a.Way, b.Way)
	})
	return hosts, nil
}

// NamesOf are the hosts that a key, by its SHA-256 fingerprint, is vouched for.
func (r *Record) NamesOf(sha256 string) []string {
	hosts, err := r.Hosts()
	if err != nil {
		return nil
	}
	var names []string
	for _, h := range hosts {
		for _, v := range h.Current() {
			if key, err := v.PublicKey(); err == nil && ssh.FingerprintSHA256(key) == sha256 {
				names = append(names, h.Name)
			}
		}
	}
	return names
}

// Retire makes what is vouched for a host history: the next visit is a first one.
// Only that host's entries change.
func (r *Record) Retire(at At, when time.Time, why string) error {
	return r.ending(at, when, why, func(before, after []byte) error {
		if string(after) == string(before) {
			return errors.New("nothing is vouched for it")
		}
		return atomicfile.Write(r.path, after)
	})
}
