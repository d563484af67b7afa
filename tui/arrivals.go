package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/place"
	"meatus/tui/stack"
)

// arrival is something that has come by itself while the person was busy: it waits until they go to it, by the same key as
// to a question.
type arrival struct {
	say   string         // what has come, and is told once
	waits bool           // something stands still until then: it is told until it is gone to
	still func() bool    // whether it can be gone to yet
	show  func() tea.Cmd // goes to it
}

// wait has something wait until the person goes to it.
func (a *App) wait(n arrival) {
	a.arrivals = append(a.arrivals, n)
	if !n.waits {
		a.say(n.say + ": " + a.options.Leader + " a")
	}
}

// arrived is the first arrival that can be gone to yet, nil where there is none.
func (a *App) firstArrival() *arrival {
	a.arrivals = slices.DeleteFunc(a.arrivals, func(n arrival) bool { return !n.still() })
	if len(a.arrivals) == 0 {
		return nil
	}
	return &a.arrivals[0]
}

// waits names what the person can go to: the question that waits, or else what has come by itself; "" for nothing.
func (a *App) waits() string {
	if who := a.ask.Who(); who != "" {
		return who
	}
	if n := a.firstArrival(); n != nil {
		return n.say
	}
	return ""
}

// goToArrival goes to what came first.
func (a *App) goToArrival() tea.Cmd {
	n := a.firstArrival()
	if n == nil {
		return nil
	}
	a.arrivals = a.arrivals[1:]
	return n.show()
}

// acting is what the interface handles now.
type acting struct {
	hand bool        // what a person pressed, pasted or clicked
	id   int         // or else a result for the layer with this address
	on   bool        // which was topmost when it came
	top  stack.Layer // the layer that was topmost
}

// byHand does something for a person's input.
func (a *App) byHand(do func() tea.Cmd) tea.Cmd {
	was := a.acting
	a.acting = acting{hand: true}
	defer func() { a.acting = was }()
	return do()
}

// deliver gives a result to whoever began it.
func (a *App) deliver(msg place.Addressed) tea.Cmd {
	was := a.acting
	top := a.stack.Top()
	a.acting = acting{id: msg.To, on: a.stack.Owner(msg.To) == top, top: top}
	defer func() { a.acting = was }()
	return a.stack.Deliver(msg.To, msg.Msg)
}

// mayShow reports whether the layer with an address may have a task shown now: a person's input, or its own result while
// it is topmost, asks for it, or nothing is under way.
func (a *App) mayShow(id int) bool {
	return a.acting.hand || a.acting.id == id && a.acting.on || a.stack.IdleForCard()
}

// mayTakeTerminal is [App.mayShow] for a program that takes the whole terminal: nothing may be typed in the layer either.
func (a *App) mayTakeTerminal(id int) bool {
	top := a.stack.Top()
	return a.acting.hand || a.acting.id == id && a.stack.Owner(id) == top && !top.Typing() && !a.ask.Waiting()
}
