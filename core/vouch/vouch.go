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
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/whole"
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
}

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
	path string

	mu      sync.Mutex
	seen    fs.FileInfo // what the vouches below were read from, nil for no file
	vouches map[string][]Vouch
}

// Open returns the record kept at path. The file need not exist yet.
func Open(path string) *Record { return &Record{path: path} }

// Path is where the record is kept.
func (r *Record) Path() string { return r.path }

// Of lists what is vouched for a host. It fails where the record cannot be read.
func (r *Record) Of(host string, port int) ([]Vouch, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	return r.vouches[name(host, port)], nil
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
	unlock, err := whole.Lock(r.path)
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
	text, err := os.ReadFile(r.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(bytes.TrimSpace(text)) > 0 {
		text = append(bytes.TrimRight(text, "\n"), "\n\n"...)
	}
	entry, err := toml.Marshal(file{[]Vouch{{
		Host: host, Port: port, Algorithm: key.Type(), SHA256: ssh.FingerprintSHA256(key),
		Key:  base64.StdEncoding.EncodeToString(key.Marshal()),
		When: when.UTC().Truncate(time.Second), By: account(), Address: address,
	}}})
	if err != nil {
		return err
	}
	return whole.Write(r.path, append(text, entry...))
}

type file struct {
	Vouched []Vouch `toml:"vouched"`
}

// refresh reads the file where it is not the one read last.
func (r *Record) refresh() error {
	info, err := os.Stat(r.path)
	if errors.Is(err, fs.ErrNotExist) {
		r.seen, r.vouches = nil, nil
		return nil
	}
	if err != nil {
		return err
	}
	if r.seen != nil && os.SameFile(r.seen, info) && r.seen.ModTime().Equal(info.ModTime()) && r.seen.Size() == info.Size() {
		return nil
	}
	text, err := os.ReadFile(r.path)
	if err != nil {
		return err
	}
	vouches, err := parse(filepath.Base(r.path), text)
	if err != nil {
		return err
	}
	r.seen, r.vouches = info, vouches
	return nil
}

func parse(named string, text []byte) (map[string][]Vouch, error) {
	var f file
	err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f)
	var bad *toml.DecodeError
	var strange *toml.StrictMissingError
	switch {
	case errors.As(err, &bad):
		line, column := bad.Position()
		return nil, fmt.Errorf("%s:%d:%d: %s; mend or remove that entry", named, line, column, bad.Error())
	case errors.As(err, &strange) && len(strange.Errors) > 0:
		line, column := strange.Errors[0].Position()
		return nil, fmt.Errorf("%s:%d:%d: unknown key %q; remove it", named, line, column, strings.Join(strange.Errors[0].Key(), "."))
	case err != nil:
		return nil, fmt.Errorf("%s: %w", named, err)
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
			return nil, fmt.Errorf("%s: entry %d (%q) is damaged: %v; remove that entry and vouch anew", named, i+1, v.Host, err)
		}
		k := name(v.Host, v.Port)
		vouches[k] = append(vouches[k], v)
	}
	return vouches, nil
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
