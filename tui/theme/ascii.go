package theme

import (
	"os"
	"strings"
)

// plain are the marks and lines as ASCII, each of the same width.
var plain = pairs(
	"─━┈╌╍═⎺⎻⎼⎽", "-=.~~====_",
	"│┃▌▏╴╵╰", "||||-|`",
	"├┝┞┠┡┣┤┬┴┼┌┐└┕┖┗┘", "+++++++++++++++++"[:17],
	"●◐○╳◇◆◯□■▪", "*%oX<>O_##",
	"❯‹›◂▸▲", "><><>^",
	"←↑→↓⇄⇐⇒", "<^>v=<>",
	"◜◝◞◟", "|/-\\",
	"▁▂▃▄▅▆▇█░▒", "_.-:=+*#.:",
	"·•…✓♪⌂≡≣▤▨∿–±×°≠≤≥◈", "-*.v!0T=#%~--x'!<>H",
	"▦▷◷", "#>@",
)

// console are the marks and lines as the 256 letters of code page 437, which fonts of the Linux console have. What is in
// neither text stays, or is as in plain.
var console = pairs(
	"━┈╍┃▏╴╵╰", "═·=║│─│└",
	"┝┞┠┡┣┕┖┗", "├├├├├└└└",
	"●◐◯▪❯‹›▸", "•◘○■►<>►",
	"⇄⇐⇒⌂▷", "↔◄►■►",
)

const codePage437 = "─│┌┐└┘├┤┬┴┼═║░▒█▄▌■○·•°±≡≤≥↑↓←→↔▲►◄♪◘"

// pairs are the letters of each text with those of the one after it.
func pairs(texts ...string) map[rune]rune {
	all := map[rune]rune{}
	for i := 0; i+1 < len(texts); i += 2 {
		to := []rune(texts[i+1])
		for n, r := range []rune(texts[i]) {
			all[r] = to[n]
		}
	}
	return all
}

// Gateway is the mark of a gateway: a relay that two sides come to.
const Gateway = "◈"

// Issuer marks an issuer of leases.
const Issuer = "◷"

// ASCII is a screen with its marks and lines in ASCII, for terminals that have no others. What
// else stands on it stays as it is; dots of charts become full stops.
func ASCII(screen string) string { return strings.Map(asASCII, screen) }

func asASCII(r rune) rune {
	switch to, known := plain[r]; {
	case known:
		return to
	case r == 0x2800:
		return ' '
	case r > 0x2800 && r <= 0x28ff:
		return '.'
	}
	return r
}

// Console is a screen with its marks and lines as fonts of the Linux console have them.
func Console(screen string) string {
	return strings.Map(func(r rune) rune {
		if to, known := console[r]; known {
			return to
		}
		if r < 0x80 || strings.ContainsRune(codePage437, r) {
			return r
		}
		return asASCII(r)
	}, screen)
}

// OnConsole tells whether the terminal is the Linux console.
func OnConsole() bool { return os.Getenv("TERM") == "linux" }

// OnlyASCII tells whether the locale says that the terminal has nothing but ASCII.
func OnlyASCII() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := os.Getenv(name); v != "" {
			v = strings.ToLower(v)
			return !strings.Contains(v, "utf-8") && !strings.Contains(v, "utf8")
		}
	}
	return false // nothing is said, as in most containers
}
