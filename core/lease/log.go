package lease

import (
	"regexp"
	"strconv"
	"strings"

	"meatus/core/sanitize"
)

// loginLine is what the SSH server logs of a login by a lease.
var loginLine = regexp.MustCompile(`Accepted publickey for (\S+) from (\S+) port \d+ ssh2: \S+-CERT SHA256:\S+ ID lease \d+ of .* \(serial (\d+)\) CA `)

// MaxLogins is how many logins of a log are told, the latest ones.
const MaxLogins = 500

// LoginsIn finds the logins by leases in the log of a machine's SSH server, the latest [MaxLogins] of them.
func LoginsIn(log, machine string) (used []Used) {
	for line := range strings.Lines(log) {
		at := loginLine.FindStringSubmatch(line)
		if at == nil {
			continue
		}
		if serial, err := strconv.ParseUint(at[3], 10, 63); err == nil {
			used = append(used, Used{Machine: machine, Serial: serial, Says: "by " + sanitize.Line(at[1], 40) + " from " + sanitize.Line(at[2], 60)})
		}
	}
	return used[max(0, len(used)-MaxLogins):]
}
