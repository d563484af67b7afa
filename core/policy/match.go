package policy

import (
	"errors"
	"path"
	"unicode/utf8"
)

// A pattern means names: * any characters, also none, ? one, [a-c] one of some, [^a-c] one of no such, and a backslash has
// the next one mean itself. It means the whole of a name, whatever is in that: unlike a pattern of files it has no
// character that * leaves out.

// validPattern returns why a word is no valid pattern, or nil.
func validPattern(pattern string) error {
	if !utf8.ValidString(pattern) {
		return errors.New("it is no text")
	}
	_, err := path.Match(pattern, "")
	return err
}

// matches reports whether a pattern matches the whole of a name. An invalid pattern matches nothing.
func matches(pattern, name string) bool {
	p, n := []rune(pattern), []rune(name)
	star, retry := -1, 0 // where the last * was, and from where in the name it is tried next
	i, j := 0, 0
	for j < len(n) || i < len(p) {
		if i < len(p) {
			if p[i] == '*' {
				star, retry = i, j+1
				i++
				continue
			}
			if j < len(n) {
				if width, ok := one(p[i:], n[j]); ok {
					i += width
					j++
					continue
				}
			}
		}
		if star < 0 || retry > len(n) {
			return false
		}
		i, j = star+1, retry
		retry++
	}
	return true
}

// one reports whether the first element of a pattern matches a character, and returns the element's length.
func one(p []rune, c rune) (width int, ok bool) {
	switch p[0] {
	case '?':
		return 1, true
	case '\\':
		return 2, len(p) > 1 && p[1] == c
	case '[':
		return set(p, c)
	}
	return 1, p[0] == c
}

// set is one for a set in brackets.
func set(p []rune, c rune) (width int, ok bool) {
	i := 1
	not := i < len(p) && p[i] == '^'
	if not {
		i++
	}
	next := func() (rune, bool) {
		if i < len(p) && p[i] == '\\' {
			i++
		}
		if i >= len(p) {
			return 0, false
		}
		i++
		return p[i-1], true
	}
	in := false
	for first := true; i < len(p); first = false {
		if p[i] == ']' && !first {
			return i + 1, in != not
		}
		low, ok := next()
		if !ok {
			break
		}
		high := low
		if i+1 < len(p) && p[i] == '-' {
			i++
			if high, ok = next(); !ok {
				break
			}
		}
		in = in || low <= c && c <= high
	}
	return 0, false
}
