// Package route makes a session concrete: the ordered hops from here to its
// machine, every value with where it came from, and what this machine alone can
// say about each hop.
//
// It promises that planning and checking send no packet and ask nothing of
// anybody. A check reads each key file once and the record of vouched hosts.
package route

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/localaddr"
	"meatus/core/perm"
	"meatus/core/sanitize"
	"meatus/core/vouch"
	"meatus/core/words"
)

// Hop is one machine on the way.
type Hop struct {
	Name    string // its session
	Instead string // the hops of the first way that this one leaves out, at its first hop; "" on the first way
	Destination
	Credentials
	Loan
	Arrival
	Limits

	session *book.Session // that it is made of
}

// Destination is where a hop is, and what leads there.
type Destination struct {
	Host      string
	Port      int
	Way       string // how the address is meant, where that is not the same from everywhere; as in [vouch.At]
	Dial      string // where to connect instead of Host:Port, or ""
	Proxy     book.Proxy
	ProxyFile string        // with the proxy's login, by absolute path, or ""
	Instance  *book.Binding // the instance of the hop, nil where it is bound to none
	Gateway   *Gateway      // the gateway that the hop is in place of a machine; nil for none
}

// Credentials are who logs in at a hop, and with what.
type Credentials struct {
	User    string
	Keys    []string         // key files by absolute path, in the order they are offered
	KeyAge  time.Duration    // how old the files of its keys may be, 0 for any age
	KeyList string           // where the server reads the account's list of keys
	Ring    string           // whether keys stay in the ring: "on", "off", or "" for those with a passphrase
	Terms   map[string]Terms // by absolute path, of the keys that something is said of
	Lease   *Lease           // that is shown before any key; nil for none
	// Alone, where set, has nothing but Keys tried to log in, over a link that is
	// shared only with routes of the same word.
	Alone string
}

// Loan is what the machine of a hop may use of the keys here.
type Loan struct {
	Agent     string        // "off", "ask" or "lend"
	Lends     []string      // key files by absolute path
	LendsTo   []string      // patterns of hosts that they may be used for, with the hosts of sessions they name; none for all
	LendsSaid []string      // the same as written
	LendUses  int           // how often they may be used, 0 for any number
	LendFor   time.Duration // and for how long, 0 for as long as the shell lives
}

// Arrival is what a person meets at a hop.
type Arrival struct {
	Manner  Manner
	Windows bool // programs there may draw on the display here
	Careful bool // a person is to take care there
	Note    string
}

// Limits are how a hop's connections are kept, and what runs over them.
type Limits struct {
	Keepalive time.Duration
	Tunnels   []book.Tunnel
	Lane      int  // above 0 for a further link beside the first
	Links     int  // side by side, that the flows of its tunnels are spread over; 0 is 1
	AtStart   bool // its tunnels are opened when the program starts
	OnKnock   bool // its tunnels' way is walked when somebody connects to a listener
}

// Warning is what whoever goes there is to know, in a line, "" for nothing.
func (h Hop) Warning() string {
	switch {
	case h.Careful && h.Note != "":
		return h.Name + " is marked careful: " + sanitize.Line(h.Note, 200)
	case h.Careful:
		return h.Name + " is marked careful"
	case h.Note != "":
		return h.Name + ": " + sanitize.Line(h.Note, 200)
	}
	return ""
}

// From tells where a value of the hop came from, by its key in the sessions file.
func (h Hop) From(key string) book.Origin {
	if h.session == nil {
		return book.Origin{}
	}
	_, origin := h.session.Text(key)
	return origin
}

// Manner is what a shell at a hop is like.
type Manner struct {
	Reconnect time.Duration // how long a lost way is tried again, 0 for not at all
	Backspace string        // "del" or "bs"
	Term      string
	Colours   string   // "all", "16" or "none"
	Env       []string // "NAME=VALUE"
	Folder    string
	Arrive    string // typed on arrival
}

// Terms are what is said of a key file.
type Terms struct {
	Said    []string      // which hosts it is meant for, as written; none for all
	Hosts   []string      // the same, with the hosts of the sessions they name
	Stay    time.Duration // how long it stays in the ring, 0 for the end of the program
	Confirm bool          // a person is asked before others use it
}

// Unmeant says that a key is used at a host it is not meant for, "" where nothing
// is said against it.
func (h Hop) Unmeant(key string) string {
	hosts := h.Terms[key].Hosts
	if len(hosts) == 0 || slices.ContainsFunc(hosts, func(p string) bool {
		byHost, _ := path.Match(p, h.Host)
		byName, _ := path.Match(p, h.Name)
		return byHost || byName
	}) {
		return ""
	}
	return fmt.Sprintf("%s is limited to %s, and this is %s", sanitize.Name(key), strings.Join(h.Terms[key].Said, ", "), h.Host)
}

// KeysMeant judges whether the hop's keys are meant for it.
func (h Hop) KeysMeant(g gate.Gate) gate.Gate {
	for _, key := range h.Keys {
		if say := h.Unmeant(key); say != "" && g.Verdict == gate.Open {
			g.Verdict, g.Reason = gate.Ajar, say
			g.Remedy = gate.Remedy{Say: "use another key, or allow this one for the host in Keys", Act: gate.Choose}
		}
	}
	return g
}

// Lending tells whether keys are to be lent to the hop.
func (h Hop) Lending() bool { return h.Agent == "ask" || h.Agent == "lend" }

// Gateway is how a gateway is reached and what it is known by. Files are named by absolute path, "" for none.
type Gateway struct {
	Issuer       bool     // it gives leases, and leads nowhere
	URLs         []string // in the order they are tried
	CA           string   // with the certificates that sign the gateway's, in place of the system's
	HostKeys     []string // the fingerprints of its keys, or where something else ends TLS before it
	Certificate  string   // a client certificate and its key
	TokenFile    string   // a bearer token
	TokenCommand []string // or a program and its arguments, which prints it
	Device       string   // or an identity provider's URL, for the device grant
	DeviceClient string   // and what we are called there
}

// Lease is a login that an issuer gives for a while.
type Lease struct {
	Issuer  string // its name in the sessions file
	Machine string // the machine's name there
	Way     Hop    // to the issuer
}

// Address is host and port as the hop before it sees them.
func (h Hop) Address() string { return net.JoinHostPort(h.Host, strconv.Itoa(h.Port)) }

// At is the host whose key is judged. That of an instance is known by the instance's id, whichever
// address it has.
func (h Hop) At() vouch.At {
	if h.Instance != nil {
		return vouch.At{Host: h.Instance.ID, Port: h.Port, Way: "of " + h.Instance.Source}
	}
	return vouch.At{Host: h.Host, Port: h.Port, Way: h.Way}
}

// Knock is the address that is really connected to.
func (h Hop) Knock() string {
	if h.Dial != "" {
		return h.Dial
	}
	return h.Address()
}

// Route is the way to a session's machine: at least one hop, the last of them
// the machine itself.
type Route struct {
	Session string
	Hops    []Hop
	// Others are the other ways there, in the order in which they are tried where a
	// machine on this one does not answer. They have no others themselves.
	Others []Route
}

// MaxWays is how many ways a route can have.
const MaxWays = 8

// Ways are all ways of the route, itself first.
func (r Route) Ways() []Route {
	first := r
	first.Others = nil
	return append([]Route{first}, r.Others...)
}

// AtEnd is the route with its machine changed, on every way.
func (r Route) AtEnd(change func(target *Hop)) Route {
	ways := r.Ways()
	for i := range ways {
		ways[i].Hops = slices.Clone(ways[i].Hops)
		change(&ways[i].Hops[len(ways[i].Hops)-1])
	}
	r = ways[0]
	r.Others = ways[1:]
	return r
}

// UpTo is the way up to and with hop i, by itself.
func (r Route) UpTo(i int) Route { return Route{Session: r.Session, Hops: slices.Clone(r.Hops[:i+1])} }

// Target is the last hop.
func (r Route) Target() Hop { return r.Hops[len(r.Hops)-1] }

// ErrNoSession says that a session of that name is not in the book.
var ErrNoSession = errors.New("there is no session")

// Planner makes routes out of the sessions of one workspace.
type Planner struct {
	Source Source
	Dir    string // the workspace, which key paths are relative to
}

// Source is where a planner finds sessions: the sessions file, a [book.Book], and
// whatever else knows machines.
type Source interface {
	// Session is the session of that name, nil where there is none.
	Session(name string) *book.Session
	// Gateway is the gateway of that name, nil where there is none.
	Gateway(name string) *book.Gateway
	// Issuer is the issuer of leases of that name, nil where there is none.
	Issuer(name string) *book.Gateway
	// Names are those of all sessions, in their order.
	Names() []string
	// Imagine is a session that is not written down yet, with what it would inherit.
	Imagine(d book.Draft) *book.Session
	// Terms are what is said of key files.
	Terms() []book.KeyTerms
}

// Plan makes the session of that name concrete. It fails with the
// [book.Problem] that keeps it or a hop on its way from being used, or with
// [ErrNoSession].
func (p Planner) Plan(name string) (Route, error) {
	s := p.Source.Session(name)
	if s == nil {
		hint := ""
		if near := book.Nearest(name, p.Source.Names()); near != "" {
			hint = fmt.Sprintf("; did you mean %s?", near)
		}
		return Route{}, fmt.Errorf("%w %q%s", ErrNoSession, name, hint)
	}
	return p.route(name, s)
}

// Draft makes a session concrete that is not written down yet.
func (p Planner) Draft(d book.Draft) (Route, error) {
	return p.route(d.Name, p.Source.Imagine(d))
}

func (p Planner) route(name string, s *book.Session) (Route, error) {
	ways, err := p.ways(s)
	if err != nil {
		return Route{Session: name}, err
	}
	r := Route{Session: name, Hops: ways[0]}
	for _, hops := range ways[1:] {
		if hops = slices.Clone(hops); len(hops) > 1 {
			hops[0].Instead = instead(ways[0], hops)
		}
		r.Others = append(r.Others, Route{Session: name, Hops: hops})
	}
	return r, nil
}

// instead says which hops of the first way another leaves out.
func instead(first, hops []Hop) string {
	var out []string
	for _, h := range first {
		if !slices.ContainsFunc(hops, func(is Hop) bool { return is.Name == h.Name }) {
			out = append(out, h.Name)
		}
	}
	return strings.Join(out, ", ")
}

// ways are the ways to s, at most [MaxWays], that of the first names first. Only the first
// of several hops brings its own ways along; the others are reached from the hop before
// them, as they are listed.
func (p Planner) ways(s *book.Session) ([][]Hop, error) {
	if s.Broken != nil {
		return nil, *s.Broken
	}
	ways, before := [][]Hop{nil}, ""
	for i, via := range s.Via.V {
		var longer [][]Hop
		for _, name := range book.Either(via) {
			next, g := p.Source.Session(name), p.Source.Gateway(name)
			switch {
			case g != nil && g.Broken != nil:
				return nil, *g.Broken
			case g != nil && i == 0:
				longer = append(longer, []Hop{p.gateway(g)})
			case g != nil:
				return nil, fmt.Errorf("the gateway %s can only be the first hop", name)
			case next == nil:
				return nil, fmt.Errorf("there is no session %q", name)
			case next.Broken != nil:
				return nil, *next.Broken
			case i == 0:
				to, err := p.ways(next)
				if err != nil {
					return nil, err
				}
				longer = append(longer, to...)
			default:
				for _, way := range ways {
					longer = append(longer, append(slices.Clip(way), p.hop(next, before)))
				}
			}
		}
		ways, before = longer[:min(len(longer), MaxWays)], book.Either(via)[0]
	}
	h := p.hop(s, before)
	for i := range ways {
		ways[i] = append(slices.Clip(ways[i]), h)
	}
	return ways, nil
}

// gateway makes a gateway the first hop.
func (p Planner) gateway(g *book.Gateway) Hop {
	path := func(written string) string {
		if written == "" {
			return ""
		}
		return p.KeyPath(written)
	}
	h := p.hop(g.Session, "")
	h.User, h.Way = gatewayUser, ""
	h.Gateway = &Gateway{g.Issuer, g.URL.V, path(g.CA.V), g.HostKeys.V, path(g.Certificate.V), path(g.TokenFile.V), g.TokenCommand.V, g.Device.V, g.DeviceClient.V}
	return h
}

// issuer makes an issuer a hop by itself.
func (p Planner) issuer(g *book.Gateway) Hop {
	h := p.gateway(g)
	h.Name = "issuer " + g.Name
	return h
}

// gatewayUser is the login at every gateway: who it is that logs in is known by the key.
const gatewayUser = "meatus"

// privateNames are the ends of names that are not of the public tree: those of RFC 6762
// appendix G and RFC 8375, and what is in use for the same.
var privateNames = []string{".internal", ".local", ".lan", ".home.arpa", ".home", ".corp", ".private", ".intranet", ".localdomain"}

// carrierShared are the addresses behind a carrier's translation (RFC 6598).
var carrierShared = netip.MustParsePrefix("100.64.0.0/10")

// Private tells whether a host's name or address can be another machine in another
// network: private addresses (RFC 1918, RFC 4193), those of a link or of the machine
// itself, names of one word, and names of private trees.
func Private(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		ip = ip.Unmap()
		return ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsUnspecified() || carrierShared.Contains(ip)
	}
	name := strings.ToLower(strings.TrimSuffix(host, "."))
	return !strings.Contains(name, ".") || slices.ContainsFunc(privateNames, func(end string) bool { return strings.HasSuffix(name, end) })
}

// hop makes a session a hop behind another, "" for none. Which machine an address of its
// own kind means does not depend on which of several ways there is taken.
func (p Planner) hop(s *book.Session, before string) Hop {
	h := Hop{
		Name: s.Name, session: s,
		Destination: Destination{Host: s.Host.V, Port: s.Port.V, Dial: s.Dial.V, Instance: s.Bound},
		Credentials: Credentials{User: s.User.V},
		Loan:        Loan{Agent: s.Agent.V},
		Arrival: Arrival{Windows: s.Windows.V == "on", Manner: Manner{
			s.Reconnect.V, s.Backspace.V, s.Term.V, s.Colours.V, s.Env.V, s.Folder.V, s.Arrive.V}},
		Limits: Limits{Keepalive: s.Keepalive.V, Tunnels: s.Tunnels.V, OnKnock: s.Knock.V == "on"},
	}
	if Private(h.Host) {
		switch {
		case s.Network.V != "":
			h.Way = "in " + s.Network.V
		case before != "":
			h.Way = "via " + before
		default:
			h.Way = "direct"
		}
	}
	h.Links, _ = strconv.Atoi(s.Links.V)
	h.Careful, h.Note, h.AtStart = s.Careful.V == "on", s.Note.V, s.AtStart.V == "on"
	h.KeyAge, _ = book.ParseAge(s.KeyAge.V) // it was checked when it was read
	if !s.User.Set {
		h.User = localUser()
	}
	if before == "" {
		h.Proxy, _ = book.ParseProxy(s.Proxy.V) // it was checked when it was read
		if h.Proxy != (book.Proxy{}) && s.ProxyFile.V != "" {
			h.ProxyFile = p.KeyPath(s.ProxyFile.V)
		}
	}
	for _, key := range s.Keys.V {
		h.Keys = append(h.Keys, p.KeyPath(key))
	}
	if name, machine := s.Issuer(); name != "" {
		if g := p.Source.Issuer(name); g != nil && g.Broken == nil {
			h.Lease = &Lease{Issuer: name, Machine: machine, Way: p.issuer(g)}
		}
	}
	for _, key := range s.Lends.V {
		h.Lends = append(h.Lends, p.KeyPath(key))
	}
	h.KeyList = strings.TrimPrefix(s.KeyList.V, "~/")
	h.LendUses, _ = strconv.Atoi(s.LendUses.V)
	h.LendFor = s.LendFor.V
	h.LendsTo, h.LendsSaid, h.Ring = p.Hosts(s.LendsTo.V), s.LendsTo.V, s.Ring.V
	for _, k := range p.Source.Terms() {
		if path := p.KeyPath(k.Path); slices.Contains(h.Keys, path) || slices.Contains(h.Lends, path) {
			if h.Terms == nil {
				h.Terms = map[string]Terms{}
			}
			h.Terms[path] = p.terms(k)
		}
	}
	return h
}

// TermsOf is what is said of the key file at an absolute path.
func (p Planner) TermsOf(path string) Terms {
	for _, k := range p.Source.Terms() {
		if p.KeyPath(k.Path) == path {
			return p.terms(k)
		}
	}
	return Terms{}
}

func (p Planner) terms(k book.KeyTerms) Terms {
	return Terms{Said: k.Hosts.V, Hosts: p.Hosts(k.Hosts.V), Stay: k.Stay.V, Confirm: k.Confirm.V}
}

// Hosts adds to patterns of hosts the hosts of the sessions that they name.
func (p Planner) Hosts(patterns []string) []string {
	all := slices.Clone(patterns)
	for _, pattern := range patterns {
		for _, name := range p.Source.Names() {
			s := p.Source.Session(name)
			if ok, _ := path.Match(pattern, s.Name); ok && s.Host.Set && !slices.Contains(all, s.Host.V) {
				all = append(all, s.Host.V)
			}
		}
	}
	return all
}

// KeyPath makes a key's path as written absolute: "~/" is the home folder, and
// what is relative stands in the workspace.
func (p Planner) KeyPath(written string) string {
	if rest, ok := strings.CutPrefix(written, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if filepath.IsAbs(written) {
		return filepath.Clean(written)
	}
	return filepath.Join(p.Dir, written)
}

func localUser() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return os.Getenv("USER")
}

// Login is how a login last got in.
type Login struct {
	Session string
	Key     string // the key's SHA-256 fingerprint, "" where no key did
	Version string // what the server's software called itself
	When    time.Time
}

// Logins remembers how logins got in before.
type Logins interface {
	Last(host string, port int, user string) (Login, bool)
}

// Knowledge is what a check can draw on.
type Knowledge struct {
	Vouched *vouch.Record
	// Keys are the key files read so far; a caller who checks many routes
	// shares them between checks. It may be nil.
	Keys   KeySheets
	Logins Logins // may be nil
	Rules  Rules  // may be nil
	Leases Leases // may be nil
}

// Leases is what issuers told of what one may.
type Leases interface {
	// LeaseGate judges whether the lease that a hop wants is given; ok is false where nothing is known.
	LeaseGate(h Hop) (g gate.Gate, ok bool)
}

// Rules judges what the rules of an estate let through.
type Rules interface {
	// RulesGate judges whether hop i of a route is let in at its port; ok is false where nothing is known.
	RulesGate(r Route, i int) (g gate.Gate, ok bool)
	// FarGate judges whether the machine at the end of a route is let in to a service, "host:port", behind it.
	FarGate(r Route, service string) (g gate.Gate, ok bool)
}

// Check judges every gate of the route that this machine alone can judge.
func (r Route) Check(k Knowledge) gate.Report {
	if k.Keys == nil {
		k.Keys = KeySheets{}
	}
	report := gate.Report{Session: r.Session}
	for i, h := range r.Hops {
		hop := gate.Hop{Name: h.Name, User: h.User, Address: h.Address()}
		channel := gate.Gate{Kind: gate.Channel, Seen: "onward"}
		if i < len(r.Hops)-1 {
			channel.Seen = "onward to " + r.Hops[i+1].Name
		}
		if h.Gateway != nil {
			hop.User, hop.Gateway = "", true
			hop.Gates = append(r.gatewayGates(i, k), channel)
			report.Hops = append(report.Hops, hop)
			continue
		}
		if h.Instance != nil {
			hop.Gates = append(hop.Gates, StateGate(h.Instance))
		}
		if h.Proxy != (book.Proxy{}) {
			hop.Gates = append(hop.Gates, ProxyGate(h))
		}
		hop.Gates = append(hop.Gates, r.address(i))
		if k.Rules != nil {
			if g, ok := k.Rules.RulesGate(r, i); ok {
				hop.Gates = append(hop.Gates, g)
			}
		}
		hop.Gates = append(hop.Gates, gate.Gate{Kind: gate.Port, Seen: strconv.Itoa(h.Port)}, identity(h, k.Vouched))
		if h.Lease != nil {
			hop.Gates = append(hop.Gates, k.lease(h))
		}
		hop.Gates = append(hop.Gates, k.key(h), k.login(h))
		if i == len(r.Hops)-1 {
			channel = k.services(r, listeners(h))
		}
		hop.Gates = append(hop.Gates, channel)
		report.Hops = append(report.Hops, hop)
	}
	return report
}

func (r Route) address(i int) gate.Gate {
	h := r.Hops[i]
	g := gate.Gate{Kind: gate.Address, Seen: h.Host}
	switch {
	case h.Dial != "":
		g.Seen += ", dialled at " + h.Dial
	case h.Proxy != (book.Proxy{}):
		g.Seen += ", seen from the proxy"
	case i > 0:
		g.Seen += ", seen from " + r.Hops[i-1].Name
	}
	if h.Instance != nil {
		g.Seen += ", by estate " + h.Instance.HostFrom
	}
	g = h.InPlace(g)
	if i == 0 && len(r.Others) > 0 {
		var others []string
		for _, way := range r.Others {
			others = append(others, instead(way.Hops, r.Hops))
		}
		g.Seen += ", else " + strings.Join(others, " or ")
		g.Detail = append(g.Detail, "alternative route, if this one does not answer: via "+strings.Join(others, " or "))
	}
	return g
}

// InPlace says at an address gate which hops of the way that is named first this one is
// taken in place of.
func (h Hop) InPlace(g gate.Gate) gate.Gate {
	if h.Instead != "" {
		g.Seen += ", in place of " + h.Instead
		g.Detail = append(g.Detail, "taken in place of "+h.Instead)
	}
	return g
}

// ProxyGate judges what a first hop is connected to through.
func ProxyGate(h Hop) gate.Gate {
	g := gate.Gate{Kind: gate.Proxy, Seen: h.Proxy.String()}
	host, _, _ := net.SplitHostPort(h.Proxy.Address)
	if h.ProxyFile != "" {
		g.Seen += ", login in " + sanitize.Name(h.ProxyFile)
		if fault, stopped := keyfile.Inspect(h.ProxyFile).Blocked(); stopped {
			g.Verdict, g.Reason, g.Remedy.Say = gate.Shut, "the proxy's login is not used: "+fault.Say, fault.Mend
			if fault.Flaw == keyfile.OthersReach {
				g.Remedy = gate.Remedy{Say: "set mode 0600 on " + sanitize.Name(h.ProxyFile), Act: gate.MendFile, Subject: h.ProxyFile}
			}
			return g
		}
	}
	ip, err := netip.ParseAddr(host)
	if near := host == "localhost" || err == nil && ip.IsLoopback(); !near && h.Proxy.Scheme != "https" && (h.ProxyFile != "" || h.Proxy.User != "") {
		g.Verdict, g.Reason = gate.Ajar, "the proxy's password is sent in clear text: anyone on the network path can read it"
		g.Remedy.Say = "use https:// if the proxy supports it, and a password that is used nowhere else"
	}
	return g
}

// listeners judges whether the tunnels' listeners on this machine can be opened.
func listeners(h Hop) gate.Gate {
	g := gate.Gate{Kind: gate.Channel, Seen: "shell"}
	if h.Lending() {
		g.Seen += ", lends " + words.Count(len(h.Lends), "key")
		if len(h.Lends) == 0 {
			g.Verdict, g.Reason = gate.Ajar, "agent forwarding is on, but no keys are named"
			g.Remedy.Say = "name the keys to forward: lends = [\"keys/tide.pem\"]"
		}
	}
	if h.Windows {
		g.Seen += ", windows"
		if g.Verdict == gate.Untried {
			g.Verdict, g.Reason = gate.Ajar, "graphical programs there may use the X display here, and see all its windows and keys"
			g.Remedy.Say = "set windows to on only for machines that you trust like your own"
		}
	}
	for _, t := range h.Tunnels {
		kind, address := t.Kind()
		g.Seen += ", " + t.String()
		if t.Beyond() && g.Verdict == gate.Untried {
			g.Verdict, g.Reason = gate.Ajar, fmt.Sprintf("%s listens for other machines: anyone who reaches it can use it", address)
			g.Remedy.Say = "use 127.0.0.1 if that is enough"
		}
		if kind == "lend" || g.Verdict != gate.Untried {
			continue // its listener is over there
		}
		if localaddr.Claimed(address) {
			continue // and is what it is to be
		}
		if err := localaddr.Try(address); err != nil {
			g.Verdict, g.Reason = gate.Ajar, err.Error()
			g.Remedy = gate.Remedy{Say: "use another local port, or stop the program that uses it", Act: gate.Choose, Subject: address}
		}
	}
	return g
}

// services judges at the channel gate whether the rules let the machine in to the services that its tunnels
// bring.
func (k Knowledge) services(r Route, g gate.Gate) gate.Gate {
	if k.Rules == nil {
		return g
	}
	for _, t := range r.Target().Tunnels {
		if kind, _ := t.Kind(); kind != "bring" {
			continue
		}
		far, ok := k.Rules.FarGate(r, t.Reach)
		if !ok {
			continue
		}
		g.Detail = append(g.Detail, far.Detail...)
		if far.Verdict == gate.Shut && g.Verdict == gate.Untried {
			g.Verdict, g.Reason, g.Remedy = gate.Ajar, far.Reason, far.Remedy
			g.Remedy.Subject = t.Reach
		}
	}
	return g
}

// key judges the keys of a hop, by what they are and by what got in before.
func (k Knowledge) key(h Hop) gate.Gate {
	g := h.KeysMeant(KeyGate(h, k.Keys))
	if k.Logins == nil || g.Verdict != gate.Open || len(h.Keys) == 0 || h.Lease != nil { // each lease is for a key of its own
		return g
	}
	last, ok := k.Logins.Last(h.At().Host, h.Port, h.User)
	if !ok || last.Key == "" {
		return g
	}
	for _, path := range h.Keys {
		if s := k.Keys.read(path).Sheet.SHA256; s == last.Key || s == "" {
			return g
		}
	}
	g.Verdict = gate.Ajar
	g.Reason = fmt.Sprintf("%s last logged in here with another key, %s, on %s", h.User, last.Key, last.When.Local().Format("2 Jan 2006"))
	g.Remedy = gate.Remedy{Say: "if it is refused, use that key again", Act: gate.Choose}
	return g
}

// login says which login is used, where it comes from if not from the session
// itself, and when it last got in.
func (k Knowledge) login(h Hop) gate.Gate {
	g := login(h)
	if k.Logins == nil {
		return g
	}
	if last, ok := k.Logins.Last(h.At().Host, h.Port, h.User); ok {
		g.Seen += ", got in " + last.When.Local().Format("2 Jan 2006")
	}
	return g
}

func login(h Hop) gate.Gate {
	g := gate.Gate{Kind: gate.Login, Seen: h.User}
	switch o := h.From("user"); o.Layer() {
	case book.InSession:
	case book.BuiltIn:
		g.Seen += ", your name here"
	default:
		g.Seen += ", from " + o.String()
	}
	return g
}

func identity(h Hop, vouched *vouch.Record) gate.Gate {
	g := gate.Gate{Kind: gate.Identity}
	of, err := vouched.Of(h.At())
	signers, _ := vouched.SignersFor(h.Host)
	compared := slices.DeleteFunc(slices.Clone(of), func(v vouch.Vouch) bool { return v.How == vouch.Announced })
	if len(compared) > 0 || len(signers) > 0 { // it most likely shows what somebody compared
		of = compared
	}
	switch {
	case err != nil:
		g.Verdict, g.Seen, g.Reason = gate.Shut, "vouched.toml cannot be read", err.Error()
		g.Remedy.Say = "correct vouched.toml; without it, no host key is trusted"
		var foreign *perm.Foreign
		if errors.As(err, &foreign) {
			g.Remedy.Say = foreign.Mend
			if foreign.Mode {
				g.Remedy = gate.Remedy{Say: "set mode 0600 on vouched.toml", Act: gate.MendFile, Subject: foreign.Path}
			}
		}
	case len(of) == 0 && len(signers) > 0:
		g.Seen = "a certificate, signer vouched " + signers[0].When.Local().Format("2 Jan 2006")
	case len(of) == 0:
		g.Seen = "first visit"
	default:
		g = of[len(of)-1].Gate()
	}
	if mode, exposed := vouched.Exposed(); exposed && err == nil {
		g.Verdict = gate.Ajar
		g.Reason = fmt.Sprintf("vouched.toml has mode %04o: others can read which hosts you connect to", mode)
		g.Remedy = gate.Remedy{Say: "set mode 0600 on vouched.toml", Act: gate.MendFile, Subject: vouched.Path()}
	}
	return g
}

// KeySheets remembers what was found out about key files, by path. It is for
// one goroutine.
type KeySheets map[string]KeySheet

// KeySheet is a key file's sheet, or why there is none.
type KeySheet struct {
	Sheet keyfile.Sheet
	Err   error
	Cert  *keyfile.Certificate // beside it, or nil
}

func (k KeySheets) read(path string) KeySheet {
	s, ok := k[path]
	if !ok {
		sheet, err := keyfile.Look(path)
		s = KeySheet{Sheet: sheet, Err: err}
		s.Cert, _ = keyfile.ReadCertificate(path)
		k[path] = s
	}
	return s
}

// KeyGate judges the keys of a hop: open where the first can be used, ajar
// where it works but something is off with it, shut where none can be used.
func KeyGate(h Hop, seen KeySheets) gate.Gate {
	if len(h.Keys) == 0 && h.Lease != nil {
		return gate.Gate{Kind: gate.Key, Seen: "none named; the certificate is used instead"}
	}
	if len(h.Keys) == 0 {
		return gate.Gate{Kind: gate.Key, Seen: "none named", Reason: "the server must accept a password or ask questions"}
	}
	var usable, worst *gate.Gate
	for _, path := range h.Keys {
		g := judge(path, seen.read(path), h)
		switch {
		case g.Verdict == gate.Shut && worst == nil:
			worst = &g
		case g.Verdict != gate.Shut && usable == nil:
			usable = &g
		}
	}
	switch {
	case usable == nil:
		return *worst
	case worst != nil && usable.Verdict == gate.Open:
		usable.Verdict = gate.Ajar
		usable.Reason = worst.Seen + "; " + worst.Reason
		usable.Remedy = worst.Remedy
	}
	return *usable
}

func judge(path string, k KeySheet, h Hop) gate.Gate {
	g := gate.Gate{Kind: gate.Key, Verdict: gate.Open, Seen: sanitize.Name(path)}
	if fault, stopped := k.Sheet.Blocked(); stopped {
		g.Verdict, g.Reason = gate.Shut, fault.Say
		g.Remedy = remedy(path, fault)
		if fault.Flaw == keyfile.OthersReach {
			g.Seen += " " + strings.TrimPrefix(fault.Say, "mode ")
			g.Reason += ", so it is offered to no server"
		}
		return g
	}
	if k.Err != nil {
		g.Verdict, g.Reason, g.Remedy = gate.Shut, k.Err.Error(), gate.Remedy{Say: "name a private key file that can be read", Act: gate.Choose, Subject: path}
		if not, ok := k.Err.(*keyfile.NotAKey); ok {
			g.Reason, g.Remedy.Say = not.Say, not.Mend
		}
		return g
	}
	g.Seen += ", owner only"
	if k.Sheet.Passphrase {
		g.Seen = sanitize.Name(path) + ", has a passphrase"
	}
	wrong := ""
	if k.Cert != nil {
		g.Seen += ", " + k.Cert.Said()
		wrong = k.Cert.Wrong(h.User, k.Sheet.Public, time.Now())
	}
	if wrong != "" {
		g.Verdict, g.Reason = gate.Ajar, wrong
		g.Remedy.Say = "have a new certificate signed; the key alone is offered too"
	} else if len(k.Sheet.Faults) > 0 {
		g.Verdict, g.Reason, g.Remedy = gate.Ajar, k.Sheet.Faults[0].Say, remedy(path, k.Sheet.Faults[0])
	} else if len(k.Sheet.Repairs) > 0 {
		g.Verdict, g.Reason = gate.Ajar, "readable, but "+strings.Join(k.Sheet.Repairs, "; ")
		g.Remedy.Say = "copy the key file again when convenient"
	} else if age := time.Since(k.Sheet.Written); h.KeyAge > 0 && age > h.KeyAge {
		g.Verdict = gate.Ajar
		g.Reason = fmt.Sprintf("the file is %s old, and key_age, from %s, is %s", words.Count(int(age/(24*time.Hour)), "day"), h.From("key_age"), words.Count(int(h.KeyAge/(24*time.Hour)), "day"))
		g.Remedy.Say = "rotate the key in Keys: the new one is tested before the old one is removed"
	}
	return g
}

func remedy(path string, fault keyfile.Fault) gate.Remedy {
	r := gate.Remedy{Say: fault.Mend}
	switch {
	case fault.Mending:
		r.Act, r.Subject = gate.MendKey, path
	case fault.Blocks:
		r.Act, r.Subject = gate.Choose, path
	}
	return r
}
