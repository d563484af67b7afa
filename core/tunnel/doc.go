// Package tunnel opens tunnels along a route: bring (a far service at a listener
// here), lend (a service here at a listener over there) and roam (a listener here whose
// connections leave from the far side, by SOCKS or HTTP CONNECT).
//
// It promises that a listener stays open while its way is lost: what connects then waits a
// bounded time for the way to come back, and what was in flight is broken off so
// that nobody takes it for whole. The two directions of a flow end apart. One slow
// flow stalls no other, and a flow holds a bounded amount of memory: two buffers of
// 32 KiB, of 1 KiB while little passes, and what the protocol's window lets the far side send.
//
// A listener costs a listener and a goroutine, a flow two goroutines while it lives.
package tunnel
