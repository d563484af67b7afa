// Package term is the terminal screen behind a shell: bytes from the far side go
// in, a grid of cells comes out.
//
// It promises that no input makes it panic, hang or grow without bound; that
// what scrolls off the top is kept, up to a limit, and wraps anew when the width
// changes; and that it answers only queries whose answer holds nothing the far
// side chose: status, cursor position, attributes and modes. It has no way to
// the clipboard, and a title is only ever text, cleaned.
//
// Behaviour follows ECMA-48 and the VT conventions that programs expect of a
// terminal named xterm-256color.
//
// A [Screen] costs 16 bytes for each cell on it and some 1.2 bytes for each
// character scrolled off. It is for one goroutine; a [Frame] taken of it can be
// read by any.
package term
