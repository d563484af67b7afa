// Package issuer gives leases: it knows who asks as every service of ours does (package service), holds what is asked
// against its policy, has a second person agree where that is wanted, writes everything to the record, and signs.
// docs/leases.md tells the protocol, the policy and what is threatened.
//
// What is granted is in the record before it is signed, and one asking is granted once, however often and at however
// many issuers of one store it is asked. A certificate is for one login at one machine, for a key that whoever asks has
// made for it. A [Server] is safe to use from many goroutines.
package issuer
