package cargo

import (
	"context"
	"path"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/tui/action"
	"meatus/tui/line"
)

// entry is the two folders being typed, one after the other.
type entry struct {
	line   *line.Line
	there  bool // the folder there, and not the one here
	here   string
	offers []string
}

// offered are the names of folders that what is typed may go on with.
type offered struct {
	typed string
	names []string
}

// folders asks for other folders.
func (m *Model) folders() tea.Cmd {
	m.entry = &entry{line: newLine(m.s, m.look.last.Here)}
	return m.offer()
}

func (m *Model) entryTable() action.Table {
	e := m.entry
	return action.Table{
		action.On("enter", "continue", m.entered),
		action.On("tab", "complete", m.complete).If(func() bool { return len(e.offers) > 0 }, "no completion"),
		action.On("esc ctrl+c", "cancel", func() tea.Cmd { m.entry = nil; return nil }),
	}
}

// entered takes a folder.
func (m *Model) entered() tea.Cmd {
	e := m.entry
	if !e.there {
		m.entry = &entry{there: true, here: e.line.Text(), line: newLine(m.s, m.look.last.There)}
		return m.offer()
	}
	m.entry = nil
	m.begin(m.look.session, cargo.Last{Here: e.here, There: e.line.Text()})
	return m.tick()
}

// complete puts the longest way in which what is typed can go on behind it.
func (m *Model) complete() tea.Cmd {
	e := m.entry
	common := e.offers[0]
	for _, o := range e.offers[1:] {
		for !strings.HasPrefix(o, common) {
			common = common[:len(common)-1]
		}
	}
	if len(common) > len(e.line.Text()) {
		e.line.Begin(common)
	}
	return m.offer()
}

// offer looks for folders that what is typed may go on with, on the side it is for.
func (m *Model) offer() tea.Cmd {
	e, l := m.entry, m.look
	typed := e.line.Text()
	if l.trees == nil && e.there {
		return nil
	}
	there, session, tools := e.there, l.session, m.s.Tools()
	return m.s.Run(func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		folder := typed[:strings.LastIndexByte(typed, '/')+1]
		at := cargo.Place{Path: folder}
		if there {
			at.Session = session
		} else if folder == "" {
			at.Path = "."
		}
		end, err := tools.Open(ctx, at)
		if err != nil {
			return offered{typed: typed}
		}
		defer end.Close()
		var names []string
		end.List(ctx, "", func(name string, e ends.Entry) error {
			if full := folder + name + "/"; e.Kind == ends.Folder && !ends.Unsafe(name) && strings.HasPrefix(full, typed) && (name[0] != '.' || strings.HasPrefix(path.Base(typed), ".")) {
				names = append(names, full)
			}
			return nil
		})
		slices.Sort(names)
		return offered{typed, names[:min(len(names), 200)]}
	})
}

// take takes what was found, where it is still what is typed.
func (e *entry) take(o offered) {
	if o.typed == e.line.Text() {
		e.offers = o.names
	}
}
