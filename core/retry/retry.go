// Package retry gives the pauses between tries of what may go by itself: each twice as long as the one before, up to a
// longest, and varied at random by a fifth either way, so that many who wait do not come back together.
package retry

import (
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Spread is by how much of it a pause is longer or shorter at most.
const Spread = 0.2

// Pauses are those between tries, one after the other (NextBackOff); Reset begins with the first again.
func Pauses(first, longest time.Duration) *backoff.ExponentialBackOff {
	return &backoff.ExponentialBackOff{InitialInterval: first, MaxInterval: longest, Multiplier: 2, RandomizationFactor: Spread}
}

// After is the pause after so many tries, from 1.
func After(tries int, first, longest time.Duration) time.Duration {
	pauses := Pauses(first, longest)
	for range min(tries, many) - 1 {
		pauses.NextBackOff()
	}
	return pauses.NextBackOff()
}

// many is after how many tries every pause is the longest: a time has 63 bits.
const many = 64
