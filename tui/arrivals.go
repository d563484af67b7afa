package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/place"
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

// firstArrival is the first arrival that can be gone to yet, nil where there is none.
func (a *App) firstArrival() *arrival {
	for i := range a.arrivals {
		if a.arrivals[i].still() {
			return &a.arrivals[i]
		}
	}
	return nil
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

// goToArrival goes to what came first, and forgets what cannot be gone to any more.
func (a *App) goToArrival() tea.Cmd {
	a.arrivals = slices.DeleteFunc(a.arrivals, func(n arrival) bool { return !n.still() })
	if len(a.arrivals) == 0 {
		return nil
	}
	first := a.arrivals[0]
	a.arrivals = a.arrivals[1:]
	return first.show()
}

// acting is what the interface handles now.
type acting struct {
	hand bool // what a person pressed, pasted or clicked
	id   int  // or else a result for the layer with this address
	on   bool // which was topmost when it came
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
	a.acting = acting{id: msg.To, on: a.stack.Owner(msg.To) == a.stack.Top()}
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
