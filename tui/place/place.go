// Package place is what a place of the interface is: a table of actions, a view of what
// the core publishes, and the services it may use.
//
// A place is a folder beside this one and one line in the list of places (tui/list.go).
// The frame draws its foot, its help and the finder's rows from its table, dispatches
// keys by it, and brings it the results of what it began, whether or not it shows. A
// place does no input or output itself: what takes time is run through [Services].
package place

import (
	"os/exec"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/route"
	"meatus/core/work"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Selector is a place that can be shown at a session or a host.
type Selector interface{ Select(name string) }

// Entry is one place in the list of places.
type Entry struct {
	Key  string // what goes there, in the switcher
	Mark string
	Name string
	Does string
	Also string // other words that people look for it by
	New  func(*Services) stack.Layer
}

// Addressed is a result on its way to the place or task that began what it is of.
type Addressed struct {
	To  int
	Msg tea.Msg
}

// Heard is an event of the core, as every place is told it.
type Heard struct{ event.Event }

// CameBack says, to every place, that somebody pressed a key after nobody had for long.
type CameBack struct{ Since time.Time }

// Drawing is a drawing that is wanted. Make is told whether to leave private parts out.
type Drawing struct {
	Kind, Of string // "map", "the map of 14 sessions"
	Private  string // what is left out then
	Make     func(private bool) work.Draw
}

// Services are what a place or a task works with: the engine, and the frame that it is shown in.
type Services struct {
	*engine.Engine
	Frame
	Theme *theme.Theme // it changes with the ground
}

// Frame is what the interface does for one layer. Its methods are called in Update and act at once; a command that one returns
// is to be handed back from there.
type Frame interface {
	// Run does something that takes time; its result comes back to whoever asked,
	// whether or not it shows by then; where the layer was closed, what a
	// [stack.Held] holds is freed.
	Run(do func() tea.Msg) tea.Cmd
	// After brings a message after a time; the timer ends when the layer is closed, and
	// a message that is waited for already is not waited for twice.
	After(d time.Duration, msg tea.Msg) tea.Cmd
	// Exec gives the terminal to a program until it ends; what done makes of its end comes
	// back as a result.
	Exec(c *exec.Cmd, done func(error) tea.Msg) tea.Cmd

	Tell(say string)                              // says something at the foot
	Confirm(c Confirm) tea.Cmd                    // does something when it is asked for a second time; else says what it would do
	Copy(text string) tea.Cmd                     // puts a text on the clipboard
	Go(key, at string) tea.Cmd                    // goes to a place, at a session or host where at is not ""
	Open(r route.Route, wait bool) tea.Cmd        // walks a route and opens a shell at its end
	Stop(session string)                          // stops that walk
	Visit(session string)                         // shows a live shell of a session
	Begin(job work.Job) tea.Cmd                   // begins a job and shows it
	Draw(d Drawing) tea.Cmd                       // asks what is to be left out, and draws
	Task(new func(*Services) stack.Layer) tea.Cmd // shows a task in place of the card
	Close()                                       // puts the task away that calls it
	Demo() (show func() tea.Cmd)                  // ends the program for the demo, nil where there is none
	Title() string                                // what the workspace is called
	Press(verb string) string                     // what is pressed for a verb of prefs.Letters
	Find(words string) tea.Cmd                    // opens the finder with some words in it
}

// Tell says something at the foot.
func (s *Services) Tell(say string) { s.Frame.Tell(say) }

// Close puts the task away that calls it.
func (s *Services) Close() { s.Frame.Close() }

// Notice says something wherever the person is. It may be called in what is run.
func (s *Services) Notice(say string) { s.Engine.Tell(say) }

// Reread reads the sessions anew. Call it in what is run.
func (s *Services) Reread() { s.Engine.Reread(true) }

// Confirm is something that cuts, removes or opens: it is done when its key is pressed twice. The first time says what it
// would do. Another key in between, or another subject by then, takes it back.
type Confirm struct {
	Subject string           // the identity of what it is about
	Say     string           // what it would do, with the name of the subject and the key
	Tell    func(say string) // says it in place of the foot of the window, nil for there
	Do      func() tea.Cmd
}

// Confirming notes what was asked for last.
type Confirming struct{ asked, now string }

// Pressed is called before each key.
func (c *Confirming) Pressed() { c.asked, c.now = c.now, "" }

// Ask does what is confirmed, or else says what it would do: by w.Tell, or by foot where that is nil.
func (c *Confirming) Ask(w Confirm, foot func(say string)) tea.Cmd {
	id := w.Subject + "\x00" + w.Say
	if c.asked == id {
		return w.Do()
	}
	if c.now = id; w.Tell != nil {
		foot = w.Tell
	}
	foot(w.Say)
	return nil
}

// Plan makes a session's route; ok is false where it has none.
func (s *Services) Plan(session string) (r route.Route, ok bool) {
	if session == "" {
		return r, false
	}
	r, err := s.Workspace().Planner().Plan(session)
	return r, err == nil
}
