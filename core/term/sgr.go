package term

import "github.com/charmbracelet/x/ansi"

// attrOn and attrOff are the attributes that SGR numbers turn on and off.
var (
	attrOn  = map[int]Attr{1: Bold, 2: Dim, 3: Italic, 4: Underline, 5: Blink, 6: Blink, 7: Reverse, 8: Hidden, 9: Strike, 21: DoubleUnderline}
	attrOff = map[int]Attr{22: Bold | Dim, 23: Italic, 24: underlines, 25: Blink, 27: Reverse, 28: Hidden, 29: Strike}
	// underlineKinds are the sub-parameters of 4.
	underlineKinds = []Attr{0, Underline, DoubleUnderline, CurlyUnderline, DottedUnderline, DashedUnderline}
)

// sgr sets the style of what is printed from now on (ECMA-48 section 8.3.117,
// ISO 8613-6 for colours).
func (s *Screen) sgr(params ansi.Params) {
	if len(params) == 0 {
		s.style = Style{}
		return
	}
	for i := 0; i < len(params); {
		i += s.sgrOne(params[i:])
	}
}

// sgrOne takes the first parameter, with those that belong to it, and returns
// how many they were.
func (s *Screen) sgrOne(params ansi.Params) int {
	n, more, _ := params.Param(0, 0)
	switch {
	case n == 0:
		s.style = Style{}
	case n == 4 && more:
		kind := number(params, 1, 1)
		s.style.Attr &^= underlines
		if kind < len(underlineKinds) {
			s.style.Attr |= underlineKinds[kind]
		}
	case attrOn[n] != 0:
		if attrOn[n]&underlines != 0 {
			s.style.Attr &^= underlines
		}
		s.style.Attr |= attrOn[n]
	case attrOff[n] != 0:
		s.style.Attr &^= attrOff[n]
	case n >= 30 && n <= 37:
		s.style.Fg = Palette(uint8(n - 30))
	case n >= 40 && n <= 47:
		s.style.Bg = Palette(uint8(n - 40))
	case n >= 90 && n <= 97:
		s.style.Fg = Palette(uint8(n - 90 + 8))
	case n >= 100 && n <= 107:
		s.style.Bg = Palette(uint8(n - 100 + 8))
	case n == 39:
		s.style.Fg = 0
	case n == 49:
		s.style.Bg = 0
	case n == 38 || n == 48 || n == 58:
		c, used, ok := colour(params)
		if ok && n == 38 {
			s.style.Fg = c
		} else if ok && n == 48 {
			s.style.Bg = c
		}
		return used
	}
	return 1 + subs(params)
}

// subs counts the sub-parameters of the first parameter.
func subs(params ansi.Params) int {
	n := 0
	for n < len(params)-1 {
		if _, more, _ := params.Param(n, 0); !more {
			break
		}
		n++
	}
	return n
}

// colour reads 38;5;n, 38;2;r;g;b and the same with colons.
func colour(params ansi.Params) (c Color, used int, ok bool) {
	colons := subs(params)
	part := func(i int) uint8 { return uint8(min(number(params, i, 0), 255)) }
	used = len(params)
	if colons > 0 {
		used = 1 + colons
	}
	switch number(params, 1, 0) {
	case 5:
		if colons == 0 {
			used = min(3, used)
		}
		return Palette(part(2)), used, len(params) > 2
	case 2:
		at := 2
		if colons == 0 {
			used = min(5, used)
		} else if colons > 4 {
			at = 3 // a colour space stands before the parts
		}
		return RGB(part(at), part(at+1), part(at+2)), used, len(params) > at+2
	}
	if colons == 0 {
		used = min(2, used)
	}
	return 0, used, false
}
