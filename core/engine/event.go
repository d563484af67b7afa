package engine

import (
	"meatus/core/event"
	"meatus/core/words"
	"meatus/core/workspace"
)

// Notice is something that a person is to be told, beside what they are doing.
type Notice struct {
	event.Note
	Say string
}

// Changed says that the workspace is another now: it was edited, by us or by others.
type Changed struct {
	event.Note
	Workspace *workspace.Workspace
	Session   string // that the edit was made for, or ""
	Say       string // what was done, or ""
	Ours      bool   // the edit was made here
	Estate    string // that was read and gave something else, "" where the file was edited
}

// KeysGone says that the ring has forgotten its keys, and why.
type KeysGone struct {
	event.Note
	Why  string
	Keys int
}

// Say words it.
func (g KeysGone) Say() string {
	return g.Why + ": " + words.Count(g.Keys, "key") + " gone from the ring"
}
