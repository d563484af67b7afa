package trail

import (
	"cmp"
	"context"
	"slices"
	"time"

	"meatus/core/meter"
)

// Stay is how long somebody was connected somewhere: by a shell or command, or by a
// link alone.
type Stay struct {
	Who, Where string // the account here, the session
	What       string // "shell", "command" or "link"
	From, To   time.Time
	Lost       bool // it did not end by itself
	Open       bool // no end is known: it lives, or the program was killed
}

// Stays are those between two times, by where and when they began.
func (t *Trail) Stays(ctx context.Context, from, to time.Time) ([]Stay, error) {
	entries, err := t.Read(ctx, Filter{Since: from.Add(-24 * time.Hour)})
	if err != nil {
		return nil, err
	}
	return stays(entries, from, to), nil
}

func stays(entries []Entry, from, to time.Time) []Stay {
	var all []Stay
	began := map[string][]Stay{} // by what and where, those whose end has not come
	for _, e := range slices.Backward(entries) {
		what, begin, ok := ofStay(e)
		if !ok {
			continue
		}
		where := cmp.Or(e.Session, e.Hop)
		key := what + " " + where + " " + e.Who
		if begin {
			began[key] = append(began[key], Stay{Who: e.Who, Where: where, What: what, From: e.At, To: to, Open: true})
			continue
		}
		s := Stay{Who: e.Who, Where: where, What: what, From: e.At.Add(-max(e.Took, 0)), To: e.At, Lost: e.Failed != ""}
		// The beginning it belongs to is the nearest in time.
		nearest, off := -1, 2*time.Second
		for i, b := range began[key] {
			if d := b.From.Sub(s.From).Abs(); d < off {
				nearest, off = i, d
			}
		}
		if nearest >= 0 {
			began[key] = slices.Delete(began[key], nearest, nearest+1)
		}
		all = append(all, s)
	}
	for _, open := range began {
		all = append(all, open...)
	}
	all = slices.DeleteFunc(all, func(s Stay) bool { return s.To.Before(from) || s.From.After(to) })
	slices.SortFunc(all, func(a, b Stay) int {
		return cmp.Or(cmp.Compare(a.Where, b.Where), a.From.Compare(b.From), cmp.Compare(a.What, b.What))
	})
	return all
}

// ofStay tells what an entry is the beginning or the end of.
func ofStay(e Entry) (what string, begin, ok bool) {
	switch e.Event {
	case "link-up":
		return "link", true, true
	case "link-down":
		return "link", false, true
	case "began", "finished":
		what, ok = e.Fields["what"].(string)
		return what, e.Event == "began", ok
	}
	return "", false, false
}

// Recap is what happened since a time, for somebody who comes back.
type Recap struct {
	From, To time.Time
	Drops    []Drop
	Refused  int // walks that did not get through
	Lent     int // uses of lent keys
	Carried  []meter.Hauled
}

// Drop is a link that was lost.
type Drop struct {
	At   time.Time
	Name string
	Why  string
	Back time.Time // when there was a link to there again, zero where there was none
}

// Recap sums up what the trail tells since a time, with what links carried.
func (t *Trail) Recap(ctx context.Context, from, to time.Time, carried []meter.Hauled) (Recap, error) {
	r := Recap{From: from, To: to, Carried: slices.Clone(carried)}
	slices.SortFunc(r.Carried, func(a, b meter.Hauled) int {
		return cmp.Or(cmp.Compare(b.In+b.Out, a.In+a.Out), cmp.Compare(a.Name, b.Name))
	})
	entries, err := t.Read(ctx, Filter{Since: from})
	if err != nil {
		return r, err
	}
	for _, e := range slices.Backward(entries) {
		what, begin, _ := ofStay(e)
		switch {
		case what == "link" && begin:
			for i := range r.Drops {
				if d := &r.Drops[i]; d.Name == e.Hop && d.Back.IsZero() {
					d.Back = e.At
				}
			}
		case what == "link" && e.Failed != "":
			r.Drops = append(r.Drops, Drop{At: e.At, Name: e.Hop, Why: e.Failed})
		case e.Kind == Walk && e.Failed != "":
			r.Refused++
		case e.Kind == Lend:
			r.Lent++
		}
	}
	return r, nil
}
