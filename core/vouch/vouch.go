// Package vouch keeps the identities of hosts: for each host, by name and port,
// the keys a person accepted, when, and at which address.
//
// It promises that a host is only ever judged by what stands in vouched.toml
// now, also where another program wrote it; that a record which cannot be read
// is an error and never "unknown host"; that what a person wrote into the file
// is kept; and that the file is written whole or not at all, by one program at
// a time.
//
// A judgement costs a look at the file's date, and a read where it changed.
package vouch

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
	"meatus/core/perm"
	"meatus/core/tomltext"
)

// FileName is the name of the record in a workspace.
const FileName = "vouched.toml"

// Vouch is one accepted key of a host.
type Vouch struct {
	Host      string    `toml:"host"` // name or address, as the session has it
	Port      int       `toml:"port"`
	Algorithm string    `toml:"algorithm"` // the key's type, RFC 4253 section 6.6
	SHA256    string    `toml:"sha256"`    // "SHA256:" and unpadded base64
	Key       string    `toml:"key"`       // wire form in base64
	When      time.Time `toml:"when"`
	By        string    `toml:"by"`      // the account that said yes
	Address   string    `toml:"address"` // where the key was first seen

	// How is set where no person said yes to this very key: [Announced] or
	// [Imported].
	How string `toml:"how,omitempty"`

	// Until and Ended are set on an earlier key, which is kept as history: when
	// it was replaced, and why.
	Until time.Time `toml:"until,omitempty"`
	Ended string    `toml:"ended,omitempty"`
}

// How a key came to be accepted without a first visit.
const (
	Announced = "announced and proven by the host" // after a login with a vouched key
	Imported  = "imported"                         // from a list a person gave
)

// Current tells whether the key is accepted, and not history.
func (v Vouch) Current() bool { return v.Until.IsZero() }

// Standing is how a presented key relates to the record.
type Standing uint8

// The standings of a key.
const (
	Unknown Standing = iota // nothing is vouched for this host
	Known                   // this very key is
	Changed                 // another key is, and this one is not
)

// Record is the file of vouches. It is safe to use from many goroutines.
type Record struct {
	path   string
	frozen bool  // it is a snapshot
	broken error // why the snapshot has nothing

	mu   sync.Mutex
	seen fs.FileInfo // what the vouches below were read from, nil for no file
	contents
}

// contents are what a record holds.
type contents struct {
	vouches  map[string][]Vouch
	signers  []Signer
	expected []Expected
}

// Open returns the record kept at path. The file need not exist yet.
func Open(path string) *Record { return &Record{path: path} }

// Snapshot is the record as it is now, for many questions in a row: it does not look at
// the file again, and is not for changing it.
func (r *Record) Snapshot() *Record {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := &Record{path: r.path, frozen: true, broken: r.refresh()}
	s.seen, s.contents = r.seen, r.contents
	return s
}

// Path is where the record is kept.
func (r *Record) Path() string { return r.path }

// Of lists what is vouched for a host now. It fails where the record cannot be
// read.
func (r *Record) Of(host string, port int) ([]Vouch, error) {
	all, err := r.History(host, port)
	var current []Vouch
	for _, v := range all {
		if v.Current() {
			current = append(current, v)
		}
	}
	return current, err
}

// History lists everything that is or was vouched for a host, oldest first.
func (r *Record) History(host string, port int) ([]Vouch, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	return r.vouches[name(host, port)], nil
}

// Elsewhere lists the other hosts that a key is vouched for now: an address that
// shows it may have moved to one of those machines.
func (r *Record) Elsewhere(host string, port int, key ssh.PublicKey) ([]Vouch, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	wire := base64.StdEncoding.EncodeToString(key.Marshal())
	var found []Vouch
	for at, list := range r.vouches {
		for _, v := range list {
			if at != name(host, port) && v.Current() && v.Key == wire {
				found = append(found, v)
			}
		}
	}
	slices.SortFunc(found, func(a, b Vouch) int { return a.When.Compare(b.When) })
	return found, nil
}

// Judge tells how a key presented by a host stands, with what is vouched for
// that host.
func (r *Record) Judge(host string, port int, key ssh.PublicKey) (Standing, []Vouch, error) {
	vouched, err := r.Of(host, port)
	if err != nil {
		return Unknown, nil, err
	}
	if len(vouched) == 0 {
		return Unknown, nil, nil
	}
	wire := base64.StdEncoding.EncodeToString(key.Marshal())
	for _, v := range vouched {
		if v.Key == wire {
			return Known, vouched, nil
		}
	}
	return Changed, vouched, nil
}

// Accept vouches for a host's key. A key that is vouched for already is left
// as it is. The file is written before Accept returns.
func (r *Record) Accept(host string, port int, key ssh.PublicKey, address string, when time.Time) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	switch standing, _, err := r.Judge(host, port, key); {
	case err != nil:
		return err
	case standing == Known:
		return nil
	}
	return r.append(host, port, key, address, when, "")
}

// Add accepts a further key of a host, beside those it has; how says by what
// right. A key that is vouched for already is left as it is.
func (r *Record) Add(host string, port int, key ssh.PublicKey, address string, when time.Time, how string) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	standing, _, err := r.Judge(host, port, key)
	if err != nil || standing == Known {
		return err
	}
	return r.append(host, port, key, address, when, how)
}

func (r *Record) append(host string, port int, key ssh.PublicKey, address string, when time.Time, how string) error {
	text, err := os.ReadFile(r.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return r.write(text, host, port, key, address, when, how)
}

// Replace makes key the one accepted key of a host, and what was vouched for it
// until now history, with the reason. Only that host's entries change. The file
// is written before Replace returns.
func (r *Record) Replace(host string, port int, key ssh.PublicKey, address string, when time.Time, why string) error {
	return r.ending(host, port, when, why, func(_, text []byte) error {
		return r.write(text, host, port, key, address, when, "")
	})
}

// ending makes what is vouched for a host history, and gives the text before and
// after to write, which is to put it on disk.
func (r *Record) ending(host string, port int, when time.Time, why string, write func(before, after []byte) error) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	text, err := os.ReadFile(r.path)
	if err != nil {
		return err
	}
	if _, err := parse(filepath.Base(r.path), text); err != nil {
		return err
	}
	after, err := retire(text, host, port, when, why)
	if err != nil {
		return err
	}
	return write(text, after)
}

// retire gives every current entry of a host its end, as lines of their own
// behind its last, and leaves every other byte alone.
func retire(text []byte, host string, port int, when time.Time, why string) ([]byte, error) {
	type entry struct {
		other bool // it vouches for no host
		host  string
		port  string
		ended bool
		last  int // the offset behind its last value
	}
	var entries []entry
	err := tomltext.Read(text, func(e tomltext.Entry) {
		if e.Header {
			entries = append(entries, entry{other: e.Keys[0].Text != "vouched"})
			return
		}
		if len(entries) == 0 {
			return
		}
		at := &entries[len(entries)-1]
		at.last = e.To
		switch e.Keys[0].Text {
		case "host":
			at.host = e.Value.Text()
		case "port":
			at.port = e.Value.Text()
		case "until":
			at.ended = true
		}
	})
	if err != nil {
		return nil, err
	}
	for _, at := range slices.Backward(entries) {
		n, _ := strconv.Atoi(at.port)
		if at.ended || at.other || name(at.host, n) != name(host, port) {
			continue
		}
		end, err := toml.Marshal(struct {
			Until time.Time `toml:"until"`
			Ended string    `toml:"ended"`
		}{when.UTC().Truncate(time.Second), why})
		if err != nil {
			return nil, err
		}
		behind := len(text)
		if i := bytes.IndexByte(text[at.last:], '\n'); i >= 0 {
			behind = at.last + i + 1
		} else {
			end = append([]byte("\n"), end...)
		}
		text = slices.Concat(text[:behind], end, text[behind:])
	}
	return text, nil
}

// write puts an entry behind text and writes the file.
func (r *Record) write(text []byte, host string, port int, key ssh.PublicKey, address string, when time.Time, how string) error {
	return r.put(text, file{Vouched: []Vouch{{
		Host: host, Port: port, Algorithm: key.Type(), SHA256: ssh.FingerprintSHA256(key),
		Key:  base64.StdEncoding.EncodeToString(key.Marshal()),
		When: when.UTC().Truncate(time.Second), By: account(), Address: address, How: how,
	}}})
}

// put writes entries behind text.
func (r *Record) put(text []byte, entries file) error {
	if len(bytes.TrimSpace(text)) > 0 {
		text = append(bytes.TrimRight(text, "\n"), "\n\n"...)
	}
	added, err := toml.Marshal(entries)
	if err != nil {
		return err
	}
	return atomicfile.Write(r.path, append(text, added...))
}

type file struct {
	Vouched  []Vouch    `toml:"vouched,omitempty"`
	Signer   []Signer   `toml:"signer,omitempty"`
	Expected []Expected `toml:"expected,omitempty"`
}

// refresh reads the file where it is not the one read last.
func (r *Record) refresh() error {
	if r.frozen {
		return r.broken
	}
	info, err := os.Stat(r.path)
	if errors.Is(err, fs.ErrNotExist) {
		r.seen, r.contents = nil, contents{}
		return nil
	}
	if err != nil {
		return err
	}
	if err := perm.Judge(r.path); err != nil { // who can write it can vouch for any machine
		return err
	}
	if r.seen != nil && os.SameFile(r.seen, info) && r.seen.ModTime().Equal(info.ModTime()) && r.seen.Size() == info.Size() {
		r.seen = info // its mode may be another
		return nil
	}
	text, err := os.ReadFile(r.path)
	if err != nil {
		return err
	}
	read, err := parse(filepath.Base(r.path), text)
	if err != nil {
		return err
	}
	r.seen, r.contents = info, read
	return nil
}

// Exposed tells whether others can read the record, and with what mode: it says
// where its owner goes.
func (r *Record) Exposed() (mode fs.FileMode, exposed bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.refresh() != nil || r.seen == nil {
		return 0, false
	}
	mode = r.seen.Mode().Perm()
	return mode, mode&0o077 != 0
}

func parse(named string, text []byte) (c contents, err error) {
	var f file
	err = toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f)
	var bad *toml.DecodeError
	var strange *toml.StrictMissingError
	switch {
	case errors.As(err, &bad):
		line, column := bad.Position()
		return c, fmt.Errorf("%s:%d:%d: %s; mend or remove that entry", named, line, column, bad.Error())
	case errors.As(err, &strange) && len(strange.Errors) > 0:
		line, column := strange.Errors[0].Position()
		return c, fmt.Errorf("%s:%d:%d: unknown key %q; remove it", named, line, column, strings.Join(strange.Errors[0].Key(), "."))
	case err != nil:
		return c, fmt.Errorf("%s: %w", named, err)
	}
	vouches := map[string][]Vouch{}
	for i, v := range f.Vouched {
		wire, err := base64.StdEncoding.DecodeString(v.Key)
		if err == nil {
			var key ssh.PublicKey
			if key, err = ssh.ParsePublicKey(wire); err == nil && ssh.FingerprintSHA256(key) != v.SHA256 {
				err = errors.New("its key and its fingerprint do not belong together")
			}
		}
		if err != nil || v.Host == "" || v.Port < 1 || v.Port > 65535 {
			return c, fmt.Errorf("%s: entry %d (%q) is damaged: %v; remove that entry and vouch anew", named, i+1, v.Host, err)
		}
		k := name(v.Host, v.Port)
		vouches[k] = append(vouches[k], v)
	}
	for i, g := range f.Signer {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(g.Key))
		if err == nil && ssh.FingerprintSHA256(key) != g.SHA256 {
			err = errors.New("its key and its fingerprint do not belong together")
		}
		if _, bad := path.Match(g.Pattern, "x"); err == nil && (bad != nil || g.Pattern == "") {
			err = errors.New("its pattern is none")
		}
		if err != nil {
			return c, fmt.Errorf("%s: signer %d (%q) is damaged: %v; remove that entry and vouch anew", named, i+1, g.Pattern, err)
		}
	}
	for i, e := range f.Expected {
		if _, ok := readPrint(e.Print); !ok || e.Host == "" || e.Port < 1 || e.Port > 65535 {
			return c, fmt.Errorf("%s: expected %d (%q) is damaged; remove that entry", named, i+1, e.Host)
		}
	}
	return contents{vouches, f.Signer, f.Expected}, nil
}

// name is how a host is told from another: by name and port. Names are compared
// without case, addresses by what they mean.
func name(host string, port int) string {
	if ip := net.ParseIP(host); ip != nil {
		host = ip.String()
	}
	return net.JoinHostPort(strings.ToLower(strings.TrimSuffix(host, ".")), fmt.Sprint(port))
}

func account() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprint("uid ", os.Getuid())
}
