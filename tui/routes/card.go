package routes

import (
	"fmt"
	"strings"

	"meatus/core/gate"
	"meatus/tui/fit"
)

// leastHop is how many columns a hop needs on the card.
const leastHop = 36

// Card draws the gate card of the selected session: its hops side by side, what
// stands at each gate, and below them what is wrong and what mends it.
func (m *Model) Card(height int) []string {
	t := m.theme
	if len(m.entries) == 0 {
		return []string{t.Rule.Render(strings.Repeat("─", m.width))}
	}
	e := m.entry(m.cursor)
	right := ""
	if e.walk != nil {
		right = t.Keys(hintStop)
	}
	lines := []string{t.Title(t.Strong.Render(e.name), right, m.width, fit.Spread)}
	if e.report.Broken != "" {
		lines = append(lines, "")
		for _, l := range fit.Wrap(e.report.Broken, m.width-6) {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(l))
		}
		return append(lines, "", "   "+t.Accent.Render("→ ")+"mend "+m.ws.SessionsPath()+", then press "+t.Key.Render("r"))
	}
	if !m.whole {
		lines = append(lines, m.hops(e)...)
		lines = append(lines, m.doors(e)...)
	}
	return append(lines, m.trouble(e, height-len(lines))...)
}

// doors draws the session's open tunnels with their direction.
func (m *Model) doors(e *entry) []string {
	t := m.theme
	var lines []string
	for _, l := range m.openTunnels(e.name) {
		v, off := l.Standing()
		mark, say := t.Mark(v), fmt.Sprintf("%s, %d live", l.Drawn(), l.Live)
		proven := l.Proof != "" && l.Error == "" && l.Up
		switch {
		case v == gate.Open:
			mark = t.Live.Render("⇄")
		case v == gate.Untried:
			mark = t.Accent.Render(m.turning())
		case !proven: // else its gates tell
			say = l.Drawn() + ": " + off
		}
		if l.Beyond {
			say = t.Verdict(gate.Ajar).Render("OPEN TO OTHER MACHINES ") + say
		}
		lines = append(lines, fit.Cut("   "+mark+" "+say, m.width))
		if proven {
			var gates []string
			for _, g := range l.Gates() {
				one := t.Mark(g.Verdict) + " " + g.Name
				if g.Seen != "" && (g.Name != "service" || l.Heard == "" || g.Verdict != gate.Open) {
					one += t.Faint.Render(" " + g.Seen)
				}
				if g.Name == "first bytes" && g.Verdict == gate.Shut {
					continue // the service's own line has them
				}
				gates = append(gates, one)
			}
			lines = append(lines, fit.Cut("     "+strings.Join(gates, "   "), m.width))
		}
		if l.Rule != "" && l.Up {
			lines = append(lines, fit.Cut("     "+t.Accent.Render("→ ")+"to hand to whoever owns it: "+l.Rule, m.width))
		}
	}
	return lines
}

// hops draws as many hops side by side as fit, among them the one that matters.
func (m *Model) hops(e *entry) []string {
	n := len(e.report.Hops)
	fits := max(min((m.width-2)/leastHop, n), 1)
	width := min((m.width-2)/fits, 64)
	first := 0
	if n > fits {
		first = min(max(m.focusHop(e)-fits+1, 0), n-fits)
	}
	lines := make([]string, 1+len(gate.Kinds))
	for i := first; i < first+fits; i++ {
		column := m.hop(e, i, width)
		for row := range lines {
			text := ""
			if row < len(column) {
				text = column[row]
			}
			lines[row] += fit.Pad(text, width)
		}
	}
	for row := range lines {
		lines[row] = " " + lines[row]
	}
	return lines
}

// focusHop is the hop that matters: where the walk is, where something is wrong,
// or the last one.
func (m *Model) focusHop(e *entry) int {
	if e.walk != nil {
		return e.walk.hop
	}
	if g, at := e.report.Worst(); g.Verdict >= gate.Ajar {
		return at
	}
	return len(e.report.Hops) - 1
}

func (m *Model) hop(e *entry, i, width int) []string {
	t, h := m.theme, e.report.Hops[i]
	lines := []string{fmt.Sprintf("  %s %s   %s", t.Accent.Render(fmt.Sprint(i+1)), t.Strong.Render(h.Name), t.Faint.Render(h.User+"@"+h.Address))}
	live := m.linkAt(e, i) != nil
	for _, g := range h.Gates {
		if live && g.Verdict == gate.Untried && g.Kind < gate.Channel {
			g.Verdict = gate.Open // another session's walk has passed it
		}
		mark, seen := t.Mark(g.Verdict), g.Seen
		style := t.Text
		if g.Verdict == gate.Untried {
			style = t.Faint
		}
		if e.walk != nil && e.walk.hop == i && e.walk.gate == g.Kind && !e.walk.through && e.walk.waiting == nil {
			mark, style = t.Accent.Render(m.turning()), t.Accent
		}
		if g.Verdict >= gate.Ajar {
			style = t.Verdict(g.Verdict)
		}
		lines = append(lines, fit.Cut(fmt.Sprintf("    %s %-9s %s", mark, g.Kind, style.Render(seen)), width-2))
	}
	return lines
}

// hasDetail tells whether a gate has more to tell than fits beside it.
func hasDetail(e *entry) bool {
	for _, h := range e.report.Hops {
		for _, g := range h.Gates {
			if len(g.Detail) > 0 {
				return true
			}
		}
	}
	return false
}

// details lists what the gates have to tell: what was tried in which order, what
// the servers said.
func (m *Model) details(e *entry, height int) []string {
	t := m.theme
	var lines []string
	for _, h := range e.report.Hops {
		for _, g := range h.Gates {
			for i, d := range g.Detail {
				word := ""
				if i == 0 {
					word = h.Name + ", " + g.Kind.String()
				}
				lines = append(lines, "   "+t.Strong.Render(fit.Pad(word, 24))+" "+t.Faint.Render(fit.Cut(d, m.width-30)))
			}
		}
	}
	return lines[:min(len(lines), max(height, 0))]
}

// trouble says what is wrong at the worst gate, why, and what mends it.
func (m *Model) trouble(e *entry, height int) []string {
	t := m.theme
	worst, at := e.report.Worst()
	if worst.Verdict < gate.Ajar || e.walk != nil && e.walk.waiting == nil || height < 1 {
		m.cut = hasDetail(e)
		if m.whole && m.cut && e.walk == nil {
			return m.details(e, height)
		}
		if m.whole = false; e.said != "" && e.walk == nil {
			return []string{"", "   " + t.Accent.Render("✓ ") + e.said}
		}
		return nil
	}
	var lines []string
	head := fmt.Sprintf("%s at %s, %s: ", worst.Verdict, e.report.Hops[at].Name, worst.Kind)
	for i, l := range fit.Wrap(head+worst.Reason, m.width-8) {
		mark := "  "
		if i == 0 {
			mark = t.Mark(worst.Verdict) + " "
			l = t.Verdict(worst.Verdict).Render(l[:min(len(head), len(l))]) + l[min(len(head), len(l)):]
		}
		lines = append(lines, "   "+mark+l)
	}
	var remedy []string
	if !worst.Remedy.IsZero() {
		press, key := "", ""
		switch worst.Remedy.Act {
		case gate.MendKey:
			press, key = "press m: ", "m"
		case gate.Settle:
			press, key = "press i to settle it: ", "i"
		case gate.Choose:
			press, key = "press m for what may mend it: ", "m"
		}
		for i, l := range fit.Wrap(press+worst.Remedy.Say, m.width-8) {
			mark := "  "
			if i == 0 {
				mark = t.Accent.Render("→ ")
				if press != "" && strings.HasPrefix(l, press) {
					l = strings.Replace(press, key, t.Key.Render(key), 1) + l[len(press):]
				}
			}
			remedy = append(remedy, "   "+mark+l)
		}
	}
	m.cut = false
	for _, d := range worst.Detail {
		if len(lines)+len(remedy) >= height {
			m.cut = true
			break
		}
		lines = append(lines, "     "+t.Faint.Render(fit.Cut(d, m.width-8)))
	}
	if len(lines)+len(remedy)+1 <= height {
		lines = append([]string{""}, lines...)
	}
	if over := len(lines) + len(remedy) - height; over > 0 { // the remedy stays in view
		lines = lines[:max(len(lines)-over, 1)]
	}
	return append(lines, remedy...)
}
