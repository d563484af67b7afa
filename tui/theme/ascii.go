package theme

import (
	"os"
	"strings"
)

// plain are the marks and lines as ASCII, each of the same width.
var plain = strings.NewReplacer(pairs(
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
)...)

// pairs are the letters of each text beside those of the one after it.
func pairs(texts ...string) []string {
	var all []string
	for i := 0; i+1 < len(texts); i += 2 {
		to := []rune(texts[i+1])
		for n, r := range []rune(texts[i]) {
			all = append(all, string(r), string(to[n]))
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
func ASCII(screen string) string {
	screen = plain.Replace(screen)
	return strings.Map(func(r rune) rune {
		switch {
		case r == 0x2800:
			return ' '
		case r > 0x2800 && r <= 0x28ff:
			return '.'
		}
		return r
	}, screen)
}

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
