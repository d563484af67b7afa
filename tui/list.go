package tui

import (
	"meatus/tui/hosts"
	"meatus/tui/jobs"
	"meatus/tui/journal"
	"meatus/tui/keys"
	"meatus/tui/place"
	"meatus/tui/ring"
	"meatus/tui/routes"
	"meatus/tui/watch"
)

// places are all places but the shells, home first: what goes there, the mark and the
// name in the switcher, and what it is for. A new place is a folder and a line here.
var places = []place.Entry{
	{Key: "0", Mark: "⌂", Name: "Routes", Does: "every session as its way, and what stands in it", New: routes.New},
	{Key: "t", Mark: "≡", Name: "Trail", Does: "what was done, by whom, when", New: journal.New},
	{Key: "h", Mark: "◇", Name: "Hosts", Does: "their identities: who vouched for what, and the history", New: hosts.New},
	{Key: "K", Mark: "▤", Name: "Keys", Does: "every key file, how it stands, and what it opens", New: keys.New},
	{Key: "W", Mark: "∿", Name: "Watch", Does: "what is alive: links, tunnels, what flows through them", New: watch.New},
	{Key: "g", Mark: "◯", Name: "Ring", Does: "keys held in memory, who may use them, who did", New: ring.New},
	{Key: "J", Mark: "≣", Name: "Jobs", Does: "what takes its time: sweeps, installs, rotations, drawings", New: jobs.New},
}

// fromHome are the places that a key of Routes goes to; t is another thing there.
var fromHome = []string{"h", "K", "g", "W", "J"}
