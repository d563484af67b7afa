package keyfile

import (
	"bytes"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Container is the form a private key is stored in.
type Container string

// The open containers that are read.
const (
	PKCS1          Container = "PKCS#1"           // RFC 8017 appendix A.1.2, RSA only
	SEC1           Container = "SEC1"             // RFC 5915, ECDSA only
	PKCS8          Container = "PKCS#8"           // RFC 5208
	PKCS8Encrypted Container = "PKCS#8 encrypted" // RFC 5958 section 3
	Bcrypt         Container = "bcrypt container" // "openssh-key-v1", bcrypt key derivation
)

var pemContainers = map[string]Container{
	"RSA PRIVATE KEY":       PKCS1,
	"EC PRIVATE KEY":        SEC1,
	"PRIVATE KEY":           PKCS8,
	"ENCRYPTED PRIVATE KEY": PKCS8Encrypted,
	"OPENSSH PRIVATE KEY":   Bcrypt,
}

// NotAKey says why a file's text is no private key that can be read, in words
// for a person, and what to do about it.
type NotAKey struct {
	Say  string
	Mend string
	none bool // there is none in it, not even one that cannot be read
}

func (e *NotAKey) Error() string { return e.Say + "; " + e.Mend }

var (
	beginLine   = regexp.MustCompile(`-----\s*BEGIN ([A-Z0-9 ]+?)\s*-----`)
	foreignForm = regexp.MustCompile(`(?i)^-{2,}\s?BEGIN [^\n]*(KEY|SSH2)|^[A-Za-z][A-Za-z0-9-]*-key-file-\d+:|^[A-Za-z-]*(Private|Public)-Lines:`)
	publicLine  = regexp.MustCompile(`^(ssh-(rsa|dss|ed25519)|ecdsa-sha2-[a-z0-9-]+|sk-[a-z0-9@.-]+) +[A-Za-z0-9+/]`)
	certLine    = regexp.MustCompile(`^[a-z0-9@.-]+-cert-v\d+@[a-z.]+ +[A-Za-z0-9+/]`)
)

// unwrap finds the key in text that may have been damaged by pasting, and says
// what it put right. It fails with a [NotAKey].
func unwrap(text []byte) (*pem.Block, []string, error) {
	if block := fromDER(text); block != nil {
		return block, nil, nil
	}
	clean, repairs := straighten(text)
	defer clear(clean)
	for rest := clean; ; {
		block, after := pem.Decode(rest)
		if block == nil {
			break
		}
		if block.Type == "EC PARAMETERS" { // some tools write the curve before the key
			rest = after
			continue
		}
		if err := refuse(block.Type); err != nil {
			return nil, repairs, err
		}
		return block, repairs, nil
	}
	begin := beginLine.FindSubmatchIndex(clean)
	if begin == nil {
		return nil, nil, noKey(clean)
	}
	label := string(clean[begin[2]:begin[3]])
	if err := refuse(label); err != nil {
		return nil, nil, err
	}
	block, what := rebuild(label, clean[begin[1]:])
	if block == nil {
		return nil, nil, &NotAKey{Say: what, Mend: "copy the whole key again, from its BEGIN line to its END line"}
	}
	return block, append(repairs, what), nil
}

// straighten undoes what editors and terminals do to a text: byte order marks,
// line ends of other systems, indentation, a missing last line break. What it returns is
// a copy.
func straighten(text []byte) ([]byte, []string) {
	var repairs []string
	text = append(make([]byte, 0, len(text)+1), text...) // with room for a line break
	if t := bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")); len(t) != len(text) {
		text, repairs = t, append(repairs, "a byte order mark stands before it")
	}
	if bytes.IndexByte(text, '\r') >= 0 {
		n := 0
		for i, c := range text {
			switch {
			case c == '\r' && i+1 < len(text) && text[i+1] == '\n':
				continue
			case c == '\r':
				c = '\n'
			}
			text[n] = c
			n++
		}
		clear(text[n:])
		text = text[:n]
		repairs = append(repairs, "its line ends are not of Unix")
	}
	lines := bytes.Split(text, []byte("\n"))
	indented := false
	n := 0
	for i, line := range lines { // the text is made shorter in its place
		trimmed := bytes.TrimSpace(line)
		indented = indented || len(trimmed) != len(line)
		n += copy(text[n:], trimmed)
		if i < len(lines)-1 {
			text[n] = '\n'
			n++
		}
	}
	clear(text[n:])
	text = text[:n]
	if indented {
		repairs = append(repairs, "its lines are indented or end in blanks")
	}
	if n := len(text); n > 0 && text[n-1] != '\n' {
		text = append(text, '\n')
		if bytes.HasSuffix(bytes.TrimSpace(text), []byte("-----")) {
			repairs = append(repairs, "its last line break is missing")
		}
	}
	return text, repairs
}

// rebuild puts a key back together whose line breaks were lost. It returns nil
// and the reason where the meaning is not certain.
func rebuild(label string, rest []byte) (*pem.Block, string) {
	end := bytes.Index(rest, []byte("-----END "+label+"-----"))
	if end < 0 {
		return nil, "the key is cut short: its END line is missing"
	}
	body := bytes.Join(bytes.Fields(rest[:end]), nil)
	defer clear(body)
	if bytes.ContainsRune(body, ':') {
		return nil, "the line breaks of its header lines are lost"
	}
	raw := make([]byte, base64.StdEncoding.DecodedLen(len(body)))
	n, err := base64.StdEncoding.Decode(raw, body)
	if raw = raw[:n]; err != nil || n == 0 {
		return nil, "the key is damaged: the text between BEGIN and END is not base64"
	}
	return &pem.Block{Type: label, Bytes: raw}, "its line breaks were lost"
}

func refuse(label string) error {
	if _, ok := pemContainers[label]; ok {
		return nil
	}
	switch {
	case strings.Contains(label, "PUBLIC KEY"):
		return &NotAKey{Say: "this is a public key, the half that goes to servers", Mend: "name the private half", none: true}
	case strings.Contains(label, "CERTIFICATE"):
		return &NotAKey{Say: "this is a certificate, not a private key", Mend: "name the private key it was made for", none: true}
	case label == "DSA PRIVATE KEY":
		return notTaken("a DSA key, which servers no longer accept")
	case strings.Contains(label, "PRIVATE KEY"):
		return foreign(label)
	}
	return &NotAKey{Say: fmt.Sprintf("this is a %q, not a private key", strings.ToLower(label)), Mend: "name a private key file", none: true}
}

func foreign(what string) error {
	return &NotAKey{
		Say:  fmt.Sprintf("the container %q is one program's own", what),
		Mend: "have that program export the key as PKCS#8 or PKCS#1 (PEM), or in the bcrypt container",
	}
}

// maxFirst is how much of a text is looked at to say what else it is, in bytes: its
// beginning tells.
const maxFirst = 16 << 10

// noKey says what a text without a private key in it is instead.
func noKey(text []byte) error {
	text = bytes.TrimSpace(text)
	first, _, _ := bytes.Cut(text, []byte("\n"))
	first = first[:min(len(first), maxFirst)]
	switch {
	case len(text) == 0:
		return &NotAKey{Say: "the file is empty", Mend: "copy the key into it again", none: true}
	case certLine.Match(first):
		return &NotAKey{Say: "this is a certificate, not a private key", Mend: "name the private key it was made for", none: true}
	case publicLine.Match(first), bytes.HasPrefix(first, []byte("---- BEGIN SSH2 PUBLIC KEY")):
		return &NotAKey{Say: "this is a public key, the half that goes to servers", Mend: "name the private half", none: true}
	case foreignForm.Match(text[:min(len(text), maxFirst)]):
		return foreign(shortLabel(first))
	case bytes.Contains(text, []byte("-----END ")):
		return &NotAKey{Say: "the key is cut short: its BEGIN line is missing", Mend: "copy the whole key again"}
	}
	return &NotAKey{Say: "there is no key in this file", Mend: "name a private key file", none: true}
}

func shortLabel(line []byte) string {
	s := strings.Trim(string(line), "- ")
	s = strings.TrimPrefix(s, "BEGIN ")
	if name, _, ok := strings.Cut(s, ":"); ok {
		s = name
	}
	if len(s) > 40 {
		s = s[:40]
	}
	return strings.ToValidUTF8(s, "")
}

// bcryptOuter is what the bcrypt container shows without its passphrase.
type bcryptOuter struct {
	CipherName string
	KdfName    string
	KdfOpts    string
	NumKeys    uint32
	PubKey     []byte
	PrivBlock  []byte
	Tag        []byte `ssh:"rest"` // of the ciphers that have one
}

const bcryptMagic = "openssh-key-v1\x00"

// outer reads the public part of a bcrypt container.
func outer(der []byte) (bcryptOuter, error) {
	var o bcryptOuter
	if !bytes.HasPrefix(der, []byte(bcryptMagic)) {
		return o, &NotAKey{Say: "the key is damaged: its inner mark is missing", Mend: "copy the whole key again"}
	}
	if err := ssh.Unmarshal(der[len(bcryptMagic):], &o); err != nil {
		return o, &NotAKey{Say: "the key is cut short or damaged inside", Mend: "copy the whole key again"}
	}
	if o.CipherName == "none" && len(o.Tag) > 0 {
		return o, &NotAKey{Say: "the key is damaged: there is extra data behind the key", Mend: "copy the whole key again"}
	}
	if o.NumKeys != 1 {
		return o, &NotAKey{Say: fmt.Sprintf("the file holds %d keys", o.NumKeys), Mend: "keep one key in a file"}
	}
	return o, nil
}

// comment reads the comment of an unlocked bcrypt container, which stands
// behind the key's own fields; "" where there is none or it cannot be told.
func (o bcryptOuter) comment() string {
	if o.CipherName != "none" {
		return ""
	}
	var head struct {
		Check1, Check2 uint32
		Type           string
		Rest           []byte `ssh:"rest"`
	}
	if ssh.Unmarshal(o.PrivBlock, &head) != nil {
		return ""
	}
	fields := map[string]int{"ssh-rsa": 6, "ssh-ed25519": 2, "ecdsa-sha2-nistp256": 3, "ecdsa-sha2-nistp384": 3, "ecdsa-sha2-nistp521": 3}[head.Type]
	rest := head.Rest
	for i := 0; i <= fields; i++ {
		var f struct {
			Value []byte
			Rest  []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(rest, &f) != nil {
			return ""
		}
		if i == fields && fields > 0 {
			return string(f.Value)
		}
		rest = f.Rest
	}
	return ""
}
