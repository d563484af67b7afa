package link

import (
	"errors"
	"fmt"
	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/sanitize"
	"meatus/core/step"
	"strings"

	"golang.org/x/crypto/ssh"
)

// farWords are the words servers use for why they could not connect onward.
// The protocol has one number for all of them (RFC 4254 section 5.1).
var farWords = []struct {
	word  string
	gate  gate.Kind
	cause gate.Cause
	why   string // of hop, address, bastion
	mend  string
}{
	{"refused", gate.Port, gate.Refused, "%[3]s reaches the machine of %[1]s, but nothing listens at %[2]s", "check the port; if the machine has just started, give it a moment"},
	{"timed out", gate.Port, gate.NoAnswer, "%[3]s got no answer from %[2]s", "check whether %[1]s is up and accepts connections from %[3]s"},
	{"no route", gate.Address, gate.FarUnreachable, "%[3]s has no way to %[2]s", "check whether %[1]s is up, in a network that %[3]s can reach"},
	{"unreachable", gate.Address, gate.FarUnreachable, "%[3]s has no way to %[2]s", "check whether %[1]s is up, in a network that %[3]s can reach"},
	{"not known", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"resolve", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"no address", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"no such host", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"name resolution", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
}

// OnwardFailure words why the link's machine could not open the way to the next hop.
func (l *Link) OnwardFailure(s *step.Step, p *step.Patience, err error) *gate.Failure {
	bastion, addr := l.hop.Name, s.Hop.Knock()
	var at *line.Refusal
	if errors.As(err, &at) {
		return l.gatewayRefusal(s, at)
	}
	var refusal *ssh.OpenChannelError
	if !errors.As(err, &refusal) {
		if p.RanOut() {
			return s.Fail(gate.Port, gate.NoAnswer, "no answer from "+addr,
				fmt.Sprintf("%s had no answer from %s within %s", bastion, addr, s.Limit),
				fmt.Sprintf("check whether %s is up and accepts connections from %s", s.Hop.Name, bastion), err)
		}
		if f := l.Failure(); f != nil {
			return f
		}
		f := l.hungUp(err)
		l.cancel(f) // whoever walks now makes a new link
		return f
	}
	said := sanitize.Line(refusal.Message, 120)
	detail := []string{fmt.Sprintf("%s said: %q", bastion, said)}
	if refusal.Reason == ssh.ConnectionFailed {
		for _, w := range farWords {
			if strings.Contains(strings.ToLower(said), w.word) {
				f := s.Fail(w.gate, w.cause, string(w.cause),
					fmt.Sprintf(w.why, s.Hop.Name, addr, bastion), filled(w.mend, s.Hop.Name, addr, bastion), err)
				f.Detail = detail
				return f
			}
		}
		f := s.Fail(gate.Address, gate.FarUnreachable, string(gate.FarUnreachable),
			fmt.Sprintf("%s could not connect to %s", bastion, addr),
			fmt.Sprintf("check whether %s is up and accepts connections from %s", s.Hop.Name, bastion), err)
		f.Detail = detail
		return f
	}
	f := s.Fail(gate.Channel, gate.OnwardForbidden, string(gate.OnwardForbidden),
		fmt.Sprintf("%s does not allow this user to connect onward to %s", bastion, addr),
		fmt.Sprintf("ask the administrator of %s to allow TCP forwarding for %s", bastion, l.hop.User), err)
	if refusal.Reason == ssh.ResourceShortage {
		f.Cause, f.Why, f.Remedy.Say = gate.ChannelRefused, bastion+" has reached its limit of connections", "close connections that are not needed, then connect again"
	}
	f.Hop, f.Detail = bastion, detail
	return f
}

// filled fills a sentence that may use none of its words.
func filled(format string, args ...any) string {
	if !strings.Contains(format, "%") {
		return format
	}
	return fmt.Sprintf(format, args...)
}

// gatewayRefusal words why a gateway opens no stream to the machine behind it.
func (l *Link) gatewayRefusal(s *step.Step, refusal *line.Refusal) *gate.Failure {
	at, said := l.hop.Name, refusal.Say
	var f *gate.Failure
	switch refusal.Reason {
	case line.NotAllowed:
		f = s.Fail(gate.Channel, gate.OnwardForbidden, "not allowed", said, "ask the administrator of "+at+" to allow it in the policy", refusal)
		f.Remedy.Act, f.Remedy.Subject = gate.HandOn, said
	case line.NoRoom:
		f = s.Fail(gate.Channel, gate.ChannelRefused, "no room", said, "close connections that are not needed, or wait", refusal)
	default:
		f = s.Fail(gate.Address, gate.FarUnreachable, "not there", said, fmt.Sprintf("see whether %s is up, and whether it is joined at %s: meatus gateway join has to run there", s.Hop.Name, at), refusal)
		return f
	}
	f.Hop = at
	return f
}
