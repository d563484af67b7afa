// Package ring is the key agent: unlocked keys held in memory, and what of them is
// lent to a far side or to other programs here.
//
// It promises that no key leaves it: what goes out are public halves and
// signatures; that a key is gone when its time is, when the ring is emptied or
// locked; and that what is lent is only what was named, for as long as the lend
// lasts, with every use told. Keys lie in pages that the system does not swap or
// write to a core file, where it allows that, and are wiped when they go; the
// copy that a signature is made with lives for that signature, and is wiped as far
// as the library's own copies can be reached. Its methods are safe to call from
// many goroutines.
//
// A key costs a page of memory. A use costs a signature and the reading of the key.
package ring
