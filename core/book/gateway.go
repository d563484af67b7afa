package book

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// Gateway is a relay that machines without an open port have dialled out to. What is said of it as of any first
// hop, its keys, proxy and keepalive, stands in its session, which is no session of the book. Paths are as
// written.
//
// An issuer of leases has a table of the same form, and is none: it leads nowhere.
type Gateway struct {
	*Session
	Issuer       bool
	URL          Value[[]string] // "wss://HOST[:PORT][/PATH]"; the next where one does not answer
	CA           Value[string]   // a file with the certificates that sign the gateway's, in place of the system's
	HostKeys     Value[[]string] // the fingerprints of its keys, one for each gateway of a store, or where something else ends TLS before it
	Certificate  Value[string]   // a file with a client certificate and its key
	TokenFile    Value[string]   // a file with a bearer token, which nobody else may read
	TokenCommand Value[[]string] // or a program and its arguments, which prints it
	Device       Value[string]   // or an identity provider's URL, for the device grant (RFC 8628)
	DeviceClient Value[string]   // and what we are called there
}

// DefaultGatewayPort is the port of a gateway's URL that names none (RFC 6455 section 3).
const DefaultGatewayPort = 443

// checkGateway takes the URL of a gateway: over TLS alone.
func checkGateway(s string) (say, hint string) {
	const how = `write it like "wss://gateway.lantern.example"`
	u, err := url.Parse(s)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" || !ValidHost(u.Hostname()):
		return fmt.Sprintf("%q is no gateway", sanitize.Line(s, 60)), how
	case u.Scheme != "wss":
		return "a gateway is reached over TLS alone", how
	}
	if port, err := strconv.Atoi(u.Port()); u.Port() != "" && (err != nil || port < 1 || port > 65535) {
		return fmt.Sprintf("%s is no port", sanitize.Line(u.Port(), 20)), how
	}
	return "", ""
}

// checkFingerprint takes a key's SHA-256 fingerprint.
func checkFingerprint(s string) (say, hint string) {
	digest, ok := strings.CutPrefix(s, "SHA256:")
	if sum, err := base64.RawStdEncoding.DecodeString(digest); !ok || err != nil || len(sum) != 32 {
		return fmt.Sprintf("%q is no fingerprint", sanitize.Line(s, 60)), `write it like "SHA256:…", as "meatus gateway serve" says it at its start`
	}
	return "", ""
}

// gateway is what the table of a gateway says.
func (r *reader) gateway(t *table) *Gateway {
	r.current = t
	g := t.gateway
	switch {
	case t.broken != nil:
	case !g.URL.Set || len(g.URL.V) == 0:
		r.spoil(r.problem(t.at, fmt.Sprintf("%s %s does not say where it is", g.word(), t.name), `write url = "wss://HOST"`))
	case g.Device.Set != g.DeviceClient.Set:
		r.spoil(r.problem(t.at, fmt.Sprintf("%s %s names one of device and device_client", g.word(), t.name), "name both: the identity provider's URL, and what this program is called there"))
	case g.TokenFile.Set && g.TokenCommand.Set, g.Device.Set && (g.TokenFile.Set || g.TokenCommand.Set):
		r.spoil(r.problem(t.at, fmt.Sprintf("%s %s names two tokens", g.word(), t.name), "keep one of token_file, token_command and device"))
	}
	g.Session = r.session(t)
	if len(g.URL.V) > 0 {
		host, port := HostOfURL(g.URL.V[0])
		g.Host, g.Port = Value[string]{V: host, Set: true}, Value[int]{V: port, Set: true}
	}
	return g
}

// word is what it is.
func (g *Gateway) word() string {
	if g.Issuer {
		return "issuer"
	}
	return "gateway"
}

// withArticle is a word for a service with its article.
func withArticle(word string) string {
	if word == "issuer" {
		return "an issuer"
	}
	return "a " + word
}

// Issuer is the issuer that a session has leases of, and the machine's name there; "" where it has none.
func (s *Session) Issuer() (issuer, machine string) {
	if s.Lease.V == "off" {
		return "", ""
	}
	issuer, machine, named := strings.Cut(s.Lease.V, "/")
	if !named {
		machine = s.Name
	}
	return issuer, machine
}

// checkLease takes an issuer's name, and the machine's there behind a slash.
func checkLease(s string) (say, hint string) {
	issuer, machine, named := strings.Cut(s, "/")
	if !ValidName(issuer) || named && !ValidName(machine) {
		return fmt.Sprintf("%q names no issuer", sanitize.Line(s, 60)), `write the name of an issuer's table, "bay", behind a slash the machine's name there where that is another than the session's, or "off"`
	}
	return "", ""
}

// HostOfURL is the host and the port of a gateway's URL.
func HostOfURL(s string) (host string, port int) {
	u, err := url.Parse(s)
	if err != nil {
		return "", 0
	}
	if port, err = strconv.Atoi(u.Port()); err != nil {
		port = DefaultGatewayPort
	}
	return u.Hostname(), port
}

// inGateways is a setting of a session that has a meaning for a gateway, too.
func inGateways(s setting) setting {
	s.in |= inServices
	return s
}

// inServices are the layers of what persons log in to.
const inServices = 1<<InGateway | 1<<InIssuer

// ofGateway is a text of a gateway's table.
func ofGateway(name string, of func(*Gateway) *Value[string], check check) setting {
	return setting{name: name, in: inServices, literal: textLiteral,
		read: func(t *table, v tomltext.Value, o Origin) (string, string) {
			return readText(of(t.gateway), v, o, check)
		}}
}

// orOfGateway is a setting of an estate's table that a gateway's has too, read by another function there.
func orOfGateway(s setting, read func(g *Gateway, v tomltext.Value, o Origin) (say, hint string)) setting {
	of := s.read
	s.in |= inServices
	s.read = func(t *table, v tomltext.Value, o Origin) (string, string) {
		if t.gateway != nil {
			return read(t.gateway, v, o)
		}
		return of(t, v, o)
	}
	return s
}
