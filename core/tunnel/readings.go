package tunnel

import (
	"fmt"

	"meatus/core/meter"
	"meatus/core/walk"
)

// Key names a flow among all of a program's.
func (t *Tunnel) Key(f Flow) string { return fmt.Sprintf("%s %s %d", t.Session, t.What(), f.ID) }

// ProgramKey names a shell or command among all of a walker's.
func ProgramKey(p walk.ProgramState) string { return fmt.Sprint("program ", p.ID) }

// Readings tells what every link, shell and command of a walker, and every flow of a set, has carried so
// far, for a [meter.Keeper]. A link is known by the way to it, in every run.
func Readings(w *walk.Walker, s *Set) func() []meter.Reading {
	return func() []meter.Reading {
		var all []meter.Reading
		for _, l := range w.Links() {
			all = append(all, meter.Reading{Key: l.Prefix, Name: l.Hop, ID: int64(l.ID), In: l.In, Out: l.Out, RoundTrip: l.RoundTrip})
		}
		for _, p := range w.Programs() {
			all = append(all, meter.Reading{Key: ProgramKey(p), Name: p.Session, ID: int64(p.ID), In: p.In, Out: p.Out, Brief: true})
		}
		for _, t := range s.All() {
			for _, f := range t.Flows() {
				all = append(all, meter.Reading{Key: t.Key(f), Name: t.Session, ID: f.ID, In: f.In, Out: f.Out, Brief: true})
			}
		}
		return all
	}
}
