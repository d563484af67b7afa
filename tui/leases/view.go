package leases

import (
	"fmt"
	"strings"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// issuerTable is an issuer of the sessions file.
type issuerTable = book.Gateway

// room is how many rows of the list fit.
func (m *Model) room() int {
	if _, _, beside := place.Halves(m.width); beside {
		return max(m.height-6, 3)
	}
	return max((m.height+1)*55/100-5, 3)
}

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	title := t.Accent.Render("leases")
	right := ""
	if m.issuer != "" {
		title += t.Accent.Render(" of ") + t.Strong.Render(m.issuer)
	}
	if who := sanitize.Line(m.at.About.Person, 64); m.loaded && m.err == nil && who != "" {
		right = t.Faint.Render("you are " + who + " there")
	}
	lines := []string{t.Title(title, right, m.width, fit.Spread)}
	if m.enrolling {
		lines = append(lines, "   "+t.Accent.Render("the session whose machine is to trust "+m.issuer+": ")+m.line.View(max(m.width-60, 16)))
	}
	say := func(text string, style func(...string) string) {
		for _, l := range fit.Wrap(text, max(m.width-8, 20)) {
			lines = append(lines, "   "+style(l))
		}
	}
	switch {
	case m.issuer == "":
		say("", t.Faint.Render)
		say("The sessions file names no issuer of leases. A table [issuer.NAME] with its url, and lease = \"NAME\" in a session, have logins last for a minute; docs/leases.md tells how one is run.", t.Faint.Render)
		return lines
	case m.err != nil:
		say(said(m.err), t.Verdict(gate.Shut).Render)
		if m.list.Len() > 0 {
			say("The following is from the last answer.", t.Faint.Render)
		}
	case !m.loaded:
		say("asking "+m.issuer+" …", t.Faint.Render)
	case m.list.Len() == 0:
		say(m.issuer+" allows you no logins, and no request waits.", t.Faint.Render)
	}
	list, pane, beside := place.Halves(m.width)
	rows := m.in(list).listed()
	told := m.in(pane).chosen()
	if beside {
		return append(lines, place.Joined(t, rows, told, list, max(m.height-len(lines), 0))...)
	}
	lines = append(lines, rows...)
	if r := m.height - len(told); len(lines) > r && r > 0 {
		lines = lines[:r]
	}
	return append(lines, told...)
}

// in is the place as it is drawn in so many columns.
func (m *Model) in(width int) *Model {
	c := *m
	c.width = width
	return &c
}

// group is the heading of a row.
func group(r row) string {
	switch {
	case r.asked != nil && !r.asked.Mine:
		return "waits for your yes"
	case r.asked != nil:
		return "waits for somebody's yes"
	case r.held != nil:
		return "held"
	}
	return "may log in"
}

// listed are the rows of the list, each group under its heading.
func (m *Model) listed() []string {
	t := m.s.Theme
	var lines []string
	rows := m.list.Shown()
	_, to := m.list.Window()
	before := ""
	for _, drawn := range m.list.Lines(func(r row, chosen bool) string {
		head := ""
		if g := group(r); g != before {
			before = g
			head = "   " + t.Faint.Render(g) + "\n"
		}
		return head + m.row(r, chosen)
	}) {
		lines = append(lines, strings.Split(drawn, "\n")...)
	}
	if below := len(rows) - to; below > 0 {
		lines = append(lines, "   "+t.Faint.Render(fmt.Sprintf("%d more below", below)))
	}
	return lines
}

func (m *Model) row(r row, selected bool) string {
	t := m.s.Theme
	name := fit.Pad(r.name(), min(34, m.width*2/5))
	pointer := "  "
	if selected {
		pointer, name = t.Accent.Render(theme.Chosen+" "), t.Strong.Render(name)
	}
	mark, state, more := t.Mark(gate.Untried), "", ""
	switch {
	case r.asked != nil && !r.asked.Mine:
		mark, state = t.Mark(gate.Ajar), t.Accent.Render(fit.Pad(sanitize.Line(r.asked.Person, 30)+" asks", 16))
		more = left(r.asked.Expires)
		if r.asked.State == "agreed" {
			more = sanitize.Line(r.asked.By, 40) + " said yes"
		}
	case r.asked != nil:
		mark, state, more = t.Mark(gate.Ajar), t.Text.Render(fit.Pad("you asked", 16)), left(r.asked.Expires)
	case r.held != nil:
		mark, state = t.Mark(gate.Open), t.Live.Render(fit.Pad(left(r.held.Ends), 16))
		more = sanitize.Line(r.held.Rule, 60)
	case r.right.Denied:
		mark, state, more = t.Mark(gate.Shut), t.Text.Render(fit.Pad("may not", 16)), sanitize.Line(r.right.Rule, 60)
	case !r.right.Now:
		state, more = t.Faint.Render(fit.Pad("not now", 16)), sanitize.Line(r.right.Rule, 60)
	case r.right.Agreed:
		mark, state, more = t.Mark(gate.Ajar), t.Text.Render(fit.Pad("with a yes", 16)), sanitize.Line(r.right.Rule, 60)
	default:
		mark, state, more = t.Mark(gate.Open), t.Text.Render(fit.Pad("now", 16)), sanitize.Line(r.right.Rule, 60)
	}
	return fit.Cut(" "+pointer+mark+" "+name+"  "+state+"  "+t.Faint.Render(more), m.width)
}

// chosen is everything that is told of what is chosen.
func (m *Model) chosen() []string {
	t := m.s.Theme
	r, ok := m.selected()
	if !ok {
		return nil
	}
	lines := []string{t.Title(t.Strong.Render(r.name()), "", m.width, fit.Spread)}
	say := func(word, text string) {
		if text == "" {
			return
		}
		for i, l := range fit.Wrap(text, max(m.width-18, 20)) {
			if i > 0 {
				word = ""
			}
			lines = append(lines, fit.Cut("   "+t.Faint.Render(fit.Pad(word, 11))+l, m.width))
		}
	}
	switch {
	case r.asked != nil:
		a := r.asked
		if !a.Mine {
			say("who", sanitize.Line(a.Person, 64)+" from "+sanitize.Line(a.From, 64))
		}
		reason := sanitize.Line(a.Reason, 300)
		if reason == "" {
			reason = "none was given"
		}
		say("reason", reason)
		say("by", sanitize.Line(a.Rule, 80))
		say("asked", a.Asked.Local().Format("15:04:05")+", "+left(a.Expires))
		if a.Mine {
			say("", "The request lasts while the connection waits; withdrawing ends both.")
		} else {
			say("", "With your yes the lease is given at once, and the record has your name beside it.")
		}
	case r.held != nil:
		h := r.held
		say("lease", fmt.Sprintf("%d, given %s, %s", h.Serial, h.Granted.Local().Format("15:04:05"), left(h.Ends)))
		say("by", sanitize.Line(h.Rule, 80))
		say("agreed by", sanitize.Line(h.AgreedBy, 64))
		say("reason", sanitize.Line(h.Reason, 300))
		say("", "Its key is in memory only, and deleted with the connection.")
	default:
		say("when", sanitize.Line(r.right.Says, 600))
		say("instance", sanitize.Line(r.right.Instance, 100))
	}
	sessions := m.sessions(r)
	if len(sessions) == 0 {
		say("sessions", "none has leases for it")
	} else {
		say("sessions", strings.Join(sessions, ", "))
	}
	return lines
}
