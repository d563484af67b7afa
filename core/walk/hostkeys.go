package walk

import (
	"bytes"
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/vouch"
)

// certified judges a host's certificate: it is good where a signing key that is
// vouched for the host's name signed it, for that name, at this time.
func (h *handshake) certified(cert *ssh.Certificate) error {
	l := h.l
	signers, err := l.w.Vouched.SignersFor(l.hop.Host)
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
	if err := checker.CheckHostKey(l.hop.Address(), nil, cert); err != nil {
		f := l.fail(gate.Identity, gate.IdentityChanged, "a certificate that does not hold",
			fmt.Sprintf("%s shows a certificate that does not hold: %s", l.hop.Name, Words(err)),
			"ask whoever signs the hosts there; until then nothing is sent to it", err)
		f.Detail = []string{"signed by " + by, fmt.Sprintf("for %q", cert.ValidPrincipals), "valid " + vouch.Span(cert)}
		return h.give(f)
	}
	l.tell(0, gate.Gate{Kind: gate.Identity, Verdict: gate.Open,
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
	h.l.Go(func() {
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
				h.l.Go(func() { h.learn(conn, payload) })
			}
		}
	})
	return out
}

// learn records the announced keys that are new and that the server proves to
// have: it signs the session's identifier with each of them. What it cannot
// prove is passed over; only a host whose own key is vouched for is listened to.
func (h *handshake) learn(conn ssh.Conn, payload []byte) {
	l := h.l
	vouched, err := l.w.Vouched.Of(l.hop.Host, l.hop.Port)
	if err != nil || len(vouched) == 0 {
		return
	}
	var fresh []ssh.PublicKey
	var ask []byte
	for len(payload) > 0 && len(fresh) < maxAnnounced {
		var each struct {
			Blob []byte
			Rest []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(payload, &each) != nil {
			return
		}
		payload = each.Rest
		key, err := ssh.ParsePublicKey(each.Blob)
		if err != nil {
			continue // of a kind we do not know
		}
		if _, isCert := key.(*ssh.Certificate); isCert {
			continue
		}
		if standing, _, err := l.w.Vouched.Judge(l.hop.Host, l.hop.Port, key); err != nil || standing == vouch.Known {
			continue
		}
		fresh = append(fresh, key)
		ask = append(ask, ssh.Marshal(struct{ Blob []byte }{each.Blob})...)
	}
	if len(fresh) == 0 {
		return
	}
	ok, answer, err := conn.SendRequest(proveRequest, true, ask)
	if err != nil || !ok {
		return
	}
	said := Learned{Place: h.place()}
	for _, key := range fresh {
		var proof struct {
			Signature []byte
			Rest      []byte `ssh:"rest"`
		}
		var signature ssh.Signature
		if ssh.Unmarshal(answer, &proof) != nil || ssh.Unmarshal(proof.Signature, &signature) != nil {
			return
		}
		answer = proof.Rest
		signed := ssh.Marshal(struct {
			Request string
			Session []byte
			Key     []byte
		}{proveRequest, conn.SessionID(), key.Marshal()})
		if key.Verify(signed, &signature) != nil {
			said.Unproven = append(said.Unproven, key.Type()+" "+ssh.FingerprintSHA256(key))
			continue
		}
		if err := l.w.Vouched.Add(l.hop.Host, l.hop.Port, key, l.hop.Knock(), time.Now(), vouch.Announced); err == nil {
			said.Keys = append(said.Keys, key.Type()+" "+ssh.FingerprintSHA256(key))
		}
	}
	if len(said.Keys)+len(said.Unproven) > 0 {
		l.w.tell(said)
	}
}
