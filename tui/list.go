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
	{Key: "0", Mark: "⌂", Name: "Routes", Does: "every session as its way, and what stands in it", Also: "board home sessions", New: routes.New},
	{Key: "T", Mark: "≡", Name: "Trail", Does: "what was done, by whom, when", Also: "log journal history audit", New: journal.New},
	{Key: "Y", Mark: "▦", Name: "Estate", Does: "the instances, how they stand, and the ways to them", Also: "instances cloud machines networks inventory servers", New: estates.New},
	{Key: "Q", Mark: "▷", Name: "Cargo", Does: "files here and there as one tree, moved by a plan", Also: "files transfer copy upload download sync mirror", New: cargo.New},
	{Key: "H", Mark: "◇", Name: "Hosts", Does: "their identities: who vouched for what, and the history", Also: "known fingerprints host keys", New: hosts.New},
	{Key: "K", Mark: "▤", Name: "Keys", Does: "every key file, how it stands, and what it opens", Also: "private pem files identities", New: keys.New},
	{Key: "W", Mark: "∿", Name: "Watch", Does: "what is alive: links, tunnels, what flows through them", Also: "connections traffic monitor live", New: watch.New},
	{Key: "G", Mark: "◯", Name: "Ring", Does: "keys held in memory, who may use them, who did", Also: "agent memory lent", New: ring.New},
	{Key: "9", Mark: "◷", Name: "Leases", Does: "where one may log in for a while, and what waits for a yes", Also: "issuer certificate temporary access agree approve", New: leases.New},
	{Key: "J", Mark: "≣", Name: "Jobs", Does: "what takes its time: sweeps, installs, rotations, drawings", Also: "background tasks progress", New: jobs.New},
}
