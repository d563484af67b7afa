// Package await waits in tests for what is meant to happen, with no guess of how long
// that takes.
package await

import (
	"testing"
	"time"
)

// Patience is how long anything that a test waits for may take. It is long, since it is
// only ever reached by what will never happen.
const Patience = time.Minute

// The time between two looks grows from the first to the last, so that what happens at
// once is seen at once, and looking keeps nobody from working.
const (
	firstLook = 2 * time.Millisecond
	lastLook  = 40 * time.Millisecond
)

// Until waits until done tells that what a test waits for has happened, and fails the
// test with what where that does not.
func Until(t testing.TB, what string, done func() bool) {
	t.Helper()
	if !Within(Patience, done) {
		t.Fatalf("waited in vain for %s", what)
	}
}

// Within is Until for a test that goes on where nothing happens in time, or that says
// more about what it saw instead.
func Within(patience time.Duration, done func() bool) bool {
	gaveUp := time.Now().Add(patience)
	for look := firstLook; !done(); look = min(2*look, lastLook) {
		if !time.Now().Before(gaveUp) {
			return false
		}
		time.Sleep(look)
	}
	return true
}
