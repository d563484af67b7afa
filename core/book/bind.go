package book

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"meatus/core/sanitize"
)

// Fleet is a rule that makes sessions of the instances that a query chooses.
type Fleet struct {
	Query  Value[string]
	Called Value[string] // what they are called, * for the instance's name; not set for that alone
	At     Place
	Broken *Problem // the first mistake that keeps it from being used, nil for none
	table  *table
}

// Binding is the instance that a session is bound to, as far as a session needs it, with what it gives
// to the session.
type Binding struct {
	Source string // the estate that knows it
	ID     string
	Name   string
	State  string
	Checks string
	Since  time.Time // when it was noticed to be in that state, zero where that is not known
	Wrong  string    // what went wrong with it, as the estate has it
	Read   time.Time // when the estate was read last
	Stale  string    // why it could not be read since, "" where it could

	Host, HostFrom string // the address, and where it is from: "bay, inside"
	User, UserFrom string // "" for none known
	Key, KeyFrom   string // as it would be written, "" for none known
}

// Member is an instance that a fleet makes a session of.
type Member struct {
	Name string                                    // of the session
	Bind func(s *Session) (b *Binding, why string) // what it gives to that, or why it has no address
}

// Instances are what sessions can be bound to.
type Instances interface {
	// Named is the instance that a session names, or why there is no such, or none with the address that
	// is wanted.
	Named(s *Session) (b *Binding, why string)
	// Members are those of a fleet. The error is a mistake in its query.
	Members(f *Fleet) ([]Member, error)
}

// Bind is the book with its sessions bound to instances, and with those of its fleets. A written session
// of the same name takes the place of a fleet's. The book itself stays as it is, and is returned where
// nothing in it is bound.
func (b *Book) Bind(to Instances) *Book {
	bound, written := *b, false
	bound.unbound = b
	for _, s := range b.Sessions {
		written = written || s.Instance.Set
	}
	if !written && len(b.Fleets) == 0 {
		return b
	}
	bound.Sessions = make([]*Session, 0, len(b.Sessions))
	bound.byName = make(map[string]*Session, len(b.Sessions))
	r := &reader{file: b.Path, layers: b.far}
	add := func(s *Session) {
		bound.Sessions = append(bound.Sessions, s)
		bound.byName[s.Name] = s
	}
	for _, old := range b.Sessions {
		s := clone(old)
		if s.Instance.Set && s.Broken == nil {
			found, why := to.Named(s)
			s.take(found, why, b.Path, s.Instance.Origin.Place)
		}
		add(s)
	}
	for _, f := range b.Fleets {
		if f.Broken != nil {
			continue
		}
		members, err := to.Members(f)
		if err != nil {
			bound.Problems = append(slices.Clone(bound.Problems), Problem{File: b.Path, Place: f.Query.Origin.Place, Say: "query: " + err.Error()})
			continue
		}
		for _, m := range members {
			if bound.byName[m.Name] != nil || !ValidName(m.Name) {
				continue
			}
			t := *f.table
			t.name = m.Name
			s := r.session(&t)
			s.Fleet = f
			found, why := m.Bind(s)
			s.take(found, why, b.Path, f.At)
			add(s)
		}
	}
	if len(b.Fleets) > 0 {
		(&reader{file: b.Path}).checkVia(&bound)
	}
	return &bound
}

// take gives a session what its instance has for it, or breaks it where there is none.
func (s *Session) take(i *Binding, why, file string, at Place) {
	s.Bound = i
	if why != "" {
		s.Broken = &Problem{File: file, Place: at, Session: s.Name, Say: why}
		return
	}
	from := func(what string) Origin { return From(InEstate, sanitize.Line(what, 120)) }
	s.Host = Value[string]{i.Host, from(i.HostFrom), true}
	if i.User != "" && !s.User.Set {
		s.Access = clone(s.Access)
		s.User = Value[string]{i.User, from(i.UserFrom), true}
	}
	if i.Key != "" && !s.Keys.Set {
		s.Access = clone(s.Access)
		s.Keys = Value[[]string]{[]string{i.Key}, from(i.KeyFrom), true}
	}
}

// Named is what a fleet calls the session of an instance of that name.
func (f *Fleet) Named(instance string) string {
	if !f.Called.Set {
		return instance
	}
	return strings.ReplaceAll(f.Called.V, "*", instance)
}

// Written says where a session is written, as who edits it is told where it is not written itself.
func (s *Session) Written() error {
	if s.Fleet == nil {
		return nil
	}
	return fmt.Errorf("%s is made by the fleet on line %d; write a session of that name, and it takes its place", s.Name, s.Fleet.At.Line)
}

// Unbound is the book as it was before it was bound.
func (b *Book) Unbound() *Book {
	if b.unbound != nil {
		return b.unbound
	}
	return b
}
