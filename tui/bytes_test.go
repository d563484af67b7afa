package tui

import (
	"io"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/workspace"
	"meatus/lab/await"
	"meatus/lab/labtest"
	"meatus/lab/traffic"
)

// counter counts what is written to a terminal.
type counter struct{ n, last atomic.Int64 }

// since tells whether nothing was written for a time.
func (c *counter) since(d time.Duration) bool {
	return time.Since(time.Unix(0, c.last.Load())) > d
}

func (c *counter) Write(p []byte) (int, error) {
	c.last.Store(time.Now().UnixNano())
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
			// What the first frames cost is not counted: it is begun when nothing more comes of them.
			quiet := func(what string) {
				await.Until(b, what, func() bool { return out.n.Load() > 0 && out.since(time.Second) })
			}
			quiet("the first frames")
			if c.key != "" {
				before := out.n.Load()
				typed.Write([]byte(c.key))
				await.Until(b, "the place to be drawn", func() bool { return out.n.Load() > before })
			}
			for b.Loop() {
				// A rate is bytes in a span of real time, so the span is waited for, and measured.
				before, start := out.n.Load(), time.Now()
				<-time.After(c.over)
				b.ReportMetric(float64(out.n.Load()-before)*float64(c.per)/float64(time.Since(start)), c.unit)
			}
			p.Kill()
		})
	}
}
