package term

import (
	"bytes"
	"fmt"
	"strings"
)

// Special is a key that stands for no character.
type Special uint8

// The special keys.
const (
	NoKey Special = iota
	Up
	Down
	Right
	Left
	Home
	End
	Insert
	Delete
	PageUp
	PageDown
	Backspace
	Tab
	Enter
	Escape
	F1
	F2
	F3
	F4
	F5
	F6
	F7
	F8
	F9
	F10
	F11
	F12
)

// Key is one key press: a special key, or the text it stands for, with what was
// held down.
type Key struct {
	Special          Special
	Rune             rune   // the key's character without modifiers, where it has one
	Text             string // what it types
	Keypad           bool   // it stands on the numeric keypad; Rune says which
	Shift, Alt, Ctrl bool
}

// finals are the keys that send ESC [ LETTER, and ESC O LETTER with application
// cursor keys; numbers those that send ESC [ NUMBER ~.
var (
	finals  = map[Special]byte{Up: 'A', Down: 'B', Right: 'C', Left: 'D', Home: 'H', End: 'F'}
	numbers = map[Special]int{Insert: 2, Delete: 3, PageUp: 5, PageDown: 6, F5: 15, F6: 17, F7: 18, F8: 19, F9: 20, F10: 21, F11: 23, F12: 24}
	pfKeys  = map[Special]byte{F1: 'P', F2: 'Q', F3: 'R', F4: 'S'}
)

// keypad are the letters of ESC O LETTER that the keypad sends in its application
// mode, by what stands on the key.
var keypad = map[rune]byte{
	'0': 'p', '1': 'q', '2': 'r', '3': 's', '4': 't', '5': 'u', '6': 'v', '7': 'w', '8': 'x', '9': 'y',
	'*': 'j', '+': 'k', ',': 'l', '-': 'm', '.': 'n', '/': 'o', '=': 'X', '\r': 'M',
}

// modifier is xterm's number for what is held down, 1 for nothing.
func (k Key) modifier() int {
	m := 1
	if k.Shift {
		m++
	}
	if k.Alt {
		m += 2
	}
	if k.Ctrl {
		m += 4
	}
	return m
}

// Encode is what a key press sends to the far side. Backspace sends DEL and
// delete ESC [ 3 ~, as terminals of this name do.
func (k Key) Encode(m Modes) []byte {
	mod := k.modifier()
	if letter, ok := keypad[k.Rune]; ok && k.Keypad && m.Keypad && mod == 1 {
		return []byte{0x1b, 'O', letter}
	}
	if final, ok := finals[k.Special]; ok {
		switch {
		case mod > 1:
			return fmt.Appendf(nil, "\x1b[1;%d%c", mod, final)
		case m.CursorKeys:
			return []byte{0x1b, 'O', final}
		}
		return []byte{0x1b, '[', final}
	}
	if final, ok := pfKeys[k.Special]; ok {
		if mod > 1 {
			return fmt.Appendf(nil, "\x1b[1;%d%c", mod, final)
		}
		return []byte{0x1b, 'O', final}
	}
	if n, ok := numbers[k.Special]; ok {
		if mod > 1 {
			return fmt.Appendf(nil, "\x1b[%d;%d~", n, mod)
		}
		return fmt.Appendf(nil, "\x1b[%d~", n)
	}
	return k.plain(m)
}

// plain encodes the keys that send characters.
func (k Key) plain(m Modes) []byte {
	var out []byte
	switch k.Special {
	case Backspace:
		out = []byte{0x7f}
		if k.Ctrl {
			out = []byte{0x08}
		}
	case Tab:
		out = []byte{'\t'}
		if k.Shift {
			out = []byte("\x1b[Z")
		}
	case Enter:
		out = []byte{'\r'}
		if m.NewLine {
			out = []byte("\r\n")
		}
	case Escape:
		out = []byte{0x1b}
	default:
		if c, ok := control(k.Rune); k.Ctrl && ok {
			out = []byte{c}
		} else if k.Text != "" {
			out = []byte(k.Text)
		} else if k.Rune >= ' ' {
			out = []byte(string(k.Rune))
		}
	}
	if k.Alt && len(out) > 0 {
		out = append([]byte{0x1b}, out...)
	}
	return out
}

func appendMouse(code, x, y int, final byte) []byte {
	return fmt.Appendf(nil, "\x1b[<%d;%d;%d%c", code, x, y, final)
}

// control is the control character that a key sends with control held down.
func control(r rune) (byte, bool) {
	switch {
	case r >= 'a' && r <= 'z':
		return byte(r-'a') + 1, true
	case r >= '@' && r <= '_':
		return byte(r - '@'), true
	case r == ' ' || r == '2':
		return 0, true
	case r >= '3' && r <= '7':
		return byte(r-'3') + 0x1b, true
	case r == '8' || r == '?':
		return 0x7f, true
	case r == '/':
		return 0x1f, true
	}
	return 0, false
}

// EncodePaste is what pasted text sends. Line ends become returns. Where the
// far side asked for bracketed paste it stands between the brackets, with
// nothing in it that could end them; else control characters are left out, so
// that pasted text cannot press keys.
func EncodePaste(text string, m Modes) []byte {
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\r"), "\n", "\r")
	var b bytes.Buffer
	for _, r := range text {
		if r == '\r' || r == '\t' || r >= ' ' && r != 0x7f && (r < 0x80 || r > 0x9f) {
			b.WriteRune(r)
		}
	}
	if !m.Paste {
		return b.Bytes()
	}
	return append(append([]byte("\x1b[200~"), b.Bytes()...), "\x1b[201~"...)
}
