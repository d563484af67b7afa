package login

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
)

// askLogin asks the server which of the hop's keys it would take for the hop's login, by their
// public halves: nothing is signed and nobody is logged in. A key that nobody has is asked
// about first, see [Walker.WouldTake].
func (h *handshake) askLogin() error {
	nobodys, err := throwaway()
	if err != nil {
		return err
	}
	keys := []ssh.PublicKey{nobodys}
	var names, closed []string
	for _, path := range h.Hop.Keys {
		sheet, err := keyfile.Look(path)
		if _, stopped := sheet.Blocked(); stopped || err != nil {
			continue // its own gate says why
		}
		if sheet.Public == nil {
			closed = append(closed, sanitize.Name(path))
			continue
		}
		keys, names = append(keys, sheet.Public), append(names, sanitize.Name(path))
	}
	h.asking = &question{keys: keys}
	if err := h.shake(); err != nil {
		return err
	}
	if len(h.asking.answers) > 0 { // else its identity is not known, or it wants no key
		h.Tell(h.wouldLogin(names, closed))
	}
	return nil
}

// wouldLogin is the login gate by what the server said of keys of these names; closed are
// those whose public half is not known.
func (h *handshake) wouldLogin(names, closed []string) gate.Gate {
	user := sanitize.Line(h.Hop.User, 40)
	g := gate.Gate{Kind: gate.Login, Seen: user}
	answers := h.asking.answers
	var taken, refused []string
	for i, a := range answers[1:] {
		if a.Takes {
			taken = append(taken, names[i])
		} else {
			refused = append(refused, names[i])
		}
		g.Detail = append(g.Detail, fmt.Sprintf("%s: %s", names[i], map[bool]string{true: "accepted", false: "not accepted"}[a.Takes]))
	}
	others := slices.DeleteFunc(slices.Clone(h.asking.methods), func(m string) bool { return m != "password" && m != "keyboard-interactive" })
	switch {
	case answers[0].Takes:
		g.Verdict, g.Reason = gate.Ajar, "the server says that it accepts any key, even one that does not exist, so its answer proves nothing"
		g.Remedy.Say = "connect to find out"
	case len(taken) > 0:
		g.Verdict, g.Seen = gate.Open, fmt.Sprintf("%s, accepted: %s; not logged in", user, strings.Join(taken, ", "))
	case len(closed) > 0:
		g.Verdict, g.Reason = gate.Ajar, fmt.Sprintf("the public key of %s is not known, so the server could not be asked about it", strings.Join(closed, ", "))
		g.Remedy.Say = "write the public key to a file beside it: in Keys, or meatus key public"
	case len(refused) == 0:
		g.Seen = user + ", no key to ask about"
	case len(others) > 0:
		g.Verdict, g.Reason = gate.Ajar, fmt.Sprintf("the server accepts none of %s, but asks for: %s", strings.Join(refused, ", "), strings.Join(others, ", "))
		g.Remedy = gate.Remedy{Say: "install the key there, or log in with the answer", Act: gate.Choose}
	default:
		g.Verdict, g.Reason = gate.Shut, fmt.Sprintf("the server accepts none of %s for user %s", strings.Join(refused, ", "), user)
		g.Remedy = gate.Remedy{Say: "check the user name, or install the key there", Act: gate.Choose}
	}
	return g
}
