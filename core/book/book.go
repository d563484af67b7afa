package book

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"time"
)

// FileName is the name of the sessions file in a workspace.
const FileName = "sessions.toml"

// DefaultKeepalive is how often a link asks for a sign of life unless a session
// says otherwise, and DefaultPort where a server listens (RFC 4253 section 4.2).
const (
	DefaultKeepalive = 30 * time.Second
	DefaultPort      = 22
)

// What a shell is like unless a session says otherwise.
const (
	DefaultReconnect = 10 * time.Minute
	DefaultTerm      = "xterm-256color"
	DefaultKeyList   = ".ssh/authorized_keys"
	DefaultEvery     = time.Minute // that an estate is read
)

// maxFile bounds what is read, in bytes: some 100,000 sessions.
const maxFile = 32 << 20

// Place is a position in the sessions file; lines and columns count from 1, a
// column counts characters.
type Place struct {
	Line, Column int32 // a file has at most 32 MiB
}

// Origin tells where a value came from. The zero Origin is of what is built in.
type Origin struct {
	source *source // nil for what is built in
	Place
}

// source is a table that values come from, which all of them share: a book of 50,000 sessions has
// half a million values.
type source struct {
	layer Layer
	name  string
}

// From is the origin of what a table of a layer says. name is the session's, the site's or the
// like's, "" where there is none.
func From(layer Layer, name string) Origin { return Origin{source: &source{layer, name}} }

// Layer is where the value is written.
func (o Origin) Layer() Layer {
	if o.source == nil {
		return BuiltIn
	}
	return o.source.layer
}

// Name is whose table it is, "" where the layer has no names.
func (o Origin) Name() string {
	if o.source == nil {
		return ""
	}
	return o.source.name
}

// Layer is where a value can be written, nearest last.
type Layer uint8

// The layers, from the farthest to the nearest.
const (
	BuiltIn Layer = iota
	InDefaults
	InSite
	InLike
	InSession
	InKey    // not a session's: what a key file is meant for
	InEstate // where instances are known from; of a session that is bound to one, what is taken from it
	InFleet
	InGateway // a relay that machines have dialled out to
	InIssuer  // who gives leases
)

var layerWords = [...]string{"built in", "defaults", "site", "like", "session", "key", "estate", "fleet", "gateway", "issuer"}

// String says it as a person would: "site reef", "defaults".
func (o Origin) String() string {
	layer := o.Layer()
	if layer == BuiltIn || layer == InDefaults || layer == InFleet {
		return layerWords[layer]
	}
	return layerWords[layer] + " " + o.Name()
}

// Value is a setting and where it was set. The zero Value is not set.
type Value[T any] struct {
	V      T
	Origin Origin
	Set    bool
}

func (v *Value[T]) orElse(far Value[T]) {
	if !v.Set {
		*v = far
	}
}

// Access is how a session's machine is reached. A session can take it from a like, a site
// or the defaults.
type Access struct {
	Port      Value[int]
	User      Value[string]
	Keys      Value[[]string]
	Via       Value[[]string]
	Keepalive Value[time.Duration]
	Agent     Value[string]
	Lease     Value[string] // the issuer whose leases are shown in place of a key, "off" for none
	Network   Value[string] // the private network that the address is of, where several ways lead there
}

// Behaviour is what happens once a session is there, which most sessions say nothing of
// themselves. It is inherited like Access.
type Behaviour struct {
	Reconnect Value[time.Duration] // how long a lost way is tried again, 0 for not at all
	Backspace Value[string]        // what the key sends: "del" or "bs"
	Term      Value[string]        // the terminal's name over there
	Colours   Value[string]        // "all", "16" or "none"
	Alert     Value[string]        // "off", "bell" or "notify"
	Env       Value[[]string]      // "NAME=VALUE" each
	Lends     Value[[]string]      // keys that the far side may use, where Agent says so
	LendsTo   Value[[]string]      // hosts or sessions it may use them for, all where empty
	LendUses  Value[string]        // how often they may be used, "" for any number
	LendFor   Value[time.Duration] // and for how long, 0 for as long as the shell lives
	Ring      Value[string]        // whether keys stay in the ring after a use: "on", "off", or "" for those with a passphrase
	Links     Value[string]        // "1" to "4": links side by side that the tunnels' flows are spread over
	Windows   Value[string]        // "on": programs there may draw on the display here
	KeyAge    Value[string]        // how old its keys may be: "365d", or "off"
	Proxy     Value[string]        // that a first hop is connected to through
	ProxyFile Value[string]        // that its login stands in
	KeyList   Value[string]        // where the server reads the account's list of keys, from the home folder on
	Careful   Value[string]        // "on": a person is to take care there
	AtStart   Value[string]        // "on": its tunnels open when the program starts
	Knock     Value[string]        // "on": the tunnels' way is walked when somebody connects to a listener
	Folder    Value[string]        // where to go on arrival
	Arrive    Value[string]        // what is typed on arrival
}

// Extras are what few sessions say, and none inherits.
type Extras struct {
	Note Value[string]
	// Instance is a query that fits the one instance whose address is the host, and Address which of
	// its addresses that is: "inside", "outside", or that in a network.
	Instance Value[string]
	Address  Value[string]
	Dial     Value[string]
	Tunnels  Value[[]Tunnel]
}

// KeyTerms are what the file says of a key file: what it is meant for, and how it
// stays in the ring.
type KeyTerms struct {
	Path    string // as written
	Hosts   Value[[]string]
	Stay    Value[time.Duration] // 0 for the end of the program
	Confirm Value[bool]
	At      Place
}

// EstateSource is where instances are known from. Paths are as written.
type EstateSource struct {
	Name         string
	Kind         Value[string]        // "document" or "openstack"
	Cloud        Value[string]        // of OpenStack: its name in clouds.yaml
	Region       Value[string]        // and the region, where that names none or another
	Hosts        Value[[]string]      // and hosts of its services that are not under the domain of the one that one logs in at
	File         Value[string]        // of a document: a file,
	URL          Value[string]        // an address,
	Command      Value[[]string]      // or a program and its arguments, which prints it
	TokenFile    Value[string]        // a file with the bearer token of an address, which nobody else may read
	TokenEnv     Value[string]        // or the variable of the environment that it stands in
	TokenCommand Value[[]string]      // or a program and its arguments, which prints it
	Every        Value[time.Duration] // how often it is read while somebody looks, 0 for when asked alone
	At           Place
	Broken       *Problem // the first mistake that keeps it from being used, nil for none
}

// Session is one session with everything it inherits. Sessions that say nothing of
// their own in Extras, Access or Behaviour share that part, which is not to be changed.
type Session struct {
	Name string
	Site Value[string]
	Host Value[string]
	*Extras
	*Access
	*Behaviour
	At Place
	// Bound is the instance that it is bound to, nil for none, or where that is not known.
	Bound *Binding
	// Fleet is the rule that made it of an instance, nil for a session that is written.
	Fleet *Fleet
	// Broken is the first problem that keeps the session from being used, or
	// nil. What could be read is there all the same.
	Broken *Problem
}

// Book is a sessions file read.
type Book struct {
	Path     string // "" where it was parsed from memory
	Sessions []*Session
	Keys     []KeyTerms
	Estates  []EstateSource
	Fleets   []*Fleet
	Gateways []*Gateway
	Issuers  []*Gateway
	Problems []Problem // in the order of the file
	byName   map[string]*Session
	sites    []string
	far      layers
	unbound  *Book // that it was made of by Bind, nil for none
}

// emptySession is one that says nothing.
func emptySession() Session {
	return Session{Extras: &Extras{}, Access: &Access{}, Behaviour: &Behaviour{}}
}

// noExtras are those of all sessions that say nothing in them.
var noExtras = &Extras{}

// Imagine resolves a draft as if it stood in the book.
func (b *Book) Imagine(d Draft) *Session {
	t := &table{layer: InSession, name: d.Name, own: emptySession()}
	o := From(InSession, d.Name)
	text := func(s string) Value[string] { return Value[string]{s, o, s != ""} }
	t.own.Site, t.own.Host, t.own.User, t.own.Instance = text(d.Site), text(d.Host), text(d.User), text(d.Instance)
	t.own.Port = Value[int]{d.Port, o, d.Port != 0}
	t.own.Via = Value[[]string]{d.Via, o, len(d.Via) > 0}
	t.own.Keys = Value[[]string]{d.Keys, o, len(d.Keys) > 0}
	if every, err := ParseKeepalive(d.Keepalive); err == nil {
		t.own.Keepalive = Value[time.Duration]{every, o, true}
	}
	t.own.Agent = text(d.Agent)
	t.own.Tunnels = Value[[]Tunnel]{d.Tunnels, o, len(d.Tunnels) > 0}
	return (&reader{file: b.Path, layers: b.far}).session(t)
}

// With is the book as if drafts stood in it, to be asked for sessions by their names alone.
func (b *Book) With(drafts []Draft) *Book {
	if len(drafts) == 0 {
		return b
	}
	c := *b
	c.byName = maps.Clone(b.byName)
	for _, d := range drafts {
		c.byName[d.Name] = c.Imagine(d)
	}
	return &c
}

// Session returns the session of that name, or nil.
func (b *Book) Session(name string) *Session { return b.byName[name] }

// Gateway returns the gateway of that name, or nil.
func (b *Book) Gateway(name string) *Gateway {
	for _, g := range b.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Issuer returns the issuer of that name, or nil.
func (b *Book) Issuer(name string) *Gateway {
	for _, i := range b.Issuers {
		if i.Name == name {
			return i
		}
	}
	return nil
}

// Careful are those of some sessions at which care is to be taken, in their order.
func (b *Book) Careful(names ...string) []string {
	var careful []string
	for _, name := range names {
		if s := b.byName[name]; s != nil && s.Careful.V == "on" {
			careful = append(careful, name)
		}
	}
	return careful
}

// Sites lists the sites in the order they first appear.
func (b *Book) Sites() []string { return b.sites }

// Terms are what is said of key files.
func (b *Book) Terms() []KeyTerms { return b.Keys }

// Names lists the sessions in the order of the file.
func (b *Book) Names() []string {
	names := make([]string, len(b.Sessions))
	for i, s := range b.Sessions {
		names[i] = s.Name
	}
	return names
}

// Hops lists what via can name: the sessions, then the gateways.
func (b *Book) Hops() []string {
	names := b.Names()
	for _, g := range b.Gateways {
		names = append(names, g.Name)
	}
	return names
}

// Problem is something wrong in the sessions file. It is an error that tells
// file, line, column, what is wrong and what was likely meant.
type Problem struct {
	File string
	Place
	Session string // the session it breaks, "" where it is in another table
	Say     string
	Hint    string // "did you mean "user"?", or what to do; may be ""
	Notice  bool   // worth knowing, breaks nothing
}

func (p Problem) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Say)
	if p.Hint != "" {
		s += "; " + p.Hint
	}
	return s
}

// Read reads the sessions file at path. The error is for a file that cannot be
// read at all; what is wrong inside it stands in the book's problems.
func Read(path string) (*Book, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxFile {
		return nil, fmt.Errorf("%s is %d bytes long; sessions files are read up to %d", path, info.Size(), maxFile)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	b := Parse(filepath.Base(path), text)
	b.Path = path
	return b, nil
}

// Nearest returns the candidate that word was likely meant to be, or "" where
// none is near. Up to a third of the letters, at least one, may differ.
func Nearest(word string, candidates []string) string {
	best, found := 1+max(1, len([]rune(word))/3), ""
	for _, c := range candidates {
		if d := distance([]rune(word), []rune(c)); d < best {
			best, found = d, c
		}
	}
	return found
}

// distance is the number of letters to add, drop, change or swap to get from
// one word to the other.
func distance(a, b []rune) int {
	rows := [3][]int{make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := 1; i <= len(a); i++ {
		before, last, row := rows[(i-1)%3], rows[i%3], rows[(i+1)%3]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
	}
	return rows[(len(a)+1)%3][len(b)]
}

// meant is the hint for a word that is not one of candidates.
func meant(word string, candidates []string) string {
	if near := Nearest(word, candidates); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return ""
}
