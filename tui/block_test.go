package tui

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/cargo"
	"meatus/tui/placetest"
)

// blocked has every file of a folder be a named pipe, that who opens waits at. The returned function lets them go on.
func blocked(t *testing.T, dir string) (release func()) {
	t.Helper()
	var pipes []string
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || strings.Contains(path, "journal") {
			return err
		}
		if err := os.Remove(path); err != nil {
			return err
		}
		pipes = append(pipes, path)
		return syscall.Mkfifo(path, 0o600)
	})
	if err != nil {
		t.Fatal(err)
	}
	return func() {
		for _, p := range pipes {
			if f, err := os.OpenFile(p, os.O_RDWR|syscall.O_NONBLOCK, 0); err == nil {
				os.Remove(p)
				defer f.Close()
			}
		}
	}
}

// Nothing that a key does, and no frame, waits for a file: on a disk that does not answer every place is gone to, all its
// keys are pressed, and drawn after.
func TestNoKeyWaitsForADisk(t *testing.T) {
	a := open(t, bay(t, 6), 120, 40)
	dir := a.engine.Workspace().Dir
	if err := cargo.Remember(dir, "gauge-1", cargo.Last{Here: dir, There: "/home/keeper"}); err != nil {
		t.Fatal(err)
	}
	for i, p := range places { // what is read at the first visit is read
		a.goToPlace(p.Key, "gauge-1")
		a.do(a.places[i].Show())
		a.see()
	}
	a.goTo(nil)
	release := blocked(t, dir)
	defer release()
	asked := make(chan string, 1)
	done := make(chan struct{})
	go func() {
		defer close(done)
		give := func(what string, msg tea.Msg) {
			asked <- what
			_, _ = a.Update(msg) // what it returns is run beside, and waits there
			a.View()
			<-asked
		}
		for i, p := range places {
			a.goToPlace(p.Key, "gauge-1")
			var keys []string
			for _, act := range a.places[i].Table() {
				keys = append(keys, act.Keys()...)
			}
			slices.Sort(keys)
			for _, k := range slices.Compact(keys) {
				if k == "" || k == "ctrl+c" || k == "q" {
					continue
				}
				give(p.Name+" "+k, placetest.Key(k))
				give(p.Name+" "+k+", and a paste", tea.PasteMsg{Content: filepath.Join(dir, "sessions.toml")})
				give(p.Name+" "+k+", and enter", placetest.Key("enter"))
				give(p.Name+" "+k+", and esc", placetest.Key("esc"))
				a.stack.CutAbove(a.home)
				a.goToPlace(p.Key, "gauge-1")
			}
		}
	}()
	select {
	case <-done:
	case <-time.After(time.Minute): // as long as anything that a test waits for
		t.Fatalf("%s waits for a file", <-asked)
	}
}
