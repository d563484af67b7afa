package login

import (
	"bytes"
	"errors"
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/step"
	"meatus/core/vouch"
)

// certified judges a host's certificate: it is good where a signing key that is
// vouched for the host's name signed it, for that name, at this time.
func (h *handshake) certified(cert *ssh.Certificate) error {
	signers, err := h.c.Vouched.SignersFor(h.Hop.Host)
	if err != nil {
		return h.give(h.recordUnreadable(err).(*gate.Failure))
	}
	by := ssh.FingerprintSHA256(cert.SignatureKey)
	var vouched *vouch.Signer
	for i := range signers {
		if signers[i].SHA256 == by {
			vouched = &signers[i]
		}
	}
	checker := ssh.CertChecker{IsHostAuthority: func(ssh.PublicKey, string) bool { return vouched != nil }}
	err = checker.CheckHostKey(h.Hop.Address(), nil, cert)
	switch {
	case err != nil:
	case len(cert.ValidPrincipals) == 0:
		err = errors.New("it names no host, so it would be valid for any")
	case cert.Signature.Format == ssh.KeyAlgoRSA:
		err = errors.New("it is signed with SHA-1, which can be forged")
	}
	if err == nil && h.c.Vouched.IsRevoked(by, cert.Serial) {
		err = errors.New("its issuer has revoked it")
	}
	if err != nil {
		f := h.Fail(gate.Identity, gate.IdentityChanged, "an invalid certificate",
			fmt.Sprintf("%s shows an invalid certificate: %s", h.Hop.Name, step.Words(err)),
			"ask the administrator of the CA; until then, nothing is sent to it", err)
		f.Detail = []string{"signed by " + by, fmt.Sprintf("for %q", cert.ValidPrincipals), "valid " + vouch.Span(cert)}
		return h.give(f)
	}
	h.Hear(0, gate.Gate{Kind: gate.Identity, Verdict: gate.Open,
		Seen:   fmt.Sprintf("certificate, %s, signer vouched %s", vouch.Span(cert), vouched.When.Local().Format("2 Jan 2006")),
		Detail: []string{"signed by " + by + " for " + vouched.Pattern}}, false)
	return nil
}

// The requests by which a server announces its host keys, and is asked to prove
// that it has them.
const (
	announceRequest = "hostkeys-00@openssh.com"
	proveRequest    = "hostkeys-prove-00@openssh.com"
)

// maxAnnounced is how many announced keys are looked at.
const maxAnnounced = 16

// requests takes the announcement of host keys out of a connection's global
// requests, and hands the others on.
func (h *handshake) requests(conn ssh.Conn, in <-chan *ssh.Request) <-chan *ssh.Request {
	out := make(chan *ssh.Request)
	h.Go(func() {
		defer close(out)
		learned := false
		for r := range in {
			if r.Type != announceRequest {
				out <- r
				continue
			}
			if r.WantReply {
				r.Reply(true, nil)
			}
			if !learned { // once for each link is enough for an honest server
				learned = true
				payload := bytes.Clone(r.Payload)
				h.Go(func() { h.learn(conn, payload) })
			}
		}
	})
	return out
}

// learn records the announced keys that are new and that the server proves to
// have: it signs the session's identifier with each of them. What it cannot
// prove is passed over. Only a host is listened to that shows a key which somebody
// vouched for: one that was itself only announced vouches for no other.
func (h *handshake) learn(conn ssh.Conn, payload []byte) {
	if !h.compared {
		return
	}
	var fresh []ssh.PublicKey
	var named []string
	var ask []byte
	for n := 0; len(payload) > 0; n++ {
		var each struct {
			Blob []byte
			Rest []byte `ssh:"rest"`
		}
		if n == maxNamed || ssh.Unmarshal(payload, &each) != nil {
			return
		}
		payload = each.Rest
		key, err := ssh.ParsePublicKey(each.Blob)
		if err != nil || keyfile.Oversized(key) {
			continue // of a kind we do not know, or too costly to look at
		}
		if _, isCert := key.(*ssh.Certificate); isCert {
			continue
		}
		named = append(named, ssh.FingerprintSHA256(key))
		if standing, _, err := h.c.Vouched.Judge(h.Hop.At(), key); err != nil || standing == vouch.Known || len(fresh) == maxAnnounced {
			continue
		}
		fresh = append(fresh, key)
		ask = append(ask, ssh.Marshal(struct{ Blob []byte }{each.Blob})...)
	}
	said := Learned{Place: h.Place()}
	var proven []ssh.PublicKey
	if len(fresh) > 0 {
		ok, answer, err := conn.SendRequest(proveRequest, true, ask)
		if err != nil {
			return
		}
		if ok {
			proven, said.Unproven = h.prove(conn, answer, fresh)
		}
	}
	added, err := h.c.Vouched.Announce(h.Hop.At(), proven, named, h.Hop.Knock(), time.Now())
	if err == nil {
		for _, key := range added {
			said.Keys = append(said.Keys, key.Type()+" "+ssh.FingerprintSHA256(key))
		}
	}
	if len(said.Keys)+len(said.Unproven) > 0 {
		h.Say(said)
	}
}

// maxNamed is how many keys an announcement may name; a longer one is passed over.
const maxNamed = 64

// prove reads which of some keys the server has signed with.
func (h *handshake) prove(conn ssh.Conn, answer []byte, keys []ssh.PublicKey) (proven []ssh.PublicKey, unproven []string) {
	for _, key := range keys {
		var proof struct {
			Signature []byte
			Rest      []byte `ssh:"rest"`
		}
		var signature ssh.Signature
		if ssh.Unmarshal(answer, &proof) != nil || ssh.Unmarshal(proof.Signature, &signature) != nil {
			return proven, unproven
		}
		answer = proof.Rest
		signed := ssh.Marshal(struct {
			Request string
			Session []byte
			Key     []byte
		}{proveRequest, conn.SessionID(), key.Marshal()})
		if signature.Format == ssh.KeyAlgoRSA || key.Verify(signed, &signature) != nil { // SHA-1 proves nothing any more
			unproven = append(unproven, key.Type()+" "+ssh.FingerprintSHA256(key))
			continue
		}
		proven = append(proven, key)
	}
	return proven, unproven
}
