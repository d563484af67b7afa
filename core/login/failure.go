package login

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"meatus/core/dial"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/step"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// classify words a handshake that failed without a failure of its own.
func (h *handshake) classify(err error) *gate.Failure {
	greeting := h.conn.Greeting()
	ssher := bytes.HasPrefix(greeting, []byte("SSH-")) || bytes.Contains(greeting, []byte("\nSSH-"))
	var common *ssh.AlgorithmNegotiationError
	switch {
	case errors.As(err, &common):
		f := h.Fail(gate.Identity, gate.NoCommon, "no common "+common.What,
			fmt.Sprintf("this program and %s have no %s in common", h.Hop.Name, common.What),
			"update the server's software; its algorithms are no longer safe", err)
		here, there := algorithms(common.SupportedAlgorithms), algorithms(common.RequestedAlgorithms)
		if slices.ContainsFunc(there, func(name string) bool { return !outdated(name) }) {
			f.Remedy.Say = "configure the server to also offer one of those named here; some of its own are safe, but not known to this program"
		}
		f.Detail = []string{"here: " + list(here), "there: " + list(there)}
		return f
	case h.p.RanOut() && !introduced(greeting) && (ssher || len(greeting) == 0):
		return h.Fail(gate.Port, gate.NoAnswer, "connected, then silence",
			fmt.Sprintf("%s accepted the connection, but sent nothing within %s", h.Hop.Knock(), h.Limit),
			"the machine may still be starting, or a firewall holds the connection; try again", err)
	case !ssher && turnsAway(greeting):
		h.c.Guests.TurnedAway(h.server)
		f := h.Fail(gate.Port, gate.Busy, "busy",
			fmt.Sprintf("%s refuses connections for now; connecting is slowed down for %s", h.Hop.Name, dial.StrictTime),
			"wait, then try again; it limits fast connections and those without a login", err)
		f.Detail = []string{fmt.Sprintf("it said: %q", sanitize.Line(string(greeting), 160))}
		return f
	case len(greeting) > 0 && !ssher:
		f := h.Fail(gate.Port, gate.NotSSH, "not an SSH server",
			fmt.Sprintf("%s answers, but not as an SSH server", h.Hop.Knock()),
			"check the port; another service listens there", err)
		f.Detail = []string{fmt.Sprintf("it said: %q", sanitize.Line(string(greeting), 160))}
		return f
	case h.p.RanOut():
		return h.Fail(h.at, gate.NoAnswer, "silence in the middle",
			fmt.Sprintf("%s stopped answering for %s", h.Hop.Name, h.Limit), "check the network, then connect again", err)
	case len(greeting) == 0:
		return h.Fail(gate.Port, gate.ServerClosed, "closed at once",
			fmt.Sprintf("%s accepted the connection and closed it at once", h.Hop.Knock()),
			"the server may be full, or refuse this address; ask its administrator", err)
	}
	why := fmt.Sprintf("%s closed the session", h.Hop.Name)
	if !errors.Is(err, io.EOF) {
		why += ": " + step.Words(err)
	}
	f := h.Fail(h.at, gate.ServerClosed, "closed by the server", why, "the reason is in that machine's log; too many tries are a common one", err)
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
