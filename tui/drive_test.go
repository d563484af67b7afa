package tui

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/workspace"
	"meatus/lab/labtest"
	"meatus/tui/placetest"
	"meatus/tui/stack"
)

// bay writes a workspace of n sessions behind a bastion.
func bay(t testing.TB, n int) string {
	t.Helper()
	dir := t.TempDir()
	f, err := os.OpenFile(filepath.Join(dir, book.FileName), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	fmt.Fprint(f, "[site.reef]\nvia = [\"quay\"]\nuser = \"keeper\"\n\n[session.quay]\nhost = \"203.0.113.10\"\nuser = \"warden\"\n")
	for i := range n {
		fmt.Fprint(f, "\n"+book.Draft{Name: fmt.Sprintf("gauge-%d", i), Site: "reef", Host: fmt.Sprintf("10.61.%d.%d", i/250, i%250+1)}.Text())
	}
	return dir
}

// driver drives the frame as the library does: commands run beside, their results are
// taken one after another.
type driver struct {
	*App
	testing.TB
	messages chan tea.Msg
	over     context.Context
}

// open opens the frame over a folder. What it began has been begun, and every session in
// view is judged.
func open(t testing.TB, dir string, width, height int) *driver {
	t.Helper()
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return openWith(t, ws, Options{Name: "Lantern Bay", Dialer: labtest.Nowhere{}}, width, height)
}

func openWith(t testing.TB, ws *workspace.Workspace, o Options, width, height int) *driver {
	t.Helper()
	a, err := New(ws, o)
	if err != nil {
		t.Fatal(err)
	}
	over, end := context.WithCancel(context.Background())
	t.Cleanup(func() { end(); a.Close() })
	d := &driver{App: a, TB: t, messages: make(chan tea.Msg), over: over}
	d.give(tea.WindowSizeMsg{Width: width, Height: height})
	d.do(a.listen())
	d.do(a.desk.Next(a.ctx))
	d.until("the board to be judged", func() bool {
		s, ok := a.engine.Board.State(a.home.Selected())
		return !ok || s.Judged
	})
	return d
}

func (d *driver) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		switch msg := cmd().(type) {
		case nil:
		case tea.BatchMsg:
			for _, each := range msg {
				d.do(each)
			}
		default:
			select {
			case d.messages <- msg:
			case <-d.over.Done():
			}
		}
	}()
}

func (d *driver) give(msg tea.Msg) {
	_, cmd := d.Update(msg)
	d.do(cmd)
}

func (d *driver) press(keys ...string) {
	for _, k := range keys {
		if k == "leader" {
			k = "alt+m"
		}
		d.give(placetest.Key(k))
	}
}

// until takes results until something holds.
func (d *driver) until(what string, holds func() bool) {
	d.Helper()
	gaveUp := time.NewTimer(time.Minute)
	defer gaveUp.Stop()
	for !holds() {
		select {
		case msg := <-d.messages:
			d.give(msg)
		case <-gaveUp.C:
			d.Fatalf("waited in vain for %s; it shows\n%s", what, d.see())
		}
	}
}

func (d *driver) see() string { return ansi.Strip(d.View().Content) }

// placeAt is the place of a key.
func (d *driver) placeAt(key string) stack.Layer {
	for i, e := range places {
		if e.Key == key {
			return d.places[i]
		}
	}
	d.Fatalf("no place has the key %s", key)
	return nil
}
