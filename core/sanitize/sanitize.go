// Package sanitize makes text that came from elsewhere safe to show.
//
// It promises that what it returns holds no control character, no escape
// sequence, no direction override, no noncharacter and no invalid UTF-8, and is no longer than
// asked. It costs one pass over at most the wanted length.
package sanitize

import (
	"path/filepath"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Line returns s on one line: line breaks and tabs become single spaces,
// anything that could steer a terminal is dropped, and at most max runes are
// kept, the last of them "…" where something was cut.
func Line(s string, max int) string {
	return clean(s, max, false)
}

// Text is [Line] that keeps line breaks. A carriage return alone counts as one.
func Text(s string, max int) string {
	return clean(s, max, true)
}

// Code is [Line] for a line of a file, in which blanks mean something: each is kept, and a tab is
// four of them.
func Code(s string, max int) string {
	var b strings.Builder
	kept := 0
	for _, r := range strings.ReplaceAll(s, "\t", "    ") {
		if r == utf8.RuneError || !shows(r) {
			continue
		}
		if kept == max {
			b.WriteRune('…')
			break
		}
		b.WriteRune(r)
		kept++
	}
	return strings.TrimRight(b.String(), " ")
}

func clean(s string, max int, keepBreaks bool) string {
	var b strings.Builder
	kept, space := 0, false
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		i += size
		if r == '\r' && keepBreaks {
			if i < len(s) && s[i] == '\n' {
				continue
			}
			r = '\n'
		}
		switch {
		case r == '\n' && keepBreaks:
			space = false
		case r == '\n' || r == '\r' || r == '\t' || r == ' ':
			if space {
				continue
			}
			r, space = ' ', true
		case r == utf8.RuneError || !shows(r):
			continue
		default:
			space = false
		}
		if kept == max-1 && i < len(s) {
			b.WriteRune('…')
			break
		}
		b.WriteRune(r)
		kept++
		if kept >= max {
			break
		}
	}
	return strings.TrimSpace(b.String())
}

// shows tells whether a rune stands for itself on a screen. Format characters
// (direction overrides, joiners, the byte order mark) are refused with the
// control characters, since they change how their neighbours read.
func shows(r rune) bool {
	return !unicode.IsControl(r) && !unicode.Is(unicode.Cf, r) &&
		!unicode.Is(unicode.Co, r) && !unicode.Is(unicode.Zl, r) && !unicode.Is(unicode.Zp, r) && !Noncharacter(r)
}

// Noncharacter reports whether a rune is a noncharacter of Unicode (section 23.7 of the standard), which programs use for
// themselves and never exchange.
func Noncharacter(r rune) bool { return r >= 0xfdd0 && r <= 0xfdef || r&0xfffe == 0xfffe }

// maxName is how much of a file's name is shown, in runes.
const maxName = 120

// Name is the last part of a path as it can be shown: a file's name may hold anything but
// a slash and a null.
func Name(path string) string { return Line(filepath.Base(path), maxName) }

// Path is a path as it can be shown.
func Path(path string) string { return Line(path, 1000) }
