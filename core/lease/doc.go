// Package lease is a login that lasts for a minute: a key that is made in memory for one walk, and a certificate for it
// that an issuer signs where its policy allows it (docs/leases.md). It has what the two say to each other, what a
// certificate holds, and [Client], which asks for leases and holds them for as long as a walk needs them.
//
// A lease is never written to a disk: its key is forgotten with the walk that it was made for.
package lease
