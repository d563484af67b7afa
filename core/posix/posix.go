package posix

import (
	"fmt"
	"strconv"
	"strings"
)

// Word quotes a word for POSIX shells, fish and C shells. C shells refuse a word with a line break; [Line] passes such
// words too.
func Word(word string) string {
	return "'" + strings.NewReplacer("'", `'\''`, `\`, `'\\'`, "!", `'\!'`, "\x00", "").Replace(word) + "'"
}

// Words quotes words and joins them with blanks.
func Words(words []string) string {
	quoted := make([]string, len(words))
	for i, word := range words {
		quoted[i] = Word(word)
	}
	return strings.Join(quoted, " ")
}

// Decoder is the first script of a [Line] with special bytes: it decodes its arguments, as [Decode] does, and runs the
// first as a script with the others as $1, $2 and so on.
const Decoder = `n=$#; while [ "$n" -gt 0 ]; do x=$(printf %bx "$1"); set -- "$@" "${x%x}"; shift; n=$((n-1)); done; x=$1; shift; eval "$x"`

// Line returns a command line that makes sh run a script with the arguments $1, $2 and so on. Its standard input is the
// script's.
func Line(script string, args ...string) string {
	words := append([]string{script}, args...)
	if plain(words) {
		return "sh -c '" + script + "' sh" + joined(args)
	}
	for i, word := range words {
		words[i] = encode(word)
	}
	return "sh -c '" + Decoder + "' sh" + joined(words)
}

func joined(words []string) string {
	var b strings.Builder
	for _, word := range words {
		b.WriteString(" '" + word + "'")
	}
	return b.String()
}

// plain reports whether single quotes protect a word in every shell.
func plain(words []string) bool {
	for _, word := range words {
		for i := range len(word) {
			if special(word[i]) {
				return false
			}
		}
	}
	return true
}

// special reports whether some shell interprets a byte inside single quotes.
func special(b byte) bool {
	return b < ' ' || b > '~' || b == '\'' || b == '\\' || b == '!'
}

// encode writes special bytes for printf's %b: "\0" and three octal digits.
func encode(word string) string {
	var b strings.Builder
	for i := range len(word) {
		switch c := word[i]; {
		case c == 0:
		case special(c):
			fmt.Fprintf(&b, `\0%03o`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Decode decodes a word as [Decoder] does.
func Decode(word string) string {
	var b strings.Builder
	for i := 0; i < len(word); i++ {
		if word[i] == '\\' && i+5 <= len(word) && word[i+1] == '0' {
			if c, err := strconv.ParseUint(word[i+2:i+5], 8, 8); err == nil {
				b.WriteByte(byte(c))
				i += 4
				continue
			}
		}
		b.WriteByte(word[i])
	}
	return b.String()
}

// Command makes one command line of arguments: one stands as it is, of several each is quoted where it has to be, so that a
// shell takes it as one word.
func Command(args []string) string {
	if len(args) == 1 {
		return args[0]
	}
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = Word(a)
		if a != "" && strings.Trim(a, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./=:@%+,") == "" {
			quoted[i] = a
		}
	}
	return strings.Join(quoted, " ")
}
