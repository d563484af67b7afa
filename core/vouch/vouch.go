// Package vouch keeps the identities of hosts: for each host, by name and port and the way
// it is meant by, the keys a person accepted, when, and at which address.
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
	"meatus/core/gate"
	"meatus/core/perm"
	"meatus/core/sanitize"
)

// FileName is the name of the record in a workspace.
const FileName = "vouched.toml"

// At is a host as a session means it. The same private address is another machine behind
// another bastion, so the way to it tells one from the other.
type At struct {
	Host string // name or address
	Port int
	Way  string // "direct", "via quay", "in reef"; "" for what is the same machine from everywhere
}

func (a At) String() string {
	s := net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	if a.Way != "" {
		s += " " + a.Way
	}
	return s
}

// anyhow is the host as records have it that are older than ways.
func (a At) anyhow() At {
	a.Way = ""
	return a
}

// name is how a host is told from another: by name and port, and the way. Names are
// compared without case, addresses by what they mean.
func (a At) name() string { return name(a.Host, a.Port) + " " + a.Way }

// Vouch is one accepted key of a host.
type Vouch struct {
	Host      string    `toml:"host"` // name or address, as the session has it
	Port      int       `toml:"port"`
	Way       string    `toml:"way,omitempty"` // as in [At]; "" also where the record is older than ways
	Algorithm string    `toml:"algorithm"`     // the key's type, RFC 4253 section 6.6
	SHA256    string    `toml:"sha256"`        // "SHA256:" and unpadded base64
	Key       string    `toml:"key"`           // wire form in base64
	When      time.Time `toml:"when"`
	By        string    `toml:"by"`      // the account that said yes
	Address   string    `toml:"address"` // where the key was first seen

	// How is set where no person said yes to this very key: [Announced] or
	// [Imported].
	How string `toml:"how,omitempty"`
	// Again is when an announced key was last announced by the host, to the day, where
	// that was after When.
	Again time.Time `toml:"again,omitempty"`

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

// At is the host that the key is vouched for.
func (v Vouch) At() At { return At{v.Host, v.Port, v.Way} }

// Current tells whether the key is accepted, and not history. An announced key is for
// [AnnouncedStays] after it was last announced.
func (v Vouch) Current() bool {
	return v.Until.IsZero() && (v.How != Announced || time.Since(v.lastAnnounced()) < AnnouncedStays)
}

// Gate is the identity gate of a host that shows the key, or is known to have it.
func (v Vouch) Gate() gate.Gate {
	g := gate.Gate{Kind: gate.Identity, Verdict: gate.Open, Seen: "vouched " + v.When.Local().Format("2 Jan 2006")}
	if v.How == Announced {
		g.Verdict, g.Seen = gate.Ajar, "announced by it "+v.When.Local().Format("2 Jan 2006")
		g.Reason = fmt.Sprintf("nobody compared this key: the host announced it itself, and it is accepted until %s", v.lastAnnounced().Add(AnnouncedStays).Local().Format("2 Jan 2006"))
		g.Remedy.Say = "compare it with what the machine's console shows, and confirm it in Hosts"
	}
	return g
}

// Source says by whose word the key is accepted, cleaned.
func (v Vouch) Source() string {
	if v.How != "" {
		return sanitize.Line(v.How, 60)
	}
	return "by " + sanitize.Line(v.By, 30)
}

// End is when and why the key of an old vouch is no longer accepted.
func (v Vouch) End() (when time.Time, why string) {
	if v.Until.IsZero() {
		return v.lastAnnounced().Add(AnnouncedStays), "not announced again"
	}
	return v.Until, v.Ended
}

func (v Vouch) lastAnnounced() time.Time {
	if v.Again.After(v.When) {
		return v.Again
	}
	return v.When
}

// What is kept of announced keys: nobody compared them, so they are few, and go when they
// are not announced again by a host that shows a key which somebody did compare.
const (
	MaxAnnounced   = 4 // of a host
	AnnouncedStays = 90 * 24 * time.Hour
)

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

	adding    sync.Mutex
	additions []*addition
	added     bool // somebody writes them

	mu     sync.Mutex
	judged time.Time   // when it was last seen that nobody else can write it
	seen   fs.FileInfo // what the vouches below were read from, nil for no file
	contents
}

// contents are what a record holds.
type contents struct {
	vouches  map[string][]Vouch
	signers  []Signer
	expected []Expected
	revoked  []Revoked
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
func (r *Record) Of(at At) ([]Vouch, error) {
	all, err := r.History(at)
	var current []Vouch
	for _, v := range all {
		if v.Current() {
			current = append(current, v)
		}
	}
	return current, err
}

// History lists everything that is or was vouched for a host, oldest first. Where nothing
// is vouched by the way that is meant, that is what records have that are older than ways.
func (r *Record) History(at At) ([]Vouch, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	return r.vouches[r.meant(at).name()], nil
}

// meant is the host as the record has it: without its way where nothing is or was vouched
// by that. The lock is held, and the record read.
func (r *Record) meant(at At) At {
	if len(r.vouches[at.name()]) == 0 {
		return at.anyhow()
	}
	return at
}

// Elsewhere lists the other hosts that a key is vouched for now: an address that
// shows it may have moved to one of those machines.
func (r *Record) Elsewhere(at At, key ssh.PublicKey) ([]Vouch, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	wire := base64.StdEncoding.EncodeToString(key.Marshal())
	var found []Vouch
	for other, list := range r.vouches {
		for _, v := range list {
			if other != at.name() && v.Current() && v.Key == wire {
				found = append(found, v)
			}
		}
	}
	slices.SortFunc(found, func(a, b Vouch) int { return a.When.Compare(b.When) })
	return found, nil
}

// Stood are the current vouches of other hosts at the address that an instance has now: those of that
// address by itself, as before says it, and those of other instances of the same estate that were first
// seen at it.
func (r *Record) Stood(now, before At) ([]Vouch, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	address := net.JoinHostPort(before.Host, strconv.Itoa(before.Port))
	var found []Vouch
	for other, list := range r.vouches {
		for _, v := range list {
			if v.Current() && other != now.name() && (other == before.name() || v.Way == now.Way && v.Address == address) {
				found = append(found, v)
			}
		}
	}
	slices.SortFunc(found, func(a, b Vouch) int { return a.When.Compare(b.When) })
	return found, nil
}

// Judge tells how a key presented by a host stands, with what is vouched for
// that host.
func (r *Record) Judge(at At, key ssh.PublicKey) (Standing, []Vouch, error) {
	vouched, err := r.Of(at)
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
func (r *Record) Accept(at At, key ssh.PublicKey, address string, when time.Time) error {
	return r.Add(at, key, address, when, "")
}

// Add accepts a further key of a host, beside those it has; how says by what
// right. A key that is vouched for already is left as it is.
func (r *Record) Add(at At, key ssh.PublicKey, address string, when time.Time, how string) error {
	a := &addition{at, key, vouchOf(at, key, address, when, how), make(chan error, 1)}
	r.adding.Lock()
	r.additions = append(r.additions, a)
	first := !r.added
	r.added = true
	r.adding.Unlock()
	if first {
		r.addAll()
	}
	return <-a.done
}

// addition is a vouch that waits to be written.
type addition struct {
	at    At
	key   ssh.PublicKey
	vouch Vouch
	done  chan error
}

// addAll writes the vouches that wait: all that come while one is being written go into
// the next writing together.
func (r *Record) addAll() {
	for {
		unlock, err := atomicfile.Lock(r.path)
		r.adding.Lock()
		all := r.additions
		r.additions = nil
		if len(all) == 0 {
			r.added = false
			r.adding.Unlock()
			if err == nil {
				unlock()
			}
			return
		}
		r.adding.Unlock()
		if err == nil {
			err = r.addNow(all)
			unlock()
		}
		for _, a := range all {
			a.done <- err
		}
	}
}

// addNow writes vouches that are not known. The file is locked.
func (r *Record) addNow(all []*addition) error {
	var entries file
	for _, a := range all {
		standing, _, err := r.Judge(a.at, a.key)
		if err != nil {
			return err
		}
		again := slices.ContainsFunc(entries.Vouched, func(v Vouch) bool { return v.At().name() == a.at.name() && v.Key == a.vouch.Key })
		if standing != Known && !again {
			entries.Vouched = append(entries.Vouched, a.vouch)
		}
	}
	if len(entries.Vouched) == 0 {
		return nil
	}
	text, err := r.text()
	if err != nil {
		return err
	}
	return r.put(text, entries)
}

// Replace makes key the one accepted key of a host, and what was vouched for it
// until now history, with the reason. Only that host's entries change. The file
// is written before Replace returns.
func (r *Record) Replace(at At, key ssh.PublicKey, address string, when time.Time, why string) error {
	return r.ending(at, when, why, func(_, text []byte) error {
		return r.write(text, at, key, address, when, "")
	})
}

// ending makes what is vouched for a host history, and gives the text before and
// after to write, which is to put it on disk.
func (r *Record) ending(at At, when time.Time, why string, write func(before, after []byte) error) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	text, err := r.text()
	if err != nil {
		return err
	}
	if _, err := r.Of(at); err != nil {
		return err
	}
	r.mu.Lock()
	ends := r.meant(at).name()
	r.mu.Unlock()
	after, err := edited(text, func(e entry) []byte {
		if e.ended || e.at().name() != ends {
			return nil
		}
		return end(when.UTC().Truncate(time.Second), why)
	})
	if err != nil {
		return err
	}
	return write(text, after)
}

// write puts an entry behind text and writes the file.
func (r *Record) write(text []byte, at At, key ssh.PublicKey, address string, when time.Time, how string) error {
	return r.put(text, file{Vouched: []Vouch{vouchOf(at, key, address, when, how)}})
}

func vouchOf(at At, key ssh.PublicKey, address string, when time.Time, how string) Vouch {
	return Vouch{
		Host: at.Host, Port: at.Port, Way: at.Way, Algorithm: key.Type(), SHA256: ssh.FingerprintSHA256(key),
		Key:  base64.StdEncoding.EncodeToString(key.Marshal()),
		When: when.UTC().Truncate(time.Second), By: account(), Address: address, How: how,
	}
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
	Revoked  []Revoked  `toml:"revoked,omitempty"`
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
	// Who can write it can vouch for any machine. The folders above are looked at once a
	// second at most: many judgements come together.
	if r.seen == nil || !os.SameFile(r.seen, info) || r.seen.Mode() != info.Mode() || time.Since(r.judged) > time.Second {
		if err := perm.Judge(r.path); err != nil {
			return err
		}
		r.judged = time.Now()
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
		k := v.At().name()
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
	return contents{vouches, f.Signer, f.Expected, f.Revoked}, nil
}

// name is a host's name and port in one form.
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
