package remote

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/step"
)

// TurnedAway is the error of a machine that lets a login in, prints which other login it wants (or that this one is not
// available), and ends it: images of clouds have that in place of a shell for root.
type TurnedAway struct {
	step.Place
	Login string // the login that it names, or ""
	Said  string // what it printed, cleaned
}

func (t *TurnedAway) Error() string {
	return fmt.Sprintf("%s ended the session of %s: %s", t.Hop, t.User, t.Said)
}

// How soon a login that is turned away ends, and how much of what it prints is kept, in bytes.
const (
	turnedTime = 30 * time.Second
	headSize   = 1 << 10
)

// What machines print that want another login, and that have none for this one. The forms are those of images of clouds and of
// nologin(8).
var (
	otherLogin = regexp.MustCompile(`(?i)\b(?:please )?(?:log ?-?in|connect|ssh) as (?:the )?(?:user(?:name)? )?["'` + "`" + `]?([a-z_][a-z0-9_.-]{0,31})["'` + "`" + `]?\s+(?:rather|instead|and)\b`)
	noLogin    = regexp.MustCompile(`(?i)\b(?:this account is (?:currently )?not available|account (?:is )?(?:disabled|locked|expired)|(?:shell|interactive) (?:access|login) is (?:disabled|not (?:allowed|permitted)))`)
)

// turnedAway reads what a program printed before it ended: the login that is wanted instead of user, "" for none that is
// named. ok is false where it says nothing of the kind.
func turnedAway(printed, user string) (login, said string, ok bool) {
	said = strings.TrimSpace(sanitize.Line(printed, 200))
	if m := otherLogin.FindStringSubmatch(said); m != nil && m[1] != user && !strings.EqualFold(m[1], "none") && book.ValidUser(m[1]) {
		return m[1], said, true
	}
	return "", said, noLogin.MatchString(said) || otherLogin.MatchString(said)
}

// turned is the failure of a login that the machine turned away: the program ended soon, with a status, after it printed so. A
// shell into which something was typed was none.
func (g *Program) turned(e Ending) *gate.Failure {
	if e.Err != nil || e.Status == 0 && e.Signal == "" || time.Since(g.began) > turnedTime || g.what == "shell" && g.given.Load() > 0 {
		return nil
	}
	h := g.link.Hop()
	g.headMu.Lock()
	login, said, ok := turnedAway(string(g.head), h.User)
	g.headMu.Unlock()
	if !ok {
		return nil
	}
	t := &TurnedAway{Place: step.Place{Session: g.of, Hop: h.Name, Address: h.Address(), User: h.User}, Login: login, Said: said}
	why, remedy := fmt.Sprintf("%s has no shell for user %s", h.Name, h.User), "use another user name in the session"
	if login != "" {
		why, remedy = fmt.Sprintf("%s asks for user %s, not %s", h.Name, login, h.User), "log in as "+login
	}
	f := step.Fail(h, gate.Login, gate.OtherLogin, h.User+" is turned away", why, remedy, t)
	f.Remedy.Act = gate.Choose
	f.Detail = []string{"it says: " + said}
	return f
}

// keepHead keeps the beginning of what the program prints.
func (g *Program) keepHead(p []byte) {
	if g.printed.Load() > headSize { // cheap for everything that prints more
		return
	}
	g.headMu.Lock()
	defer g.headMu.Unlock()
	g.head = append(g.head, p[:min(len(p), headSize-len(g.head))]...)
}
