// Package ring is the key agent: unlocked keys held in memory, and what of them is
// lent to a far side.
//
// It promises that no key leaves it: what goes out are public halves and
// signatures; that a key is gone when its time is, when the ring is emptied or
// locked; and that what is lent is only what was named, for as long as the lend
// lasts, with every use told. Its methods are safe to call from many goroutines.
//
// A key costs its own size. A use costs a signature.
package ring
