// Package enrol makes a machine's SSH server trust a certificate authority (the issuer), over an existing login, and
// removes that trust again.
//
// It promises that nothing is written before its preview; that the server's own test mode accepts the new configuration
// before any file that the server reads is changed; that a fresh login proves the change, and every file is restored to the
// byte if it fails; and that existing keys keep their access. A connection cut or a program killed at any moment leaves the
// server with the old or the new configuration, and refuses nobody who had access: files that a configuration names are
// written before it, and removed after the server has re-read the configuration without them. A note on the machine records
// the change under way, and the next run completes or undoes it.
package enrol
