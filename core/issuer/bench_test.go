package issuer_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/issuer"
	"meatus/core/lease"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/await"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

// askers is how many ask at once, each over a connection of its own.
const askers = 16

// granting has many ask at once for so long, at issuers in turn, and reports leases a second.
func granting(b *testing.B, at ...*place) {
	b.Helper()
	clients := make([]*client, askers)
	for i := range clients {
		clients[i] = at[i%len(at)].as("mira")
		if _, err := clients[i].raw(want(b, "keeper", "reef")); err != nil {
			b.Fatal(err)
		}
	}
	var n int
	for b.Loop() {
		const long = 5 * time.Second
		end := time.Now().Add(long)
		var wg sync.WaitGroup
		counts := make([]int, askers)
		for i, c := range clients {
			wg.Go(func() {
				for time.Now().Before(end) {
					if st, err := c.raw(want(b, "keeper", "reef")); err != nil || st.Serial == 0 {
						b.Errorf("%+v %v", st, err)
						return
					}
					counts[i]++
				}
			})
		}
		wg.Wait()
		n = 0
		for _, c := range counts {
			n += c
		}
		b.ReportMetric(float64(n)/long.Seconds(), "leases/s")
	}
}

func BenchmarkGrantSQLite(b *testing.B) { granting(b, open(b, "", nil)) }

func BenchmarkGrantPostgres(b *testing.B) { granting(b, open(b, servertest.Postgres(b).URL, nil)) }

func BenchmarkGrantTwoIssuers(b *testing.B) {
	first := open(b, servertest.Postgres(b).URL, nil)
	granting(b, first, beside(b, first))
}

// beside is another issuer of the same database, that knows the same persons.
func beside(b *testing.B, first *place) *place {
	b.Helper()
	second := open(b, first.db, nil)
	text, err := os.ReadFile(first.policy)
	if err != nil {
		b.Fatal(err)
	}
	second.people = first.people
	second.write(string(text))
	await.Until(b, "the other policy", func() bool { return second.knows("mira") })
	return second
}

func (p *place) knows(who string) bool {
	_, err := lease.Told(p.t.Context(), p.as(who).Client, p.as(who).at, lease.Introduce{})
	return err == nil
}

// BenchmarkWalk walks to the distribution's server by a lease and by a key, in turn, with the way to the issuer up.
func BenchmarkWalk(b *testing.B) {
	p := open(b, "", nil)
	keys := &issuer.Keys{Dir: p.dir}
	signers, _, err := keys.Get()
	if err != nil {
		b.Fatal(err)
	}
	file := filepath.Join(b.TempDir(), "signers")
	if err := os.WriteFile(file, ssh.MarshalAuthorizedKey(signers[0].PublicKey()), 0o644); err != nil {
		b.Fatal(err)
	}
	s := servertest.StartWith(b, "TrustedUserCAKeys "+file+"\nAuthorizedPrincipalsCommand /bin/echo %u@reef\nAuthorizedPrincipalsCommandUser nobody\n")
	byKey := s.Way(1)
	login := byKey.Hops[0].User
	text, err := os.ReadFile(p.policy)
	if err != nil {
		b.Fatal(err)
	}
	p.write(strings.Replace(string(text), "as keeper for 30s", "as keeper "+login+" for 30s", 1))
	mira := p.as("mira")
	await.Until(b, "the other policy", func() bool {
		_, err := mira.get(b.Context(), login, "reef", "", nil)
		return err == nil
	})
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.TempDir(), "v")), Asker: labtest.Yes{}, Linger: time.Millisecond, Leases: mira.Client})
	b.Cleanup(w.Close)
	byLease := byKey.AtEnd(func(h *route.Hop) {
		h.Keys, h.Lease = nil, &route.Lease{Issuer: "bay", Machine: "reef", Way: mira.at.Hops[0]}
	})
	took := map[bool][]float64{}
	for b.Loop() {
		for range 40 {
			for leased, way := range map[bool]route.Route{false: byKey, true: byLease} {
				began := time.Now()
				passage, err := w.Walk(context.Background(), way)
				if err != nil {
					b.Fatal(err)
				}
				took[leased] = append(took[leased], float64(time.Since(began).Microseconds())/1000)
				passage.Close()
			}
		}
	}
	median := func(v []float64) float64 { slices.Sort(v); return v[len(v)/2] }
	b.ReportMetric(median(took[false]), "key-ms")
	b.ReportMetric(median(took[true]), "lease-ms")
}
