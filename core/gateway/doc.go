// Package gateway is a relay that machines without an open port dial out to, and that persons reach them through.
//
// A [Server] lets persons and machines in, decides by a policy who may reach what, and passes bytes on: inside is
// the machine's own SSH, of which it sees no plain text and whose host key it cannot forge. A [Joiner] runs beside
// a machine's SSH server and connects to that alone. Several servers with one store are one gateway.
//
// Nothing is opened that the policy does not allow or that cannot be recorded. Each stream has its own flow
// control; a stream costs up to 8 MB where its reader is slow, an idle machine about 70 kB.
package gateway
