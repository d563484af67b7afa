package ring

import (
	"bytes"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"

	"meatus/core/sanitize"
)

// request is what a signature is asked for, as far as it can be read.
type request struct {
	session []byte // the session's identifier, of a login
	login   string // the login it is for, cleaned; "" where it is no login
	host    string // fingerprint of the host the login is bound to, or ""
	kind    string // in words where it is no login
}

// readRequest reads what a signature is asked for: a login request with a public
// key (RFC 4252 section 7), the form of it that is bound to a host, a signature in
// a namespace, or something else.
func readRequest(data []byte, key ssh.PublicKey) request {
	if rest, ok := bytes.CutPrefix(data, []byte("SSHSIG")); ok {
		var named struct {
			Namespace string
			Rest      []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(rest, &named) == nil && named.Namespace != "" {
			return request{kind: "a signature for " + sanitize.Line(named.Namespace, 40)}
		}
	}
	other := request{kind: "a signature of what is no login"}
	var r struct {
		Session   []byte
		Kind      byte
		User      string
		Service   string
		Method    string
		Has       bool
		Algorithm string
		Key       []byte
		Rest      []byte `ssh:"rest"`
	}
	const userAuthRequest = 50
	if ssh.Unmarshal(data, &r) != nil || r.Kind != userAuthRequest || !r.Has {
		return other
	}
	if asked, err := ssh.ParsePublicKey(r.Key); err != nil || !same(bare(asked), bare(key)) {
		return other
	}
	login := request{session: r.Session, login: sanitize.Line(r.User, 60)}
	if login.login != r.User || r.User == "" { // with runes that do not show it is still a login, of another account
		login.login = sanitize.Line(fmt.Sprintf("%q", r.User), 80)
	}
	switch r.Method {
	case "publickey":
		return login
	case "publickey-hostbound-v00@openssh.com":
		var bound struct{ Host []byte }
		if ssh.Unmarshal(r.Rest, &bound) == nil {
			if k, err := ssh.ParsePublicKey(bound.Host); err == nil {
				login.host = ssh.FingerprintSHA256(k)
			}
		}
		return login
	}
	return other
}

// bare is the key that a certificate is for, or the key itself.
func bare(key ssh.PublicKey) ssh.PublicKey {
	if cert, ok := key.(*ssh.Certificate); ok {
		return cert.Key
	}
	return key
}

// binding says that a line to the agent is used in a session with a host: the
// host's own signature of the session's identifier proves it.
type binding struct {
	host      ssh.PublicKey
	session   []byte
	forwarded bool // the line is passed on to that host
}

// maxBindings is how many sessions a line may be bound to: one for each machine it
// is passed on through.
const maxBindings = 16

var (
	errBinding  = errors.New("the session's binding to its host is not signed by that host")
	errBindings = errors.New("the line is bound to a login already, or to too many sessions")
)

// readBinding reads the payload of a "session-bind@openssh.com" extension and
// verifies it.
func readBinding(payload []byte) (b binding, err error) {
	var m struct {
		Host, Session, Signature []byte
		Forwarded                bool
	}
	if err := ssh.Unmarshal(payload, &m); err != nil {
		return b, err
	}
	if b.host, err = ssh.ParsePublicKey(m.Host); err != nil {
		return b, err
	}
	var signature ssh.Signature
	if err := ssh.Unmarshal(m.Signature, &signature); err != nil {
		return b, err
	}
	if len(m.Session) == 0 || b.host.Verify(m.Session, &signature) != nil {
		return b, errBinding
	}
	b.session, b.forwarded = m.Session, m.Forwarded
	return b, nil
}
