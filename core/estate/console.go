package estate

import (
	"regexp"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

const (
	// maxConsole is how much of a console's output is looked through, in bytes from its end, and
	// maxPrints how many fingerprints are taken from it.
	maxConsole = 1 << 20
	maxPrints  = 16
)

// prints are fingerprints as first-boot scripts print them.
var prints = regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}\b|(?:MD5:)?\b(?:[0-9a-f]{2}:){15}[0-9a-f]{2}\b`)

// ConsolePrints are the fingerprints of host keys that first-boot scripts printed on a console: between
// the marks of fingerprints, or of the keys themselves. What stands anywhere else is not taken, since
// programs of an instance's users print there, too; a line may have the script's own name before it. The
// text is hostile: nothing of it but fingerprints comes out.
func ConsolePrints(text string) []string {
	text = text[max(len(text)-maxConsole, 0):]
	var found []string
	add := func(print string) {
		if !slices.Contains(found, print) && len(found) < maxPrints {
			found = append(found, print)
		}
	}
	inside := ""
	for line := range strings.Lines(text) {
		switch {
		case strings.Contains(line, "BEGIN SSH HOST KEY FINGERPRINTS"):
			inside = "prints"
		case strings.Contains(line, "BEGIN SSH HOST KEY KEYS"):
			inside = "keys"
		case strings.Contains(line, "END SSH HOST KEY"):
			inside = ""
		case inside == "prints":
			if print := prints.FindString(line); print != "" {
				add(print)
			}
		case inside == "keys":
			words := strings.Fields(line)
			for i := range max(len(words)-1, 0) {
				if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(words[i] + " " + words[i+1])); err == nil {
					add(ssh.FingerprintSHA256(key))
					break
				}
			}
		}
	}
	return found
}
