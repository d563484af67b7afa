// Package mend finds what mends a gate: for one that is shut or ajar, the ways a
// person can choose from, each with a preview of what it would change, and each
// done by the program when it is chosen.
//
// It promises that looking for ways changes nothing and sends nothing, and that a
// way changes what its preview says and nothing else. Looking costs a read of the
// keys that lie near.
package mend
