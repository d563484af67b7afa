package run

import "testing"

func TestSignalsHaveTheirNumbers(t *testing.T) {
	for name, want := range map[string]int{"TERM": 15, "KILL": 9, "HUP": 1, "no such": 0} {
		if got := signalNumber(name); got != want {
			t.Errorf("%s is %d, want %d", name, got, want)
		}
	}
}
