package remote_test

import (
	"context"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"meatus/core/remote"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

// BenchmarkLentSignature has a program at the far side of one hop and of two have
// logins signed with a lent key, eleven in a row.
func BenchmarkLentSignature(b *testing.B) {
	farside := filepath.Join(b.TempDir(), "farside")
	if out, err := exec.Command("go", "build", "-o", farside, "meatus/e2e/farside").CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	s := servertest.Start(b)
	for hops := 1; hops <= 2; hops++ {
		b.Run(fmt.Sprintf("%d hops", hops), func(b *testing.B) {
			programs := remote.New(remote.Config{Asker: labtest.Yes{}})
			w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.TempDir(), "v")), Asker: labtest.Yes{}, Keys: programs.Custody, Serve: programs.Serve()})
			defer w.Close()
			r := s.Way(hops)
			last := &r.Hops[len(r.Hops)-1]
			last.Agent, last.Lends = "lend", last.Keys
			p, err := w.Walk(context.Background(), r)
			if err != nil {
				b.Fatal(err)
			}
			defer p.Close()
			var total int64
			for b.Loop() {
				g, err := programs.Start(context.Background(), p, farside+" time 11", nil)
				if err != nil {
					b.Fatal(err)
				}
				out, err := io.ReadAll(g.Out)
				if e := g.Wait(); err != nil || e.Status != 0 || e.Err != nil {
					b.Fatalf("%v, %+v", err, e)
				}
				took, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
				if err != nil {
					b.Fatalf("%q: %v", out, err)
				}
				total += took
			}
			b.ReportMetric(float64(total)/float64(b.N)/1000, "µs/signature")
		})
	}
}
