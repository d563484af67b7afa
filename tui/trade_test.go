package tui

import (
	"slices"
	"strings"
	"testing"

	"meatus/tui/finder"
)

// trade is what people of the trade type, and what it has to find; several are parted by "|".
// A label that ends with "…" is one that begins so.
var trade = []struct{ place, query, does string }{
	// connecting
	{"0", "ssh", "open shell"}, {"0", "login", "open shell"}, {"0", "terminal", "open shell"}, {"0", "console", "open shell|console output"}, {"0", "reconnect", "open shell"},
	{"0", "jump", "sessions through this bastion"}, {"0", "jump host", "sessions through this bastion"}, {"0", "bastion", "sessions through this bastion"}, {"0", "proxyjump", "sessions through this bastion|edit"},
	{"0", "second terminal", "another shell"}, {"0", "retry", "wait and retry"}, {"0", "reboot", "wait and retry|restart the instance"}, {"0", "stop", "stop"}, {"0", "cancel", "stop"}, {"0", "abort", "stop"},
	{"0", "restore tabs", "open the shells of last time"}, {"0", "execute", "run a command on marked sessions"}, {"0", "run on all", "run a command on marked sessions"}, {"0", "timeout", "all remedies"},
	{"0", "connection refused", "all remedies"}, {"0", "ping", "check"}, {"0", "health", "check|check all"}, {"0", "test all", "check all"}, {"0", "diagnose", "check|all remedies"}, {"0", "why", "details"},
	{"0", "verbose", "details"}, {"0", "debug", "details"}, {"0", "problem", "go to a problem|mistakes in the sessions file"}, {"0", "error", "mistakes in the sessions file|go to a problem"},
	{"0", "fix", "fix the problem"}, {"0", "repair", "fix the problem"}, {"0", "chmod", "fix the problem"}, {"0", "600", "fix the problem"}, {"0", "permissions", "fix the problem"}, {"0", "permission denied", "find the accepted key"},
	{"0", "host key changed", "fix the problem"}, {"0", "monitor", "repeat checks|go to Watch"}, {"0", "background checks", "repeat checks"},
	// sessions
	{"0", "add", "new session"}, {"0", "create", "new session"}, {"0", "add host", "new session"}, {"0", "new server", "new session"}, {"0", "paste command", "new session"}, {"0", "import", "new session|import fingerprints"},
	{"0", "rename", "rename"}, {"0", "duplicate", "copy the session"}, {"0", "clone", "copy the session|launch another"}, {"0", "delete", "remove"}, {"0", "forget", "remove"}, {"0", "edit", "edit"}, {"0", "change port", "edit"},
	{"0", "change user", "edit"}, {"0", "settings", "edit"}, {"0", "hostname", "edit"}, {"0", "bulk", "edit marked sessions"}, {"0", "several", "edit marked sessions|run a command on marked sessions"}, {"0", "favourite", "mark"},
	{"0", "select", "mark"}, {"0", "sort", "sort"}, {"0", "recent", "sort"}, {"0", "filter", "find"}, {"0", "search", "find"}, {"0", "undo", "undo an edit"}, {"0", "revert", "undo an edit"}, {"0", "redo", "redo an edit"},
	{"0", "reload", "reload the sessions file"}, {"0", "refresh", "reload the sessions file"}, {"0", "toml", "mistakes in the sessions file"}, {"0", "syntax", "mistakes in the sessions file"}, {"0", "diagram", "draw a map of all"},
	{"0", "pdf", "draw a map of all"}, {"0", "svg", "draw a map of all"}, {"0", "topology", "draw a map of all"},
	// forwards
	{"0", "forward", "port forwards|new port forward"}, {"0", "port", "port forwards|new port forward"}, {"0", "proxy", "new port forward"}, {"0", "socks", "port forwards|new port forward"}, {"0", "tunnel", "new port forward|port forwards"},
	{"0", "local port", "new port forward"}, {"0", "remote forward", "new port forward"}, {"0", "database", "new port forward"}, {"0", "mysql", "new port forward"}, {"0", "postgres", "new port forward"}, {"0", "rdp", "new port forward"},
	{"0", "vnc", "new port forward"}, {"0", "x11", "new port forward"}, {"0", "browser", "new port forward"}, {"0", "web page", "new port forward"}, {"0", "close port", "port forwards, one by one|close the port forward"},
	{"0", "listener", "port forwards, one by one|close the port forward"}, {"0", "traffic", "go to Watch"}, {"0", "connections", "go to Watch|write the flows"}, {"0", "bandwidth", "go to Watch"}, {"0", "disconnect", "end the link|end …"},
	{"0", "kill", "end the link|end …"}, {"0", "chart", "draw the chart|go to Watch"}, {"0", "graph", "go to Watch|draw the chart"},
	// keys
	{"0", "pem", "go to Keys|file format"}, {"0", "private key", "go to Keys"}, {"0", "generate", "new key"}, {"0", "keygen", "new key"}, {"0", "passphrase", "passphrase"}, {"0", "password", "passphrase"}, {"0", "convert", "file format"},
	{"0", "ppk", "file format|go to Keys"}, {"0", "authorized_keys", "install"}, {"0", "copy key", "install"}, {"0", "public key", "install|write the public key"}, {"0", "rotate", "rotate"}, {"0", "fingerprint", "find a key|import fingerprints"},
	{"0", "which key", "find the accepted key"}, {"0", "try keys", "find the accepted key"}, {"0", "agent", "agent forwarding for one shell|go to Ring"}, {"0", "agent forwarding", "agent forwarding for one shell"}, {"0", "unlock", "add to the agent|unlock"},
	{"0", "ssh-add", "add to the agent"}, {"0", "stray", "search the account for stray keys"}, {"0", "audit keys", "search the account for stray keys"}, {"0", "download folder", "to the key that arrived|another folder"},
	{"0", "windows password", "decrypt a first password|decrypt the first password"}, {"0", "known_hosts", "go to Hosts"}, {"0", "known hosts", "go to Hosts"}, {"0", "trust", "go to Hosts|end the trust|trust the announced key"}, {"0", "sshfp", "write SSHFP"},
	{"0", "certificate authority", "new signing key"}, {"0", "certificate", "go to Leases|new signing key"}, {"0", "revoke", "withdraw…|go to Leases"}, {"0", "approve", "go to Leases|approve…"},
	// cloud
	{"0", "cloud", "go to Estate"}, {"0", "instance", "go to Estate|the instance and routes to it"}, {"0", "vm", "go to Estate"}, {"0", "launch", "launch another"}, {"0", "stop instance", "stop the instance"}, {"0", "start instance", "start the instance"},
	{"0", "terminate", "terminate the instance"}, {"0", "firewall", "edit firewall rules|go to Estate|the instance and routes to it"}, {"0", "security group", "edit firewall rules|the instance and routes to it"}, {"0", "open ports", "open ports and who reaches them"},
	{"0", "exposed", "open ports and who reaches them"}, {"0", "unused", "not used for a week"}, {"0", "serial console", "console output"}, {"0", "boot log", "console output"}, {"0", "key pair", "key pairs"}, {"0", "gateway", "machines joined at gateways|audit log of a gateway or an issuer"},
	{"0", "public ip", "go to Estate"}, {"0", "unreachable", "the instance and routes to it|all remedies"},
	// files
	{"0", "upload", "files|upload"}, {"0", "download", "files|download"}, {"0", "sftp", "files|go to Cargo"}, {"0", "scp", "files|go to Cargo"}, {"0", "copy files", "files"}, {"0", "transfer", "files|start the transfer"}, {"0", "browse", "files|go to Cargo"},
	{"0", "sync", "files|go to Cargo"}, {"0", "remote edit", "files|edit in your editor"}, {"0", "resume", "files|resume the interrupted transfer"}, {"0", "checksum", "files|compare by content"}, {"0", "hidden files", "files|all files or differences"},
	{"0", "put", "files"}, {"0", "get", "files"},
	// the program
	{"0", "log", "go to Trail|audit log of a gateway or an issuer|details"}, {"0", "history", "go to Trail"}, {"0", "audit", "go to Trail|search the account for stray keys|audit log of a gateway or an issuer"}, {"0", "who connected", "draw the last day|audit log of a gateway or an issuer"},
	{"0", "jobs", "go to Jobs"}, {"0", "background", "go to Jobs|repeat checks"}, {"0", "theme", "set look.…"}, {"0", "colours", "set look.…"}, {"0", "dark mode", "set look.…"}, {"0", "shortcut", "all keys"}, {"0", "help", "all keys"},
	{"0", "quit", "quit Meatus"}, {"0", "exit", "quit Meatus"}, {"0", "keepalive", "set keepalive"},
}

// What people of the trade type finds what they mean within the first four lines.
func TestTheWordsOfTheTradeFindWhatIsMeant(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	here := ""
	for _, c := range trade {
		if c.place != here {
			a.do(a.goToPlace(c.place, "gauge-1"))
			here = c.place
		}
		a.find(c.query)
		items := layer[*findLayer](a.stack).Items()
		var first []string
		found := slices.ContainsFunc(items[:min(len(items), 4)], func(i finder.Item) bool {
			first = append(first, i.Say)
			return slices.ContainsFunc(strings.Split(c.does, "|"), func(want string) bool {
				start, open := strings.CutSuffix(want, "…")
				return i.Say == want || open && strings.HasPrefix(i.Say, start)
			})
		})
		if !found {
			t.Errorf("%q finds %q, and not %q", c.query, first, c.does)
		}
		a.press("esc")
	}
}
