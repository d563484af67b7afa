package vouch

import (
	"encoding/hex"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
	"meatus/core/sanitize"
)

// Expected is a fingerprint that somebody said a host's key has. It vouches for
// nothing: on a first visit it is compared, and a person still says yes.
type Expected struct {
	Host   string    `toml:"host"`
	Port   int       `toml:"port"`
	Print  string    `toml:"print"`          // "SHA256:…", "SHA1:…" or "MD5:…", as pairs of hexadecimal digits or base64
	Kind   string    `toml:"kind,omitempty"` // of the key, as [KindOf] names it; "" where that is not said
	Source string    `toml:"source"`
	When   time.Time `toml:"when"`
	By     string    `toml:"by"`
}

// KindOf names the kind of a key as tools print it behind a fingerprint: "ED25519", "ECDSA", "RSA", "DSA"; ""
// for others.
func KindOf(key ssh.PublicKey) string {
	switch kind := key.Type(); {
	case kind == ssh.KeyAlgoED25519:
		return "ED25519"
	case strings.HasPrefix(kind, "ecdsa-"):
		return "ECDSA"
	case kind == ssh.KeyAlgoRSA:
		return "RSA"
	case kind == "ssh-dss":
		return "DSA"
	}
	return ""
}

// Agree tells which of what is expected a key is, and where it is none of them what is expected in its
// place: those that are said to be of its kind. Both are empty where nothing that is expected is about it.
func Agree(expected []Expected, key ssh.PublicKey) (same *Expected, others []Expected) {
	for i, e := range expected {
		m, ok := Compare(e.Print, key)
		switch {
		case ok && m.Same:
			return &expected[i], nil
		case ok && e.Kind != "" && e.Kind == KindOf(key):
			others = append(others, e)
		}
	}
	return nil, others
}

// ExpectedOf lists what is expected of a host's key.
func (r *Record) ExpectedOf(host string, port int) ([]Expected, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	var of []Expected
	for _, e := range r.expected {
		if name(e.Host, e.Port) == name(host, port) {
			of = append(of, e)
		}
	}
	return of, nil
}

// Expect remembers expected fingerprints, those that are not remembered yet.
func (r *Record) Expect(list []Expected, when time.Time) (added int, err error) {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return 0, err
	}
	defer unlock()
	var fresh []Expected
	for _, e := range list {
		there, err := r.ExpectedOf(e.Host, e.Port)
		if err != nil {
			return 0, err
		}
		known := false
		for _, t := range append(there, fresh...) {
			known = known || t.Print == e.Print && name(t.Host, t.Port) == name(e.Host, e.Port)
		}
		if !known {
			e.When, e.By = when.UTC().Truncate(time.Second), account()
			fresh = append(fresh, e)
		}
	}
	if len(fresh) == 0 {
		return 0, nil
	}
	text, err := r.text()
	if err != nil {
		return 0, err
	}
	return len(fresh), r.put(text, file{Expected: fresh})
}

// maxImport is how long a text with fingerprints can be, in bytes.
const maxImport = 4 << 20

// ReadExpected reads expected fingerprints from a text: SSHFP resource records
// (RFC 4255, with the digests and algorithms of RFC 6594, 7479 and 8709) as they
// stand in a zone file, or lines with a host and a fingerprint or a public key in
// them, in any order. A line without a host is for host and port where those are
// given. It tells each line that it could make nothing of.
func ReadExpected(text, host string, port int) (list []Expected, unread []string) {
	if len(text) > maxImport {
		return nil, []string{fmt.Sprintf("the text is longer than %d bytes", maxImport)}
	}
	if strings.Contains(strings.ToUpper(text), "SSHFP") {
		return readZone(text, port)
	}
	for n, line := range strings.Split(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, ";") {
			continue
		}
		e, ok := readExpectedLine(line)
		if e.Host == "" {
			e.Host, e.Port = host, port
		}
		if !ok || e.Host == "" {
			unread = append(unread, fmt.Sprintf("line %d: no host and fingerprint in %q", n+1, sanitize.Line(line, 60)))
			continue
		}
		list = append(list, e)
	}
	return list, unread
}

// readExpectedLine finds a fingerprint or public key, and a host before it.
func readExpectedLine(line string) (e Expected, ok bool) {
	e.Port, e.Source = 22, "a list"
	words := strings.Fields(line)
	for i, w := range words {
		if i+1 < len(words) {
			if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(w + " " + words[i+1])); err == nil {
				e.Print, ok = ssh.FingerprintSHA256(key), true
				break
			}
		}
		if sum, isPrint := readPrint(w); isPrint && (strings.Contains(w, ":") || len(w) >= 40) {
			e.Print, ok = writePrint(sum), true
			break
		}
	}
	for _, w := range words {
		w = strings.TrimSuffix(strings.Trim(w, "(),;"), ":")
		w, _, _ = strings.Cut(w, ",") // the first of several names
		at, port := w, "22"
		if strings.HasPrefix(w, "[") || strings.Count(w, ":") == 1 {
			var err error
			if at, port, err = net.SplitHostPort(w); err != nil {
				continue
			}
		}
		n, err := strconv.Atoi(port)
		if err == nil && (net.ParseIP(at) != nil || strings.Contains(at, ".") && isName(at)) {
			e.Host, e.Port = strings.ToLower(at), n
			break
		}
	}
	return e, ok
}

// readZone reads SSHFP records as they stand in a zone file (RFC 1035 section 5).
func readZone(text string, port int) (list []Expected, unread []string) {
	if port == 0 {
		port = 22
	}
	for _, r := range zoneRecords(text) {
		sum, err := hex.DecodeString(r.digest)
		kind := map[string]string{"1": "SHA1", "2": "SHA256"}[r.kind]
		if err != nil || kind == "" || digestName(len(sum)) != kind || !isName(r.owner) {
			unread = append(unread, fmt.Sprintf("%s: its digest is none of SHA-1 and SHA-256", sanitize.Line(r.owner, 60)))
			continue
		}
		list = append(list, Expected{Host: strings.ToLower(r.owner), Port: port, Print: writePrint(sum), Source: "SSHFP records"})
	}
	return list, unread
}

// sshfpNumbers are the algorithm numbers of SSHFP records: RFC 4255, 6594, 7479.
var sshfpNumbers = map[string]uint8{
	ssh.KeyAlgoRSA: 1, ssh.KeyAlgoECDSA256: 3, ssh.KeyAlgoECDSA384: 3, ssh.KeyAlgoECDSA521: 3, ssh.KeyAlgoED25519: 4,
}

// SSHFP is the accepted keys of hosts as SSHFP resource records with SHA-256
// digests, a line each, for a zone file. A key of a kind that has no number is
// left out, and so is a host that is an address.
func SSHFP(vouches []Vouch) string {
	var b strings.Builder
	for _, v := range vouches {
		key, err := v.PublicKey()
		number := sshfpNumbers[v.Algorithm]
		if err != nil || number == 0 || !v.Current() || net.ParseIP(v.Host) != nil {
			continue
		}
		fmt.Fprintf(&b, "%s IN SSHFP %d 2 %s\n", strings.TrimSuffix(v.Host, ".")+".", number, hex.EncodeToString(digest256(key)))
	}
	return b.String()
}
