package login

import (
	"meatus/core/event"
	"meatus/core/step"
	"strings"
)

// LoggedIn says how a login got in.
type LoggedIn struct {
	step.Place
	Host    string // what the login is remembered by: the host, or the instance that the session is bound to
	Port    int
	Key     string // SHA-256 fingerprint of the key that was accepted last, or ""
	Version string // what the server's software calls itself, cleaned
	Banner  string // what it said before, cleaned, in lines
}

// Sighted says that a vouched host key was seen at an address.
type Sighted struct {
	Host    string
	Port    int
	Key     string // SHA-256 fingerprint
	Address string
}

// Learned says that a host proved further keys of its own, which are recorded, or could
// not prove some that it announced, which are not.
type Learned struct {
	step.Place
	Keys     []string // algorithm and SHA-256 fingerprint
	Unproven []string
}

func (LoggedIn) IsEvent() {}
func (Sighted) IsEvent()  {}
func (Learned) IsEvent()  {}

// Record words the event.
func (e Learned) Record() event.Record {
	r := event.Record{Name: "learned", Session: e.Session, Hop: e.Hop, Say: "announced host keys", Fields: map[string]any{"keys": e.Keys}}
	if len(e.Keys) > 0 {
		r.Say = "proved further host keys: " + strings.Join(e.Keys, ", ")
	}
	if len(e.Unproven) > 0 {
		r.Failed = "it could not prove " + strings.Join(e.Unproven, ", ")
	}
	return r
}
