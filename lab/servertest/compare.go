package servertest

import (
	"math"
	"slices"
	"testing"
	"time"
)

// How many rounds a comparison takes at least and at most, and how well its ratio is to
// be known: the standard error of the median, as a share of it.
const (
	minRounds = 11
	maxRounds = 101
	wanted    = 0.01
	maxTime   = time.Minute // behind a slow line fewer rounds have to do
)

// Compare measures what comes through bare channels of the library against what comes
// through ours, and reports the median of the ratios of the pairs with its error.
//
// The two alternate in short rounds, each before the other as often as behind it, so that
// a machine whose speed drifts slows both; it goes on until the ratio is known to a
// hundredth, or gives up and says how far it got. Each function moves size bytes and
// returns how long that took. It is to be run once (-benchtime 1x).
func Compare(b *testing.B, size int, bare, ours func() time.Duration) {
	b.Helper()
	bare() // what is made for the first time is not measured
	ours()
	for range b.N {
		var ratios, bares, alls []float64
		off := math.Inf(1)
		gaveUp := time.Now().Add(maxTime)
		for len(ratios) < minRounds || off > wanted && len(ratios) < maxRounds && time.Now().Before(gaveUp) {
			var with, without time.Duration
			if len(ratios)%2 == 0 {
				without, with = bare(), ours()
			} else {
				with, without = ours(), bare()
			}
			ratios = append(ratios, without.Seconds()/with.Seconds())
			bares = append(bares, float64(size)/1e6/without.Seconds())
			alls = append(alls, float64(size)/1e6/with.Seconds())
			off = errorOf(ratios)
		}
		b.ReportMetric(quantile(bares, 0.5), "bare-MB/s")
		b.ReportMetric(quantile(alls, 0.5), "ours-MB/s")
		b.ReportMetric(quantile(ratios, 0.5), "ratio")
		b.ReportMetric(off, "±")
		b.ReportMetric(float64(len(ratios)), "rounds")
	}
	b.ReportMetric(0, "ns/op")
}

// errorOf is the standard error of the median of values, as a share of it. It is taken
// from the quartiles, which single outliers do not move.
func errorOf(values []float64) float64 {
	const quartiles, ofMedian = 1.349, 1.2533 // of a normal distribution
	spread := (quantile(values, 0.75) - quantile(values, 0.25)) / quartiles
	return ofMedian * spread / math.Sqrt(float64(len(values))) / quantile(values, 0.5)
}

// quantile is the value that a share of all values lies below.
func quantile(values []float64, share float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	at := share * float64(len(sorted)-1)
	low := int(at)
	if low+1 == len(sorted) {
		return sorted[low]
	}
	return sorted[low] + (at-float64(low))*(sorted[low+1]-sorted[low])
}
