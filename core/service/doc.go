// Package service is what the services of ours that persons log in to have in common, a gateway and an issuer of
// leases: who comes is known by a key, a client certificate or a bearer token, a policy in a file says who that is,
// certificates and policies are read again when they change, and an end lets what runs go on for a while.
//
// A person connects by WebSocket over TLS (package line). The first stream of the connection is SSH, by which the
// person is known for as long as it lasts; each further stream begins with what is asked. A stranger is told no more
// than that nobody is known by what was shown.
package service
