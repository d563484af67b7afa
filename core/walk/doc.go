// Package walk passes a route hop by hop, by one way or another, waits for machines that are not up yet, and looks at
// machines without logging in. It connects by core/dial, logs in by core/login, and shares what comes of it by core/link.
//
// It promises:
//
//   - Each hop's transport runs inside the one before it, and each hop's name is
//     resolved by the hop before it; only the first is looked up here.
//   - What hop keys and files make impossible is found before a packet leaves.
//   - A walk can be cancelled at any moment through its context, and leaves no
//     goroutine and no socket behind. [Walker.Close] waits for all of them.
//   - A walk that fails ends with a [gate.Failure].
//
// A [Walker] is safe to use from many goroutines.
package walk
