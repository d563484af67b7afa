package cargo

import (
	"fmt"

	"meatus/core/cargo/ends"
	"meatus/core/words"
)

// marks are how an act is shown in front of a name.
var marks = map[Act]string{Make: "+", Replace: "»", Settle: "=", Remove: "–", Leave: "!"}

// Line says an item of a folder in one line: what is done, the path, and why.
func (i *Item) Line(folder string) string {
	path := Say(ends.Join(folder, i.Name))
	kind := i.New.Kind
	size := i.New.Size
	if i.Act == Remove {
		kind, size = i.Old.Kind, i.Old.Size
	}
	line := fmt.Sprintf("%s %-7s  %s", marks[i.Act], i.Act, path)
	switch {
	case kind == ends.Folder:
		line += "/"
	case kind == ends.Link:
		line += " → " + Say(i.New.Link)
	case kind == ends.File && i.Act != Settle && i.Act != Leave:
		line += "  " + words.Bytes(float64(size))
	}
	if i.Under.Names > 0 {
		line += fmt.Sprintf("  with %s, %s", words.Count(i.Under.Names, "name"), words.Bytes(float64(i.Under.Bytes)))
	}
	if i.Act == Replace && i.Old.Kind == ends.File && i.Old.Time > i.New.Time {
		line += "  over a newer one"
	}
	if i.Why != "" {
		line += "  (" + i.Why + ")"
	}
	return line
}

// Says says what a plan comes to, in a few lines.
func (p *Plan) Says() []string {
	s := p.Sum()
	says := []string{fmt.Sprintf("%s becomes %s", Say(p.From.String()), Say(p.To.String()))}
	var acts []string
	for _, a := range []struct {
		act  Act
		verb string
	}{{Make, "made"}, {Replace, "replaced"}, {Settle, "with permissions and time set"}, {Remove, "put aside"}} {
		if n := s.By[a.act].Names; n > 0 {
			acts = append(acts, fmt.Sprintf("%d %s", n, a.verb))
		}
	}
	say := "nothing to do"
	if len(acts) > 0 {
		say = words.And(acts)
	}
	if s.Moves > 0 {
		say += ", " + words.Bytes(float64(s.Moves)) + " to move"
	}
	if p.Same > 0 {
		say += fmt.Sprintf("; %d are the same", p.Same)
	}
	says = append(says, say)
	if s.Newer.Names > 0 {
		says = append(says, fmt.Sprintf("%s over there %s newer than what replaces %s", words.Count(s.Newer.Names, "file"), words.Choose(s.Newer.Names, "is", "are"), words.Choose(s.Newer.Names, "it", "them")))
	}
	if s.Problems > 0 {
		says = append(says, fmt.Sprintf("%s left alone", words.Count(s.Problems, "name")))
	}
	return says
}

// Differences says what differs between two trees, a line each, of a plan that would make the
// second like the first.
func (p *Plan) Differences() []string {
	says := map[Act]string{Make: "only in %s", Replace: "differs", Settle: "permissions or time differ", Remove: "only in %s"}
	var all []string
	for path, items := range p.Folders() {
		for _, i := range items {
			say := says[i.Act]
			switch i.Act {
			case Make:
				say = fmt.Sprintf(say, Say(p.From.String()))
			case Remove:
				say = fmt.Sprintf(say, Say(p.To.String()))
			case Leave:
				say = i.Why
			}
			all = append(all, Say(ends.Join(path, i.Name))+": "+say)
		}
	}
	return all
}
