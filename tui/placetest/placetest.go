// Package placetest drives a place or a task in a test as the frame does: its table and
// keys, its commands and their results, the core's events. The core is a real engine,
// over a workspace of the test's or over the lab.
package placetest

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/route"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/labtest"
	"meatus/tui/action"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Driver drives one place or task. Its methods are for the test's goroutine.
type Driver struct {
	confirming place.Confirming
	testing.TB
	Engine   *engine.Engine
	Services *place.Services
	Columns  int
	Rows     int

	// What was asked of the frame.
	Said   []string // told at the foot, or noticed
	Copied []string
	Went   []string // places gone to, by their keys
	Opened []route.Route
	Begun  []work.Job
	Drawn  []place.Drawing
	Tasks  []stack.Layer // shown in place of the card
	Closed bool          // the task was put away

	on       stack.Layer
	shape    stack.Shape // when its size was set
	messages chan tea.Msg
	running  sync.WaitGroup // commands
	ctx      context.Context
}

// Lab returns a driver over the lab.
func Lab(t testing.TB) (*Driver, *lab.Lab) {
	t.Helper()
	l, ws := labtest.Workspace(t)
	ws.Downloads = l.Downloads()
	return open(t, engine.Options{Workspace: ws, Asker: labtest.Yes{}, Dialer: l.Dialer(), Name: "a test", Attended: true}), l
}

// Workspace returns a driver over a workspace with a text as its sessions.
func Workspace(t testing.TB, sessions string) *Driver {
	t.Helper()
	return In(t, t.TempDir(), sessions)
}

// In returns a driver over a workspace in a folder, with a text as its sessions.
func In(t testing.TB, dir, sessions string) *Driver {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(sessions), 0o600); err != nil {
		t.Fatal(err)
	}
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	ws.Downloads = filepath.Join(dir, "downloads")
	return open(t, engine.Options{Workspace: ws, Asker: labtest.Yes{}, Dialer: labtest.Nowhere{}, Name: "a test", Attended: true})
}

func open(t testing.TB, o engine.Options) *Driver {
	t.Helper()
	e, err := engine.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	d := &Driver{TB: t, Engine: e, Columns: 120, Rows: 39, messages: make(chan tea.Msg), ctx: ctx}
	t.Cleanup(func() { // what was begun still writes into the test's folder
		cancel()
		e.Close()
		d.running.Wait()
	})
	d.Services = d.services()
	inbox := e.Events.Subscribe()
	go func() {
		for events := inbox.Take(ctx); events != nil; events = inbox.Take(ctx) {
			for _, e := range events {
				d.send(place.Heard{Event: e})
			}
		}
	}()
	return d
}

func (d *Driver) services() *place.Services {
	return &place.Services{Engine: d.Engine, Frame: frame{d}, Theme: theme.New(true)}
}

// frame notes what is asked of the frame.
type frame struct{ d *Driver }

func (f frame) Run(do func() tea.Msg) tea.Cmd { return func() tea.Msg { return do() } }

func (f frame) After(after time.Duration, msg tea.Msg) tea.Cmd { return later{after, msg}.cmd }

func (f frame) Exec(c *exec.Cmd, done func(error) tea.Msg) tea.Cmd {
	return func() tea.Msg { return done(c.Run()) }
}

func (f frame) Tell(say string) { f.d.Said = append(f.d.Said, say) }

func (f frame) Confirm(c place.Confirm) tea.Cmd { return f.d.confirming.Ask(c, f.Tell) }

func (f frame) Copy(text string) tea.Cmd { f.d.Copied = append(f.d.Copied, text); return nil }

func (f frame) Go(key, _ string) tea.Cmd { f.d.Went = append(f.d.Went, key); return nil }

func (f frame) Open(r route.Route, _ bool) tea.Cmd { f.d.Opened = append(f.d.Opened, r); return nil }

func (frame) Stop(string) {}

func (frame) Visit(string) {}

func (f frame) Begin(job work.Job) tea.Cmd {
	f.d.Begun = append(f.d.Begun, job)
	f.d.Engine.Jobs.Begin(job)
	return nil
}

func (f frame) Draw(w place.Drawing) tea.Cmd { f.d.Drawn = append(f.d.Drawn, w); return nil }

func (f frame) Task(new func(*place.Services) stack.Layer) tea.Cmd {
	f.d.Tasks = append(f.d.Tasks, new(f.d.Services))
	return nil
}

func (f frame) Close() { f.d.Closed = true }

func (frame) Demo() func() tea.Cmd { return func() tea.Cmd { return tea.Quit } }

func (frame) Title() string { return "Lantern Bay" }

func (frame) Press(verb string) string { return new(action.Keymap).Press(verb) }

func (frame) Find(string) tea.Cmd { return nil }

// later is a message for a later time. A test does not wait for clocks: it sends what
// they would bring.
type later struct {
	after time.Duration
	msg   tea.Msg
}

func (l later) cmd() tea.Msg { return nil }

// Place drives a place that is shown.
func (d *Driver) Place(new func(*place.Services) stack.Layer) *Driver {
	p := new(d.Services)
	d.on = p
	d.SetSize(d.Columns, d.Rows)
	d.Do(p.Show())
	return d
}

// On is what is driven.
func (d *Driver) On() any { return d.on }

// Task drives a task that is shown.
func (d *Driver) Task(t stack.Layer) *Driver {
	d.on = t
	d.SetSize(d.Columns, d.Rows)
	d.Do(t.Show())
	return d
}

func (d *Driver) send(msg tea.Msg) {
	select {
	case d.messages <- msg:
	case <-d.ctx.Done():
	}
}

// Do runs a command as the frame does: beside everything else.
func (d *Driver) Do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	d.running.Go(func() {
		switch msg := cmd().(type) {
		case nil:
		case tea.BatchMsg:
			for _, each := range msg {
				d.Do(each)
			}
		default:
			d.send(msg)
		}
	})
}

// Give gives a message to what is driven.
func (d *Driver) Give(msg tea.Msg) {
	if heard, ok := msg.(place.Heard); ok {
		if n, ok := heard.Event.(engine.Notice); ok {
			d.Said = append(d.Said, n.Say)
		}
	}
	d.Do(d.on.Update(msg))
}

// Press presses keys, by the names that [tea.KeyPressMsg.String] gives them.
func (d *Driver) Press(keys ...string) {
	for _, k := range keys {
		msg := Key(k)
		d.confirming.Pressed()
		if cmd, done := d.on.Table().Do(msg); done {
			d.Do(cmd)
			continue
		}
		if why := d.on.Table().WhyNot(msg); why != "" && !d.on.Typing() {
			d.Said = append(d.Said, why)
			continue
		}
		d.Give(msg)
	}
}

// Type types a text, letter by letter.
func (d *Driver) Type(text string) {
	for _, r := range text {
		d.Press(string(r))
	}
}

// Paste pastes a text.
func (d *Driver) Paste(text string) { d.Give(tea.PasteMsg{Content: text}) }

var special = map[string]rune{
	"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight,
	"space": tea.KeySpace, "backspace": tea.KeyBackspace, "home": tea.KeyHome, "end": tea.KeyEnd, "pgdown": tea.KeyPgDown, "pgup": tea.KeyPgUp,
}

// Key is a key press by its name.
func Key(name string) tea.KeyPressMsg {
	if code, ok := special[name]; ok {
		msg := tea.KeyPressMsg{Code: code}
		if name == "space" {
			msg.Text = " "
		}
		return msg
	}
	if rest, ok := strings.CutPrefix(name, "ctrl+"); ok {
		return tea.KeyPressMsg{Code: []rune(rest)[0], Mod: tea.ModCtrl}
	}
	if rest, ok := strings.CutPrefix(name, "shift+"); ok {
		return tea.KeyPressMsg{Code: special[rest], Mod: tea.ModShift}
	}
	if rest, ok := strings.CutPrefix(name, "alt+"); ok {
		return tea.KeyPressMsg{Code: []rune(rest)[0], Mod: tea.ModAlt}
	}
	return tea.KeyPressMsg{Code: []rune(name)[0], Text: name}
}

// See is what is shown, as text.
func (d *Driver) See() string { return ansi.Strip(strings.Join(d.Lines(), "\n")) }

// Lines are the lines that are shown.
func (d *Driver) Lines() []string {
	if d.on == nil {
		return nil
	}
	if d.on.Shape() != d.shape {
		d.SetSize(d.Columns, d.Rows)
	}
	return strings.Split(theme.Glyphs(strings.Join(d.on.View(), "\n")), "\n")
}

// cardRows is how many rows a task has in a test.
const cardRows = 16

// SetSize changes the size of the window, in columns and rows.
func (d *Driver) SetSize(columns, rows int) {
	d.Columns, d.Rows, d.shape = columns, rows, d.on.Shape()
	if s := d.on.Shape(); s.OnRoutes() && s != stack.Wide {
		rows = cardRows
	}
	d.on.SetSize(columns, rows)
}

// patience is how long anything that a test waits for may take.
const patience = time.Minute

// Until takes results and events until something holds, and fails the test with what
// where it never does.
func (d *Driver) Until(what string, holds func() bool) {
	d.Helper()
	gaveUp, look := time.NewTimer(patience), time.NewTicker(20*time.Millisecond)
	defer gaveUp.Stop()
	defer look.Stop()
	for !holds() {
		select {
		case msg := <-d.messages:
			d.Give(msg)
		case <-look.C: // what is waited for may come without a message: a file, an entry
		case <-gaveUp.C:
			d.Fatalf("waited in vain for %s; it shows\n%s\nand said %q", what, d.See(), d.Said)
		}
	}
}

// UntilSees waits until all of some texts show.
func (d *Driver) UntilSees(texts ...string) {
	d.Helper()
	d.Until(strings.Join(texts, " and "), func() bool {
		see := d.See()
		for _, text := range texts {
			if !strings.Contains(see, text) {
				return false
			}
		}
		return true
	})
}

// UntilSaid waits until something that holds a text was said.
func (d *Driver) UntilSaid(text string) {
	d.Helper()
	d.Until("it to be said: "+text, func() bool {
		for _, say := range d.Said {
			if strings.Contains(say, text) {
				return true
			}
		}
		return d.on != nil && strings.Contains(d.on.Note(), text)
	})
}

// Fits fails the test where what is shown does not fit its window, in several sizes.
func (d *Driver) Fits() {
	d.Helper()
	for _, size := range [][2]int{{80, 23}, {81, 24}, {120, 39}, {200, 59}} {
		d.SetSize(size[0], size[1])
		lines := d.Lines()
		if len(lines) > size[1] {
			d.Errorf("%v: %T draws %d lines", size, d.on, len(lines))
		}
		for _, l := range lines {
			if w := ansi.StringWidth(l); w > size[0] {
				d.Errorf("%v: a line of %d columns: %q", size, w, ansi.Strip(l))
			}
		}
	}
}
