// Package stack decides who gets the input: the layer that is topmost. Places, tasks, shells, questions, the switcher, the
// finder, the help and the dialogs are layers.
package stack

import (
	tea "charm.land/bubbletea/v2"

	"meatus/tui/action"
)

// Layer is something that shows, and has the keys, the mouse and what is pasted while it is topmost. [Base] has a method for
// all but what is always of its own: Table, Update and View. Its methods are for the interface's goroutine.
type Layer interface {
	// Show is called when the layer comes into the stack, and again when a place is gone to that is there already.
	Show() tea.Cmd
	// Close frees what the layer holds: connections, polling, private copies, typed secrets. It is called when the layer
	// leaves the stack. A place is kept, and may be shown again afterwards.
	Close()
	// Table is what can be done here and now.
	Table() action.Table
	// Typing reports whether keys go into a text, so that no letter is an action of the program as a whole.
	Typing() bool
	// Update takes a message: a result of something the layer began, an event of the core, and, while the layer is topmost,
	// keys that are no action, pasted text and the mouse.
	Update(msg tea.Msg) tea.Cmd
	// SetSize changes the room for View, in columns and rows.
	SetSize(columns, rows int)
	// View draws the layer.
	View() []string
	// Shape is where the layer stands in the window.
	Shape() Shape
	// Subject names what the actions are about, "" for nothing.
	Subject() string
	// Note is what the layer says at the foot of the window, "" for nothing.
	Note() string
}

// Shape is where a layer stands in the window.
type Shape uint8

// The shapes.
const (
	Card   Shape = iota // in place of the gate card of Routes
	Below               // like Card, but always below the board, over the whole width
	Wide                // in place of the board and the card of Routes
	Place               // everything above the foot; it is kept when it leaves the stack
	Page                // everything above the foot
	Window              // the whole window
	Drawer              // over the upper part of what shows beneath
	Dialog              // over the lower part of what shows beneath, or at its foot alone
)

// Base has the methods of a [Layer] that most have in common. It is a [Card].
type Base struct{ Columns, Rows int }

// Show does nothing.
func (*Base) Show() tea.Cmd { return nil }

// Close does nothing.
func (*Base) Close() {}

// Typing reports that nothing is typed.
func (*Base) Typing() bool { return false }

// SetSize changes the room for View.
func (b *Base) SetSize(columns, rows int) { b.Columns, b.Rows = columns, rows }

// Shape is a card.
func (*Base) Shape() Shape { return Card }

// Subject names nothing.
func (*Base) Subject() string { return "" }

// Note says nothing.
func (*Base) Note() string { return "" }

// OnRoutes reports whether a layer stands in place of a part of Routes.
func (s Shape) OnRoutes() bool { return s <= Wide }

// CardRows is how many of the rows of a place a card below the board takes.
func CardRows(rows int) int { return min(max((rows+2)*42/100, 12), 18) }

// Whole has the methods of a place in common with [Base].
type Whole struct{ Base }

// Shape is a place.
func (*Whole) Shape() Shape { return Place }

// Held is a result that holds something, such as a connection or a private copy. Free releases it where the layer that began
// it was closed meanwhile.
type Held interface{ Free() }
