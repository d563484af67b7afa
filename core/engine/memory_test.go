package engine

import (
	"runtime"
	"testing"
)

func TestMemoryIsGivenBackWhereItIsMuch(t *testing.T) {
	var e Engine
	forced := func() uint32 {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.NumForcedGC
	}
	runtime.KeepAlive(make([]byte, 2*worthGivingBack))
	before := forced()
	e.GiveBack()
	if now := forced(); now != before+1 {
		t.Errorf("%d collections, not %d", now, before+1)
	}
	e.GiveBack()
	if now := forced(); now != before+1 {
		t.Errorf("memory is given back again, and little was made: %d collections", now)
	}
}
