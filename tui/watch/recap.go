package watch

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/words"
	"meatus/tui/fit"
)

// recapLines say what happened while nobody looked: what dropped, what came back, and
// how much went where.
func (m *Model) recapLines(width, height int) []string {
	t, r := m.s.Theme, m.recap
	lines := []string{t.Title(t.Strong.Render("the last "+fit.Ago(r.To.Sub(r.From))), t.Faint.Render("since "+r.From.Local().Format("2 Jan 15:04")), width, fit.Spread)}
	say := func(text string) { lines = append(lines, fit.Hang("   "+text, 5, width).Whole...) }
	if len(r.Drops) == 0 {
		say(t.Mark(gate.Open) + " no link was lost")
	}
	for i, d := range r.Drops {
		if i == max(height/2, 2) {
			say(t.Faint.Render(fmt.Sprintf("and %d more; the trail has them", len(r.Drops)-i)))
			break
		}
		back, mark := t.Verdict(gate.Shut).Render("has not come back"), t.Mark(gate.Shut)
		if !d.Back.IsZero() {
			back, mark = "back after "+fit.Ago(d.Back.Sub(d.At).Round(time.Second)), t.Mark(gate.Ajar)
		}
		say(fmt.Sprintf("%s %s  %s  %s  %s", mark, t.Faint.Render(d.At.Local().Format("15:04:05")), fit.Pad(d.Name, 12), back, t.Faint.Render(d.Why)))
	}
	if r.Refused > 0 {
		say(fmt.Sprintf("%s %s failed", t.Mark(gate.Ajar), words.Count(r.Refused, "connection attempt")))
	}
	if r.Lent > 0 {
		say(fmt.Sprintf("%s lent keys were used or asked for %s", t.Mark(gate.Open), words.Count(r.Lent, "time")))
	}
	most := 0.0
	for _, c := range r.Carried {
		most = max(most, c.In+c.Out)
	}
	for i, c := range r.Carried {
		if len(lines) >= height-1 {
			say(t.Faint.Render("and " + words.Count(len(r.Carried)-i, "more link")))
			break
		}
		say(fmt.Sprintf("  %s %s  ↓ %s  ↑ %s", fit.Pad(c.Name, 12), t.Live.Render(fit.Pad(bar((c.In+c.Out)/most, 16), 16)), words.Bytes(c.In), words.Bytes(c.Out)))
	}
	if len(r.Carried) == 0 {
		say(t.Faint.Render("no traffic is recorded"))
	}
	return lines
}

// bar is a part of a width, at least a thin line.
func bar(part float64, width int) string {
	full := int(part * float64(width))
	out := ""
	for range full {
		out += "━"
	}
	if out == "" {
		return "╴"
	}
	return out
}

// recapOver is what "r" sums up.
const recapOver = 8 * time.Hour

// sumUpLast sums the last hours up, or puts that away.
func (m *Model) sumUpLast() tea.Cmd {
	if m.recap != nil {
		m.recap = nil
		return nil
	}
	return m.sumUp(time.Now().Add(-recapOver), true)
}

// sumUp finds out what happened since a time; asked says that a person wants to see it.
func (m *Model) sumUp(since time.Time, asked bool) tea.Cmd {
	t, keeper := m.s.Trail, m.s.Keeper
	if t == nil {
		m.note = "there is no trail to sum up"
		return nil
	}
	return m.s.Run(func() tea.Msg {
		now := time.Now()
		r, err := t.Recap(context.Background(), since, now, keeper.Since(since, now))
		return recapped{r, err, asked}
	})
}

// takeRecap shows what happened; where nobody asked and another place shows, it is said
// where to see it, if there is anything.
func (m *Model) takeRecap(msg recapped) tea.Cmd {
	if msg.err != nil {
		m.s.Notice(msg.err.Error())
		return nil
	}
	m.recap = &msg.recap
	if msg.asked || m.shows || len(msg.recap.Drops)+msg.recap.Refused == 0 {
		return nil
	}
	back := 0
	for _, d := range msg.recap.Drops {
		if !d.Back.IsZero() {
			back++
		}
	}
	say := fmt.Sprintf("while you were away links were lost: %d, of them back: %d. %s tells", len(msg.recap.Drops), back, m.s.Press("watch"))
	if len(msg.recap.Drops) == 0 {
		say = fmt.Sprintf("while you were away, connection attempts failed: %d. See %s", msg.recap.Refused, m.s.Press("watch"))
	}
	m.s.Notice(say)
	return nil
}
