package walk_test

import (
	"context"
	"io"
	"sync"
	"testing"
	"time"

	"meatus/core/walk"
	"meatus/lab/await"
)

// TestAPassageClosedWhileItIsRenewedLeavesNoLink closes passages while they find that the
// link they share has died, and walk anew. A link that somebody forgot to give up would
// stay for ever.
func TestAPassageClosedWhileItIsRenewedLeavesNoLink(t *testing.T) {
	b := openBay(t, func(c *walk.Config) { c.Linger = time.Millisecond })
	keep, err := b.Walk(t.Context(), b.route("quay"))
	if err != nil {
		t.Fatal(err)
	}
	for range 20 {
		passages := make([]*walk.Passage, 4)
		for i := range passages {
			if passages[i], err = b.Walk(t.Context(), b.route("gauge-1")); err != nil {
				t.Fatal(err)
			}
		}
		b.Host("gauge-1").Cut()
		var all sync.WaitGroup
		for _, p := range passages {
			all.Go(func() {
				if g, err := b.programs.Start(context.Background(), p, "hostname", nil); err == nil {
					go io.Copy(io.Discard, g.Err)
					io.Copy(io.Discard, g.Out)
					g.Wait()
				}
			})
			all.Go(p.Close)
		}
		all.Wait()
		for _, p := range passages {
			p.Close()
		}
	}
	keep.Close()
	await.Until(t, "every link to be given up", func() bool { return len(b.Links()) == 0 })
}
