// Package keyfile understands private key files: what container they are in,
// what key is inside, who else could read them, and how to mend that.
//
// It promises that a key is judged and read through one open file, so that what
// was checked is what is used; that nothing but a regular file is ever read, and
// no more than [MaxSize] of it; and that a key others can read is not handed
// out by [File.Signer]. [Mend] changes the mode of the one file it is given and
// nothing else.
//
// A sheet costs one read of the file and a look at each folder above it; only
// unlocking a key with a passphrase is slow, as its derivation is meant to be.
package keyfile
