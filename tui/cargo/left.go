package cargo

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/place"
)

// leftOver are the records of carries that did not end.
type leftOver struct {
	id      int
	records []*cargo.Record
}

// findLeft looks for carries of this session that were begun and did not end.
func (m *Model) findLeft() tea.Cmd {
	dir, session, id := cargo.Dir(m.s.Workspace().Dir), m.look.session, m.look.id
	return m.s.Run(func() tea.Msg {
		records, _ := cargo.Records(dir)
		found := leftOver{id: id}
		for _, r := range records {
			if !r.Over && !r.Undone && (r.Plan.To.Session == session || r.Plan.From.Session == session) {
				found.records = append(found.records, r)
			}
		}
		return found
	})
}

// leftLine says what was begun and did not end, "" for nothing.
func (m *Model) leftLine() string {
	if len(m.left) == 0 || m.under() {
		return ""
	}
	r := m.left[0]
	say := "what was begun " + r.Began.Local().Format("2 Jan 15:04") + " did not end: " + words.Count(r.Done(), "name") + " done"
	return say + "; " + m.s.Press("background") + " goes on with it, " + m.s.Press("remove-all") + " clears it up"
}

// resume goes on with the latest that did not end.
func (m *Model) resume() tea.Cmd {
	m.carry = &work.Carry{Tools: m.s.Tools(), Plan: m.left[0].Plan, Resume: true}
	m.job, m.left = m.s.Jobs.Begin(m.carry), nil
	return m.tick()
}

// forget clears up what did not end, at the second press.
func (m *Model) forget() tea.Cmd {
	left := m.left[0]
	do := func() tea.Cmd {
		m.carry = nil
		m.job, m.left = m.s.Jobs.Begin(&work.ForgetCargo{Tools: m.s.Tools(), Plan: left.Plan}), nil
		return m.tick()
	}
	return m.s.Confirm(place.Confirm{Subject: left.Began.String(), Say: "what has arrived in part is removed, what is in its place stays: press " + m.s.Press("remove-all") + " again", Do: do})
}

// checked are contents that were compared.
type checked struct {
	id    int
	alike map[string]cargo.Likeness
	err   error
}

// check compares everything by content. Where the far side has no command for it that reads every
// file over the line, which is asked first.
func (m *Model) check() tea.Cmd {
	l := m.look
	names, bytes := l.tree.Alike()
	cheap := l.trees.To.Can(ends.Digests)
	do := func() tea.Cmd {
		m.s.Tell("comparing " + words.Count(len(names), "file") + " by content …")
		trees, id := l.trees, l.id
		return m.s.Run(func() tea.Msg {
			alike, err := cargo.Unlike(context.Background(), trees.From, trees.To, names)
			return checked{id, alike, err}
		})
	}
	if cheap {
		return do()
	}
	return m.s.Confirm(place.Confirm{Subject: fmt.Sprint(l.id), Say: "the machine has no command for digests, so " + words.Bytes(float64(bytes)) + " come over the line to compare: press " + m.s.Press("check") + " again", Do: do})
}

func (m *Model) checked(msg checked) tea.Cmd {
	if m.look == nil || m.look.id != msg.id {
		return nil
	}
	if msg.err != nil {
		m.s.Tell(msg.err.Error())
		return nil
	}
	differ := 0
	for _, l := range msg.alike {
		if l.Differs {
			differ++
		}
	}
	m.look.tree.Settle(msg.alike)
	m.lay()
	m.s.Tell(words.Count(len(msg.alike), "file") + " compared by content, " + words.Count(differ, "file") + " of them " + words.Choose(differ, "differs", "differ"))
	return nil
}
