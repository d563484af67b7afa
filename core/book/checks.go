package book

import (
	"fmt"
	"net"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"meatus/core/sanitize"
)

// ParseKeepalive reads "30s", "2m" or "off" (which is 0). It fails outside of
// one second to one hour.
func ParseKeepalive(s string) (time.Duration, error) {
	if s == "off" {
		return 0, nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < time.Second || d > time.Hour {
		return 0, fmt.Errorf("%q is no time between keepalives", sanitize.Line(s, 20))
	}
	return d, nil
}

func checkHost(s string) (string, string) {
	if !ValidHost(s) {
		return fmt.Sprintf("%q is no host", sanitize.Line(s, 60)), "write a name or an address alone; user and port have lines of their own"
	}
	return "", ""
}

// ValidHost tells whether s can be a host: an address, or a name of letters,
// digits, dots, hyphens and underscores, at most 253 bytes (RFC 1035 section
// 2.3.4). An IPv6 address stands without brackets.
func ValidHost(s string) bool {
	if _, _, zoned := strings.Cut(s, "%"); zoned || net.ParseIP(s) != nil {
		return validAddress(s)
	}
	if s == "" || len(s) > 253 || s[0] == '-' {
		return false
	}
	for _, r := range s {
		ok := r == '.' || r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 127 && (unicode.IsLetter(r) || unicode.IsMark(r))
		if !ok {
			return false
		}
	}
	return true
}

// validAddress tells whether s is an address. The zone of one of the newer kind (RFC 4007
// section 11) is a network interface: its name has no blanks, controls or quotes.
func validAddress(s string) bool {
	ip, err := netip.ParseAddr(s)
	if err != nil || len(ip.Zone()) > 40 {
		return false
	}
	return !strings.ContainsFunc(ip.Zone(), func(r rune) bool {
		return !(r == '.' || r == '-' || r == '_' || r == ':' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z')
	})
}

func checkUser(s string) (string, string) {
	if !ValidUser(s) {
		return fmt.Sprintf("%q is no login name", sanitize.Line(s, 40)), "write the account's name alone"
	}
	return "", ""
}

// ValidUser tells whether s can be a login name: printable, without blanks,
// colons and slashes.
func ValidUser(s string) bool {
	return s != "" && !strings.ContainsAny(s, " \t:/") && sanitize.Line(s, len(s)+1) == s
}

func checkPath(s string) (string, string) {
	if strings.ContainsRune(s, 0) {
		return "a path cannot hold a null character", ""
	}
	return "", ""
}

func checkDial(s string) (string, string) {
	host, port, err := net.SplitHostPort(s)
	n, perr := strconv.Atoi(port)
	if err != nil || perr != nil || host == "" || n < 1 || n > 65535 {
		return fmt.Sprintf("%q is no address with a port", sanitize.Line(s, 60)), `write it like "127.0.0.1:40022"`
	}
	return "", ""
}

// ParseAge reads how old something may be, in days: "365d"; "" and "off" are 0.
func ParseAge(s string) (time.Duration, error) {
	if s == "" || s == "off" {
		return 0, nil
	}
	days, err := strconv.Atoi(strings.TrimSuffix(s, "d"))
	if err != nil || !strings.HasSuffix(s, "d") || days < 1 || days > 36500 {
		return 0, fmt.Errorf("%q is no age", sanitize.Line(s, 20))
	}
	return time.Duration(days) * 24 * time.Hour, nil
}

func checkCount(s string) (string, string) {
	if n, err := strconv.Atoi(s); err != nil || n < 1 || n > 1000 {
		return fmt.Sprintf("%q is no number of uses", sanitize.Line(s, 20)), `write "1" to "1000"`
	}
	return "", ""
}

func checkList(s string) (string, string) {
	for part := range strings.SplitSeq(s, "/") {
		if part == ".." {
			return "a list of keys is not looked for above the folder it is in", "write the path without .."
		}
	}
	if strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r == '\'' || r == '"' || r == '\\' || r == 0x7f }) || strings.HasSuffix(s, "/") || strings.HasPrefix(s, "-") {
		return fmt.Sprintf("%q is no path of a list of keys", sanitize.Line(s, 60)), `write it like ".ssh/authorized_keys" or "/etc/keys/keeper", without blanks and quotes`
	}
	return "", ""
}

func checkAge(s string) (string, string) {
	if _, err := ParseAge(s); err != nil {
		return err.Error(), `write it in days, like "365d", from "1d" to "36500d", or "off"`
	}
	return "", ""
}

// oneOf takes one of a few words.
func oneOf(words ...string) func(string) (say, hint string) {
	quoted := strings.Join(quoteAll(words), " or ")
	return func(s string) (string, string) {
		if slices.Contains(words, s) {
			return "", ""
		}
		return fmt.Sprintf("%q is not one of the words it can be", sanitize.Line(s, 40)), "write " + quoted
	}
}

func checkTerm(s string) (string, string) {
	if strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r > '~' || r == '/' }) || len(s) > 64 {
		return fmt.Sprintf("%q is no terminal's name", sanitize.Line(s, 40)), `write it like "xterm-256color" or "vt220"`
	}
	return "", ""
}

func checkEnv(s string) (string, string) {
	name, _, ok := strings.Cut(s, "=")
	if !ok || name == "" || strings.ContainsFunc(name, func(r rune) bool {
		return r != '_' && (r > '~' || !unicode.IsLetter(r) && !unicode.IsDigit(r))
	}) {
		return fmt.Sprintf("%q sets no variable", sanitize.Line(s, 40)), `write it like "LANG=C.UTF-8"`
	}
	return "", ""
}

func checkPattern(s string) (string, string) {
	if _, err := path.Match(s, "x"); err != nil || strings.ContainsAny(s, " \t") {
		return fmt.Sprintf("%q is no host and no pattern", sanitize.Line(s, 40)), "write an address, a session's name, or a pattern: * for any letters, ? for one"
	}
	return "", ""
}

func checkGlob(s string) (string, string) {
	if _, err := path.Match(s, "x"); err != nil {
		return fmt.Sprintf("%q is no pattern", s), "use * for any letters, ? for one"
	}
	return "", ""
}

func checkNetwork(s string) (string, string) {
	if !ValidName(s) {
		return fmt.Sprintf("%q is no name for a network", sanitize.Line(s, 40)), nameHint
	}
	return "", ""
}
