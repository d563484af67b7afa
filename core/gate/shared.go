package gate

import "fmt"

// Shared is one cause that keeps one session or several shut.
type Shared struct {
	Hop      string // where it is, "" where that is another for each
	Gate     Gate
	First    string // the session that it was found at first
	Sessions int
}

// Say tells the cause once for all of its sessions.
func (s Shared) Say() string {
	say := fmt.Sprintf("%d sessions are shut for one reason: ", s.Sessions)
	if s.Hop != "" {
		say += s.Hop + ": "
	}
	say += fmt.Sprintf("%s: %s", s.Gate.Kind, s.Gate.Reason)
	if s.Gate.Remedy.Say != "" {
		say += "; " + s.Gate.Remedy.Say
	}
	return say
}
