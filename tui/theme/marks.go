package theme

import (
	"strings"
	"unicode/utf8"
)

// Marks. Each is a noncharacter of Unicode (U+FDD0 to U+FDEF), which no text from elsewhere holds: sanitizing drops them, and
// a shell's screen shows them as U+FFFD. The frame draws the glyph of a mark ([Glyphs]); lines of text say its word ([Words]).
// So a mark is known by itself, and never by its glyph, which a file name or a machine's text may hold, too.
const (
	Chosen  = "\ufdd0" // the row that the keys act on
	Marked  = "\ufdd1" // a row that is marked, or a head of rows
	Open    = "\ufdd2" // the status of a gate
	Ajar    = "\ufdd3"
	Shut    = "\ufdd4"
	Untried = "\ufdd5"
	Remedy  = "\ufdd6" // what fixes a gate
	Done    = "\ufdd7"
)

// drawn are the glyph and the word of each mark, in the order of the marks.
var drawn = [...]struct {
	glyph, word string
}{
	{"❯", " chosen: "}, {"▪", " marked "}, {"●", " open: "}, {"◐", " warning: "}, {"╳", " blocked: "}, {"○", " not checked: "}, {"→", " to mend it: "}, {"✓", " done: "},
}

// lead is what the UTF-8 of every mark begins with.
const lead = "\xef\xb7"

// said puts what is said of each mark of a text in its place.
func said(text string, say func(n int) string) string {
	i := strings.Index(text, lead)
	if i < 0 {
		return text
	}
	var b strings.Builder
	b.Grow(len(text))
	for ; i >= 0; i = strings.Index(text, lead) {
		b.WriteString(text[:i])
		r, size := utf8.DecodeRuneInString(text[i:])
		if n := int(r - 0xfdd0); n >= 0 && n < len(drawn) {
			b.WriteString(say(n))
		} else {
			b.WriteString(text[i : i+size])
		}
		text = text[i+size:]
	}
	b.WriteString(text)
	return b.String()
}

// Glyphs draws the marks of a text.
func Glyphs(text string) string { return said(text, func(n int) string { return drawn[n].glyph }) }

// Words says the marks of a text.
func Words(text string) string { return said(text, func(n int) string { return drawn[n].word }) }

// HasStatus reports whether a text has a mark that says how something stands, or what fixes it.
func HasStatus(text string) bool { return strings.ContainsAny(text, Open+Ajar+Shut+Done+Remedy) }
