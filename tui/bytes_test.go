package tui

import (
	"io"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/workspace"
	"meatus/lab/labtest"
	"meatus/lab/traffic"
)

// counter counts what is written to a terminal.
type counter struct{ n atomic.Int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return len(p), nil
}

// BenchmarkBytes tells how many bytes the program sends to a terminal of 160 by 47: Routes with
// nothing going on, and Watch beside the demo's traffic. Each looks for a while: -benchtime 1x.
func BenchmarkBytes(b *testing.B) {
	for _, c := range []struct {
		name, key string
		busy      bool
		over      time.Duration
		unit      string
		per       time.Duration
	}{
		{"quiet", "", false, 20 * time.Second, "B/min", time.Minute},
		{"watch", "W", true, 10 * time.Second, "B/s", time.Second},
	} {
		b.Run(c.name, func(b *testing.B) {
			l := labtest.Open(b)
			ws, err := workspace.Open(l.Dir)
			if err != nil {
				b.Fatal(err)
			}
			if c.busy {
				stop, err := traffic.Start(ws, l.Dialer())
				if err != nil {
					b.Fatal(err)
				}
				defer stop()
			}
			a, err := New(ws, Options{Name: "Lantern Bay", Dialer: l.Dialer()})
			if err != nil {
				b.Fatal(err)
			}
			defer a.Close()
			var out counter
			in, typed := io.Pipe()
			defer typed.Close()
			p := tea.NewProgram(a, tea.WithInput(in), tea.WithOutput(&out), tea.WithWindowSize(160, 47), tea.WithContext(b.Context()))
			go p.Run()
			time.Sleep(3 * time.Second)
			typed.Write([]byte(c.key))
			time.Sleep(3 * time.Second) // what the first frames cost is not counted
			for b.Loop() {
				before := out.n.Load()
				time.Sleep(c.over)
				b.ReportMetric(float64(out.n.Load()-before)*float64(c.per)/float64(c.over), c.unit)
			}
			p.Kill()
		})
	}
}
