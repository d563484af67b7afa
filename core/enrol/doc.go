// Package enrol has a machine's SSH server trust an issuer of leases, over a way there that exists, and takes that back.
//
// It promises that nothing is written before it was shown; that the server's own check of its configuration runs before
// anything that it reads is changed; that a fresh login by a lease proves it; that all is put back as it was where that
// fails, over the line that was there before; and that keys that let people in before are left alone.
package enrol
