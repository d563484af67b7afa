// Package posix writes command lines that run a POSIX shell script at a far side, whatever the account's login shell is.
//
// An SSH server hands a command line to the login shell (RFC 4254 section 6.5), which may be fish or a C shell and reads
// quotes, backslashes, "!" and line breaks in its own way. It promises that the script and its arguments reach sh as they
// were given, byte by byte, and that nothing of them is run by the login shell. Null bytes cannot be passed on and are
// left out.
package posix
