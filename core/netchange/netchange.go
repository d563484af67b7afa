// Package netchange tells when this machine's network changes, or when it wakes: what was connected before may be
// dead, and what could not be reached may be there. Looking costs a list of interfaces a second.
package netchange

import (
	"fmt"
	"net"
	"strings"
	"time"
)

// lookEvery is how often the machine is looked at for signs of a line coming back.
const lookEvery = time.Second

// asleep is how far the wall clock has to run ahead of the monotonic one, which
// stands still while a machine sleeps, to mean that it slept.
const asleep = 5 * time.Second

// Watch signals when this machine's interfaces or addresses change or when it
// wakes, until stopped.
func Watch() (changed <-chan struct{}, stop func()) {
	signals, done := make(chan struct{}, 1), make(chan struct{})
	go func() {
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		last, before := time.Now(), addresses()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			now, after := time.Now(), addresses()
			if slept(last, now) || after != before {
				select {
				case signals <- struct{}{}:
				default:
				}
			}
			last, before = now, after
		}
	}()
	return signals, func() { close(done) }
}

// slept tells whether the machine slept between two looks at the clock. A clock
// set back means nothing.
func slept(last, now time.Time) bool {
	wall := now.Round(0).Sub(last.Round(0))
	return wall-now.Sub(last) > asleep
}

// addresses are this machine's interfaces, whether they are up, and their
// addresses, in one text.
func addresses() string {
	var all strings.Builder
	interfaces, _ := net.Interfaces()
	for _, i := range interfaces {
		list, _ := i.Addrs()
		fmt.Fprintln(&all, i.Name, i.Flags, list)
	}
	return all.String()
}
