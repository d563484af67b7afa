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

	"meatus/core/board"
	"meatus/core/book"
	"meatus/core/custody"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/event"
	"meatus/core/meter"
	"meatus/core/remote"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/core/shell"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/work"
	"meatus/core/workspace"
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

// Services are what a place may use. Functions act at once; what they return is to be
// handed back from Update.
type Services struct {
	Theme *theme.Theme // it changes with the ground

	Workspace func() *workspace.Workspace
	Board     *board.Board
	Keys      *custody.Custody
	Walker    *walk.Walker
	Programs  *remote.Programs
	Tunnels   *tunnel.Set
	Trail     *trail.Trail // nil where it cannot be kept, and NoTrail says why
	NoTrail   error
	Keeper    *meter.Keeper
	Others    *tunnel.Others
	Jobs      *work.List
	Tools     work.Tools
	Shells    func() []*shell.Shell
	ShareRing func(on bool) (*ring.Socket, error)
	Shared    func() *ring.Socket

	// Run does something that takes time; its result comes back to whoever asked,
	// whether or not it shows by then; where the layer was closed, what a
	// [stack.Held] holds is freed. After brings a message after a time; the timer ends when the layer is closed, and
	// a message that is waited for already is not waited for twice.
	Run   func(do func() tea.Msg) tea.Cmd
	After func(d time.Duration, msg tea.Msg) tea.Cmd
	// Exec gives the terminal to a program until it ends; what done makes of its end comes
	// back as a result.
	Exec func(c *exec.Cmd, done func(error) tea.Msg) tea.Cmd

	Tell        func(say string)                              // says something at the foot
	Confirm     func(Confirm) tea.Cmd                         // does something when it is asked for a second time; else says what it would do
	Notice      func(say string)                              // says something wherever the person is
	Copy        func(text string) tea.Cmd                     // puts a text on the clipboard
	Go          func(key, at string) tea.Cmd                  // goes to a place, at a session or host where at is not ""
	Open        func(r route.Route, wait bool) tea.Cmd        // walks a route and opens a shell at its end
	Stop        func(session string)                          // stops that walk
	Visit       func(session string)                          // shows a live shell of a session
	Begin       func(job work.Job) tea.Cmd                    // begins a job and shows it
	Draw        func(Drawing) tea.Cmd                         // asks what is to be left out, and draws
	Task        func(new func(*Services) stack.Layer) tea.Cmd // shows a task in place of the card
	Close       func()                                        // puts the task away that calls it
	Demo        func() tea.Cmd                                // ends the program for the demo, nil where there is none
	Grants      func() []estate.Grant                         // rules that stand for a time
	ReadEstates func()                                        // has all estates read now
	Joined      func(instance string) []engine.Joined         // as what it has joined gateways, as they told last; it looks at memory alone
	// ListGateways asks all gateways what has joined, and GatewayRecord one for its record. Call them in what is run.
	ListGateways  func() error
	GatewayRecord func(gateway string, f trail.Filter) ([]trail.Entry, error)
	// AttendIssuer holds a way to an issuer of leases from then on, and IssuerRecord asks one for its record. Call them in
	// what is run.
	AttendIssuer func(issuer string) error
	IssuerRecord func(issuer string, f trail.Filter) ([]trail.Entry, error)
	Reread       func()                     // reads the sessions anew: call it in what is run
	Title        string                     // what the workspace is called
	Press        func(verb string) string   // what is pressed for a verb of prefs.Letters
	Find         func(words string) tea.Cmd // opens the finder with some words in it

	// Adopt has everybody use the sessions as they are after an edit, and Record writes
	// an entry to the trail. Both may write to disk: call them in what is run.
	Adopt  func(b *book.Book, session, say string)
	Record func(trail.Entry)
}

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
