// Package posix writes command lines that run a POSIX shell script on a remote machine, whatever the account's login shell
// is.
//
// An SSH server passes a command line to the login shell (RFC 4254 section 6.5), which may be fish or a C shell with other
// rules for quotes, backslashes, "!" and line breaks. Package posix promises that sh receives the script and its arguments
// byte by byte, and that the login shell runs nothing in them. Null bytes cannot be passed and are left out.
package posix
