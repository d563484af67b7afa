// Package book holds the sessions as a person wrote them down in sessions.toml,
// and the settings that each of them has: its own, and those it inherits from its site,
// from the tables of settings for names like its own, and from the defaults.
//
// It promises that every value knows the line it came from; that all errors in
// a file are found at once, each with its place and, where something near was
// meant, a suggestion; that one broken session leaves the others whole; and
// that [Add] writes the file whole or not at all, keeps every byte that was
// there, and can run in two programs at a time.
//
// Reading costs one pass over the file; resolving a session is a few merges.
// A Book is a value that nobody changes after [Parse]: share it freely.
package book
