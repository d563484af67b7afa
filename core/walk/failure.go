package walk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/sanitize"
)

// Words is an error's text without the library's preamble, cleaned: part
// of it may be the other side's.
func Words(err error) string {
	text := strings.TrimPrefix(err.Error(), "ssh: handshake failed: ")
	return sanitize.Line(strings.TrimPrefix(text, "ssh: "), 160)
}

// dialFailure words why the first hop could not be connected to.
func (l *Link) dialFailure(p *patience, addr string, err error) *gate.Failure {
	var timeout net.Error
	switch {
	case p.ranOut(), errors.Is(err, syscall.ETIMEDOUT), errors.As(err, &timeout) && timeout.Timeout():
		return l.fail(gate.Port, gate.NoAnswer, "no answer from "+addr,
			fmt.Sprintf("nothing answered at %s within %s", addr, l.w.Patience),
			"see whether the machine is up, whether the address is still its own, and whether the port is open from here", err)
	case errors.Is(err, syscall.ECONNREFUSED):
		return l.fail(gate.Port, gate.Refused, addr+" refused",
			fmt.Sprintf("the machine at %s answers, but nothing listens on that port", addr),
			"check the port; if the machine has just started, give it a moment", err)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return l.fail(gate.Address, gate.Unreachable, addr+" unreachable",
			fmt.Sprintf("there is no way from here to %s", addr),
			"see whether this machine is on the network; a private address needs a via", err)
	}
	return l.fail(gate.Port, gate.Unexpected, addr, "connecting failed: "+Words(err), "see whether this machine is on the network", err)
}

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
	{"timed out", gate.Port, gate.NoAnswer, "%[3]s got no answer from %[2]s", "see whether %[1]s is up and lets %[3]s knock there"},
	{"no route", gate.Address, gate.FarUnreachable, "%[3]s has no way to %[2]s", "see whether %[1]s is up and in a network that %[3]s can reach"},
	{"unreachable", gate.Address, gate.FarUnreachable, "%[3]s has no way to %[2]s", "see whether %[1]s is up and in a network that %[3]s can reach"},
	{"not known", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"resolve", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"no address", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"no such host", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
	{"name resolution", gate.Address, gate.NoAddress, "%[3]s does not know the name in %[2]s", "check the spelling, or write the address"},
}

// onwardFailure words why the hop below could not open the way to this one.
func (l *Link) onwardFailure(p *patience, err error) *gate.Failure {
	bastion, addr := l.below.hop.Name, l.hop.Knock()
	var at *line.Refusal
	if errors.As(err, &at) {
		return l.gatewayRefusal(at)
	}
	var refusal *ssh.OpenChannelError
	if !errors.As(err, &refusal) {
		if p.ranOut() {
			return l.fail(gate.Port, gate.NoAnswer, "no answer from "+addr,
				fmt.Sprintf("%s got no answer from %s within %s", bastion, addr, l.w.Patience),
				fmt.Sprintf("see whether %s is up and lets %s knock there", l.hop.Name, bastion), err)
		}
		if f := l.below.failure(); f != nil {
			return f
		}
		f := l.below.hungUp(err)
		l.below.cancel(f) // whoever walks now makes a new link
		return f
	}
	said := sanitize.Line(refusal.Message, 120)
	detail := []string{fmt.Sprintf("%s said: %q", bastion, said)}
	if refusal.Reason == ssh.ConnectionFailed {
		for _, w := range farWords {
			if strings.Contains(strings.ToLower(said), w.word) {
				f := l.fail(w.gate, w.cause, string(w.cause),
					fmt.Sprintf(w.why, l.hop.Name, addr, bastion), filled(w.mend, l.hop.Name, addr, bastion), err)
				f.Detail = detail
				return f
			}
		}
		f := l.fail(gate.Address, gate.FarUnreachable, string(gate.FarUnreachable),
			fmt.Sprintf("%s could not connect to %s", bastion, addr),
			fmt.Sprintf("see whether %s is up and lets %s knock there", l.hop.Name, bastion), err)
		f.Detail = detail
		return f
	}
	f := l.fail(gate.Channel, gate.OnwardForbidden, string(gate.OnwardForbidden),
		fmt.Sprintf("%s does not let this login go on to %s", bastion, addr),
		fmt.Sprintf("have whoever runs %s allow connections onward (TCP forwarding) for %s", bastion, l.below.hop.User), err)
	if refusal.Reason == ssh.ResourceShortage {
		f.Cause, f.Why, f.Remedy.Say = gate.ChannelRefused, bastion+" has no room for one connection more", "close what is not needed, then walk again"
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

// classify words a handshake that failed without a failure of its own.
func (h *handshake) classify(err error) *gate.Failure {
	l := h.l
	greeting := l.conn.greeting()
	ssher := bytes.HasPrefix(greeting, []byte("SSH-")) || bytes.Contains(greeting, []byte("\nSSH-"))
	var common *ssh.AlgorithmNegotiationError
	switch {
	case errors.As(err, &common):
		f := l.fail(gate.Identity, gate.NoCommon, "no common "+common.What,
			fmt.Sprintf("this program and %s share no algorithm for the %s", l.hop.Name, common.What),
			"have the server's software brought up to date; what it offers is no longer safe", err)
		here, there := algorithms(common.SupportedAlgorithms), algorithms(common.RequestedAlgorithms)
		if slices.ContainsFunc(there, func(name string) bool { return !outdated(name) }) {
			f.Remedy.Say = "have the server offer one of those named here, too; some of what it offers is sound, and not known to this program"
		}
		f.Detail = []string{"here: " + list(here), "there: " + list(there)}
		return f
	case h.p.ranOut() && !introduced(greeting) && (ssher || len(greeting) == 0):
		return l.fail(gate.Port, gate.NoAnswer, "connected, then silence",
			fmt.Sprintf("%s took the connection and did not introduce itself within %s", l.hop.Knock(), l.w.Patience),
			"the machine may still be starting, or something in between holds the line; try again", err)
	case !ssher && turnsAway(greeting):
		l.w.guests.turnedAway(l.server())
		f := l.fail(gate.Port, gate.Busy, "busy",
			fmt.Sprintf("%s is an SSH server that turns connections away for now; it is asked more slowly for %s", l.hop.Name, strictTime),
			"wait until it takes connections again; it counts those that come fast, and those without a login", err)
		f.Detail = []string{fmt.Sprintf("it said: %q", sanitize.Line(string(greeting), 160))}
		return f
	case len(greeting) > 0 && !ssher:
		f := l.fail(gate.Port, gate.NotSSH, "not an SSH server",
			fmt.Sprintf("something answers at %s, but it is no SSH server", l.hop.Knock()),
			"check the port; another service listens there", err)
		f.Detail = []string{fmt.Sprintf("it said: %q", sanitize.Line(string(greeting), 160))}
		return f
	case h.p.ranOut():
		return l.fail(h.at, gate.NoAnswer, "silence in the middle",
			fmt.Sprintf("%s stopped answering for %s", l.hop.Name, l.w.Patience), "see whether the line is up, then walk the route again", err)
	case len(greeting) == 0:
		return l.fail(gate.Port, gate.ServerClosed, "closed before a word",
			fmt.Sprintf("%s took the connection and closed it without a word", l.hop.Knock()),
			"the server may be full, or refuse this address; ask whoever runs it", err)
	}
	why := fmt.Sprintf("%s closed the session", l.hop.Name)
	if !errors.Is(err, io.EOF) {
		why += ": " + Words(err)
	}
	f := l.fail(h.at, gate.ServerClosed, "closed by the server", why, "the log of that machine has the reason; too many tries are a frequent one", err)
	if len(h.signers) > 0 && h.at == gate.Login {
		f.Detail = h.login.told()
	}
	return f
}

// algorithms is a list of algorithms without those that name none: what a side can do beside
// the exchange is told in the same list (RFC 8308 section 2.1).
func algorithms(names []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		return strings.HasPrefix(name, "ext-info-") || strings.HasPrefix(name, "kex-strict-")
	})
}

// outdated tells whether an algorithm is held unsafe: by the library, or for what it is
// made of.
func outdated(name string) bool {
	bad := ssh.InsecureAlgorithms()
	for _, list := range [][]string{bad.KeyExchanges, bad.Ciphers, bad.MACs, bad.HostKeys} {
		if slices.Contains(list, name) {
			return true
		}
	}
	return slices.ContainsFunc([]string{"sha1", "md5", "-cbc", "arcfour", "ssh-dss", "none"}, func(part string) bool { return strings.Contains(name, part) })
}

// busyWords are what servers say before they introduce themselves (RFC 4253 section 4.2
// allows lines there) where they turn a connection away for a time.
var busyWords = []string{"not allowed at this time", "exceeded maxstartups", "too many", "try again later", "connection limit", "server is busy", "temporarily"}

// turnsAway tells whether a greeting is that of a busy server.
func turnsAway(greeting []byte) bool {
	said := strings.ToLower(string(greeting))
	return !strings.HasPrefix(said, "http/") && slices.ContainsFunc(busyWords, func(w string) bool { return strings.Contains(said, w) })
}

// introduced tells whether a server's greeting holds a whole version line (RFC
// 4253 section 4.2).
func introduced(greeting []byte) bool {
	for line := range bytes.Lines(greeting) {
		if bytes.HasPrefix(line, []byte("SSH-")) && bytes.HasSuffix(line, []byte("\n")) {
			return true
		}
	}
	return false
}

func list(names []string) string { return sanitize.Line(strings.Join(names, ", "), 300) }
