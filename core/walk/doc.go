// Package walk passes a route hop by hop and keeps what came of it alive: links,
// the shells and commands that run through them, and their end.
//
// It promises:
//
//   - Each hop's transport runs inside the one before it, and each hop's name is
//     resolved by the hop before it; only the first is looked up here.
//   - One [Link] for each hop is shared by everything that goes through it. A
//     link closes some time after its last user is gone.
//   - No host whose key is unknown or changed is logged in to without the
//     [Asker] saying yes, a changed one not at all; no key others can read is
//     offered. Both are found before a packet leaves where they can be.
//   - A walk can be cancelled at any moment through its context, and leaves no
//     goroutine and no socket behind. [Walker.Close] waits for all of them.
//   - A walk that fails ends with a [gate.Failure].
//
// A [Walker] is safe to use from many goroutines. Each link costs three
// goroutines besides those of the protocol library, and a keepalive's packet
// every 30 seconds.
package walk
