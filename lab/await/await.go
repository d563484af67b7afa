// Package await waits in tests for what is meant to happen, with no guess of how long
// that takes.
package await

import (
	"testing"
	"time"
)

// patience is how long anything that a test waits for may take. It is long, since it is
// only ever reached by what will never happen.
const patience = time.Minute

// Until waits until done tells that what a test waits for has happened, and fails the
// test with what where that does not.
func Until(t testing.TB, what string, done func() bool) {
	t.Helper()
	gaveUp := time.NewTimer(patience)
	defer gaveUp.Stop()
	look := time.NewTicker(5 * time.Millisecond)
	defer look.Stop()
	for !done() {
		select {
		case <-look.C:
		case <-gaveUp.C:
			t.Fatalf("waited in vain for %s", what)
		}
	}
}
