package secret

import "runtime"

// ScrubStack overwrites what functions that have returned left on the stack of this goroutine, for callers that computed
// with a secret. It reaches 32 KB down.
//
//go:noinline
func ScrubStack() {
	var below [32 << 10]byte
	for i := range below {
		below[i] = 0
	}
	runtime.KeepAlive(&below)
}
