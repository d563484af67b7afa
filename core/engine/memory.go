package engine

import (
	"runtime/debug"
	"runtime/metrics"
)

// worthGivingBack is how much has to have been made since memory was last given back, in bytes.
const worthGivingBack = 8 << 20

// GiveBack gives memory to the system that was needed for a moment alone: while sessions were read and
// judged, or searched. It does nothing where little was made since the last time. It takes some 2 ms of
// one core for each megabyte in use, and holds nobody up for longer than a collection does.
func (e *Engine) GiveBack() {
	made := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	metrics.Read(made)
	now := made[0].Value.Uint64()
	if before := e.made.Load(); now-before < worthGivingBack || !e.made.CompareAndSwap(before, now) {
		return
	}
	debug.FreeOSMemory()
}
