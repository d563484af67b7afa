package tui

import (
	"meatus/tui/cargo"
	"meatus/tui/estates"
	"meatus/tui/hosts"
	"meatus/tui/jobs"
	"meatus/tui/journal"
	"meatus/tui/keys"
	"meatus/tui/leases"
	"meatus/tui/place"
	"meatus/tui/ring"
	"meatus/tui/routes"
	"meatus/tui/watch"
)

// places are all places but the shells, home first: what goes there from anywhere, the mark and the
// name in the switcher, and what it is for. A new place is a folder and a line here.
var places = []place.Entry{
	{Key: "0", Mark: "⌂", Name: "Routes", Does: "sessions, their routes and their problems", Also: "board home machines hosts connect", New: routes.New},
	{Key: "T", Mark: "≡", Name: "Trail", Does: "the audit log: who did what, and when", Also: "journal history log audit events", New: journal.New},
	{Key: "Y", Mark: "▦", Name: "Estate", Does: "cloud instances, networks and firewall rules", Also: "machines inventory vm servers public ip address start stop launch terminate security group", New: estates.New},
	{Key: "Q", Mark: "▷", Name: "Cargo", Does: "files: upload, download, edit, compare", Also: "transfer copy sync mirror sftp scp browse editor file manager", New: cargo.New},
	{Key: "H", Mark: "◇", Name: "Hosts", Does: "trusted host keys and their history", Also: "known fingerprints identities", New: hosts.New},
	{Key: "K", Mark: "▤", Name: "Keys", Does: "key files: permissions, kinds, what each opens", Also: "private public pem identities log in without a password upload my public key generate", New: keys.New},
	{Key: "W", Mark: "∿", Name: "Watch", Does: "live connections, port forwards and their traffic", Also: "monitor tunnels links bandwidth graph chart connections", New: watch.New},
	{Key: "G", Mark: "◯", Name: "Ring", Does: "the SSH agent: keys in memory and their uses", Also: "lent forwarding", New: ring.New},
	{Key: "9", Mark: "◷", Name: "Leases", Does: "short-lived certificates and requests for approval", Also: "issuer revoke temporary access agree approve certificate authority", New: leases.New},
	{Key: "J", Mark: "≣", Name: "Jobs", Does: "background jobs and their steps", Also: "tasks progress", New: jobs.New},
}
