// Package enrol has a machine's SSH server trust an issuer of short-lived certificates, over a login that exists, and takes
// that back.
//
// It promises that nothing is written before it was shown; that the server's own check of its configuration runs before
// anything that it reads is changed; that a fresh login proves the change; that all is put back to the byte where that
// fails; and that keys that let people in before are left alone. At whatever moment the line is cut or a program killed,
// the server runs by the configuration of before or by the new one, and refuses nobody whom it let in: files that the
// configuration names are written before it and removed after the server has read the one without them. A note on the
// machine says what was begun, and the next run finishes it or puts it back.
package enrol
