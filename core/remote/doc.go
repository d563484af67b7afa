// Package remote is what runs over a link: shells and commands, the account's files, the
// keys that are lent to the far side and the windows that programs there draw here.
//
// [Programs] starts shells and commands that a person sees, with what their session
// lends and lets draw, and knows of all that run. [Output] and [Files] are for the
// program's own use: they lend nothing and let nothing draw.
package remote
