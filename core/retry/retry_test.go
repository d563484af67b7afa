package retry

import (
	"testing"
	"time"
)

// within tells whether a pause is another one, but for what is left to chance.
func within(got, want time.Duration) bool {
	return float64(got) >= float64(want)*(1-Spread)-1 && float64(got) <= float64(want)*(1+Spread)+1
}

func TestPausesDoubleUpToTheLongest(t *testing.T) {
	pauses := Pauses(time.Second, 30*time.Second)
	wants := []time.Duration{1, 2, 4, 8, 16, 30, 30}
	for round := range 2 {
		for i, want := range wants {
			if got := pauses.NextBackOff(); !within(got, want*time.Second) {
				t.Errorf("round %d, pause %d is %v, not about %ds", round, i, got, want)
			}
			if got := After(i+1, time.Second, 30*time.Second); !within(got, want*time.Second) {
				t.Errorf("after %d tries it is %v, not about %ds", i+1, got, want)
			}
		}
		pauses.Reset()
	}
	if got := After(1<<40, time.Second, time.Minute); !within(got, time.Minute) {
		t.Errorf("after very many tries it is %v", got)
	}
}

func TestManyDoNotComeBackTogether(t *testing.T) {
	seen := map[time.Duration]bool{}
	for range 100 {
		seen[After(3, time.Second, time.Minute)] = true
	}
	if len(seen) < 90 {
		t.Errorf("100 who wait have %d pauses", len(seen))
	}
}
