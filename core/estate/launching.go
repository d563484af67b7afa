package estate

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"meatus/core/statefile"
	"meatus/core/words"
)

// Launching is a launch under way. It is written down before anything is asked for, and taken away at its
// end: what is left of it tells of a launch that was cut short.
type Launching struct {
	Mark   string    `json:"mark"` // in the tag of its instances
	Source string    `json:"source"`
	Launch Launch    `json:"launch"`
	Began  time.Time `json:"began"`
	Made   []string  `json:"made"` // ids

	file string
	lock *flock.Flock // held by the program that launches
}

func launchings(dir string) string { return filepath.Join(dir, "state", "estate", "launching") }

// BeginLaunch writes down that a launch begins.
func BeginLaunch(dir, source string, l Launch, now time.Time) (*Launching, error) {
	mark := make([]byte, 6)
	_, _ = rand.Read(mark) // it never fails
	g := &Launching{Mark: hex.EncodeToString(mark), Source: source, Launch: l, Began: now}
	g.file = filepath.Join(launchings(dir), source+"-"+g.Mark+".json")
	if err := os.MkdirAll(launchings(dir), 0o700); err != nil {
		return nil, err
	}
	g.lock = flock.New(g.file + ".lock")
	if held, err := g.lock.TryLock(); err != nil || !held {
		return nil, fmt.Errorf("writing down the launch in %s: %v", launchings(dir), err)
	}
	if err := g.write(); err != nil {
		g.End()
		return nil, err
	}
	return g, nil
}

// Add writes down that an instance was asked for.
func (g *Launching) Add(id string) error {
	g.Made = append(g.Made, id)
	return g.write()
}

func (g *Launching) write() error {
	var file Launching
	if err := statefile.Change(g.file, &file, func() { file = *g }); err != nil {
		return fmt.Errorf("writing down the launch: %w", err)
	}
	return nil
}

// End takes what was written down away.
func (g *Launching) End() {
	_ = os.Remove(g.file) // what stays is told as a launch cut short
	if g.lock != nil {
		_ = g.lock.Close() // nobody waits for it
		_ = os.Remove(g.file + ".lock")
	}
}

// Abandon lets go of a launch as the end of the program does: it is told as one that was cut short.
func (g *Launching) Abandon() { _ = g.lock.Close() }

// CutShort are the launches of a source that no program goes on with. Each is told once it is ended.
func CutShort(dir, source string) []*Launching {
	files, _ := filepath.Glob(filepath.Join(launchings(dir), "*.json")) // the pattern is well formed
	var left []*Launching
	for _, file := range files {
		if !strings.HasPrefix(filepath.Base(file), source+"-") {
			continue
		}
		g := &Launching{file: file, lock: flock.New(file + ".lock")}
		if held, err := g.lock.TryLock(); err != nil || !held {
			continue // somebody goes on with it
		}
		if err := statefile.Read(file, g); err != nil || g.Source != source {
			_ = g.lock.Close()
			continue
		}
		left = append(left, g)
	}
	return left
}

// Told says what became of a launch that was cut short, by what is known now.
func (g *Launching) Told(s *Snapshot) string {
	var made []string
	for i := range s.Instances {
		if n := &s.Instances[i]; n.Tags[launchTag] == g.Mark || slices.Contains(g.Made, n.ID) {
			made = append(made, fmt.Sprintf("%s (%s)", n.called(), n.State))
		}
	}
	say := fmt.Sprintf("a launch of %s, begun %s, was cut short: ", words.Count(g.Launch.Count, "instance"), g.Began.Local().Format("2 Jan 15:04"))
	if len(made) == 0 {
		return say + "none of them is there"
	}
	say += strings.Join(made, ", ") + map[bool]string{true: " is there", false: " are there"}[len(made) == 1]
	if missing := g.Launch.Count - len(made); missing > 0 {
		say += fmt.Sprintf(", %d not", missing)
	}
	return say + "; end what is not wanted"
}
