package netchange

import (
	"testing"
	"time"
)

func TestSleepIsToldFromAClockThatWasSet(t *testing.T) {
	last := time.Now()
	monotonic := last.Add(time.Second) // a second later by both clocks
	if slept(last, monotonic) {
		t.Error("a second's wait is taken for sleep")
	}
	// A wall clock alone, as after a sleep: the monotonic one stood still.
	woken := last.Add(2 * time.Second).Round(0).Add(time.Hour)
	awake := last.Round(0)
	if slept(awake, woken) {
		t.Error("without a monotonic clock nothing is known")
	}
	if slept(last, last.Add(-time.Hour)) {
		t.Error("a clock set back is taken for sleep")
	}
	_, stop := Watch()
	stop()
}
