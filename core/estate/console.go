package estate

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"meatus/core/vouch"

	"golang.org/x/crypto/ssh"
)

const (
	// maxConsole is how much of a console's output is looked through, in bytes from its end, and
	// maxPrints how many fingerprints are taken from it.
	maxConsole = 1 << 20
	maxPrints  = 16
)

// Print is a fingerprint that a console prints, with the kind of the key as scripts name it: "ED25519", or ""
// where that is not said.
type Print struct{ Print, Kind string }

// kinds are the names of kinds behind a fingerprint.
var kinds = regexp.MustCompile(`\((ED25519|ECDSA|RSA|DSA)\)`)

// prints are fingerprints as first-boot scripts print them.
var prints = regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}\b|(?:MD5:)?\b(?:[0-9a-f]{2}:){15}[0-9a-f]{2}\b`)

// ConsolePrints are the fingerprints of host keys that first-boot scripts printed on a console: between
// the marks of fingerprints, or of the keys themselves. What stands anywhere else is not taken, since
// programs of an instance's users print there, too; a line may have the script's own name before it. The
// text is hostile: nothing of it but fingerprints comes out.
func ConsolePrints(text string) []Print {
	text = text[max(len(text)-maxConsole, 0):]
	var found []Print
	add := func(print, kind string) {
		if len(found) < maxPrints && !slices.ContainsFunc(found, func(p Print) bool { return p.Print == print }) {
			found = append(found, Print{print, kind})
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
				kind := ""
				if named := kinds.FindStringSubmatch(line); named != nil {
					kind = named[1]
				}
				add(print, kind)
			}
		case inside == "keys":
			words := strings.Fields(line)
			for i := range max(len(words)-1, 0) {
				if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(words[i] + " " + words[i+1])); err == nil {
					add(ssh.FingerprintSHA256(key), vouch.KindOf(key))
					break
				}
			}
		}
	}
	return found
}

// ConsoleSince is what a console has printed since an earlier text of it. Sources hand out the end of what was printed, so
// that the earlier text may stand in the newer one only in part; gap tells that what was between is not known.
func ConsoleSince(before, now string) (fresh string, gap bool) {
	if before == "" {
		return now, false
	}
	if rest, ok := strings.CutPrefix(now, before); ok {
		return rest, false
	}
	for size := min(len(before), 4<<10); size >= 16; size /= 2 { // the longest end of it that is there still
		if at := strings.LastIndex(now, before[len(before)-size:]); at >= 0 {
			return now[at+size:], false
		}
	}
	return now, true
}

// ConsolePace is how often a console is read while it is followed.
const ConsolePace = 2 * time.Second

// FollowConsole reads the console of an instance until the context ends, and gives tell what it prints. A failure to read ends
// it.
func (s *Source) FollowConsole(ctx context.Context, id string, tell func(fresh string, gap bool) error) error {
	before := ""
	for {
		now, err := s.Console(ctx, id)
		if err != nil {
			return err
		}
		if fresh, gap := ConsoleSince(before, now); fresh != "" {
			if err := tell(fresh, gap); err != nil {
				return err
			}
		}
		before = now
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(ConsolePace):
		}
	}
}
