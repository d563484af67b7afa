package record

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Kept is a head as somebody keeps it elsewhere: NUMBER:DIGEST, or NUMBER:DIGEST:SIGNATURE. The signature is one of SSH
// (RFC 4253, section 6.6), in base64 for URLs without padding (RFC 4648, section 5), of a line that says what it is for
// and NUMBER:DIGEST.
type Kept struct {
	Head
	signature string
}

// headPurpose comes first in what is signed, so that the signature serves for nothing else.
const headPurpose = "meatus head of a record\n"

// String writes a head as NUMBER:DIGEST.
func (h Head) String() string { return fmt.Sprintf("%d:%s", h.Number, h.Digest) }

// ParseKept reads a head that was kept.
func ParseKept(text string) (Kept, error) {
	parts := strings.SplitN(text, ":", 3)
	var k Kept
	n, err := strconv.ParseInt(parts[0], 10, 64)
	if err != nil || n < 0 || len(parts) < 2 || len(parts[1]) != 64 {
		return k, errors.New("it is not written NUMBER:DIGEST")
	}
	k.Head = Head{Number: n, Digest: parts[1]}
	if len(parts) == 3 {
		k.signature = parts[2]
	}
	return k, nil
}

// Sign returns the text of a head with a signature by a key.
func (h Head) Sign(key ssh.Signer) (string, error) {
	signature, err := key.Sign(rand.Reader, []byte(headPurpose+h.String()))
	if err != nil {
		return "", err
	}
	return h.String() + ":" + base64.RawURLEncoding.EncodeToString(ssh.Marshal(signature)), nil
}

// Check fails where a kept head carries no signature by a key.
func (k Kept) Check(key ssh.PublicKey) error {
	if k.signature == "" {
		return errors.New("what was kept is not signed")
	}
	var signature ssh.Signature
	wire, err := base64.RawURLEncoding.DecodeString(k.signature)
	if err == nil {
		err = ssh.Unmarshal(wire, &signature)
	}
	if err == nil {
		err = key.Verify([]byte(headPurpose+k.String()), &signature)
	}
	if err != nil {
		return errors.New("the signature of what was kept does not hold: it was changed, or another key signed it")
	}
	return nil
}
