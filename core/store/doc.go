// Package store keeps what gateways share: machines and the tokens they join by, which gateway each is joined at,
// what was moved by whom, and the record.
//
// It is kept in SQLite beside one gateway, or in PostgreSQL, or what speaks its protocol, for any number of them
// side by side. Both keep the same promises: a change is whole or not at all, a token is used once, entries of the
// record are numbered without gaps, each with the digest of the one before, and whoever watches is told of a
// change within a second. Times are by the store's clock, so that gateways whose clocks differ agree. Every call
// ends with its context. A [Store] is safe to use from many goroutines.
//
// An entry costs one transaction that is written through to the disk: some milliseconds.
package store
