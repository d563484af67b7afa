package route

import (
	"fmt"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
)

// StateGate judges how an instance stands, by what its estate said last: whether it runs and its start-up
// checks are passed, else since when, and what is to be done.
func StateGate(i *book.Binding) gate.Gate {
	g := gate.Gate{Kind: gate.State, Seen: i.State}
	if !i.Since.IsZero() {
		g.Seen += " since " + when(i.Since)
	}
	shut := func(why, remedy string, act gate.Act) {
		g.Verdict, g.Reason, g.Remedy = gate.Shut, why, gate.Remedy{Say: remedy, Act: act}
	}
	switch i.State {
	case "running":
		g.Verdict = gate.Open
		switch i.Checks {
		case "passed":
			g.Seen += ", its checks are passed"
		case "initializing":
			g.Verdict, g.Reason = gate.Ajar, i.Name+" runs, but its start-up checks have not passed yet"
			g.Remedy = gate.Remedy{Say: "wait: it may not answer before", Act: gate.Wait}
		case "failing":
			g.Verdict, g.Reason = gate.Ajar, i.Name+" runs, but its start-up checks fail"
			g.Remedy.Say = "see its console output; restart it if nothing else helps"
		}
	case "starting":
		shut(i.Name+" is starting", "wait until it runs", gate.Choose)
	case "stopping":
		shut(i.Name+" is being stopped", "wait until it has stopped, then start it", gate.ByHand)
	case "stopped":
		shut(i.Name+" is stopped", "start it, then wait until it runs", gate.Choose)
	case "ended":
		shut(i.Name+" was terminated", "bind the session to the instance that replaced it", gate.ByHand)
	case "failed":
		why := i.Name + " has failed"
		if i.Wrong != "" {
			why += ": " + i.Wrong
		}
		shut(why, "see its state in Estate", gate.ByHand)
	}
	if i.Wrong != "" && i.State != "failed" {
		g.Detail = append(g.Detail, "the estate says: "+i.Wrong)
	}
	if i.Stale != "" {
		g.Detail = append(g.Detail, fmt.Sprintf("as of %s: estate %s could not be read since: %s", when(i.Read), i.Source, i.Stale))
		g.Seen += ", as of " + when(i.Read)
	}
	return g
}

func when(t time.Time) string { return t.Local().Format("2 Jan 15:04") }
