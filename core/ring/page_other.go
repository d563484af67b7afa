//go:build !linux

package ring

func newPage(size int) (page []byte, locked bool, err error) { return make([]byte, size), false, nil }

func freePage([]byte) {}

// Harden can forbid nothing on this system.
func Harden() error { return nil }
