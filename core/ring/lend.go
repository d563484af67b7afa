package ring

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/contain"
	"meatus/core/sanitize"
	"meatus/core/secret"
	"meatus/core/words"
)

// Use is one use that somebody else asked for: a far side, or a program here.
type Use struct {
	Key    Entry
	Login  string   // the login the signature is for, cleaned; "" where it is for none
	What   string   // what it is for instead, in words
	Host   string   // SHA-256 fingerprint of the host it is for, where the request tells
	At     []string // the names that host is known by
	Via    []string // fingerprints of hosts that the line is passed on through
	From   string   // the program here that asked, "" for a far side
	Count  int      // of uses through this lend, this one included
	Refuse error    // why it was not made, nil where it was
}

// For says what a use is for: "to log in as keeper at 10.61.4.31".
func (u Use) For() string {
	switch {
	case u.Login == "":
		return "for " + u.What
	case len(u.At) > 0:
		return "to log in as " + u.Login + " at " + strings.Join(u.At, ", ")
	case u.Host != "":
		return "to log in as " + u.Login + " at a host whose key is not trusted, " + u.Host
	}
	return "to log in as " + u.Login + " at an unnamed host"
}

// Terms are what is lent, and how.
type Terms struct {
	Keys  []string // fingerprints
	Hosts []string // patterns of hosts that they may be used for, none for all
	Said  []string // the same as a person put it
	// Most is how many signatures are made before the lend stops, 0 for any number, and
	// For how long it serves, 0 for as long as it is not ended.
	Most int
	For  time.Duration
	// Ask, where it is not nil, is asked before each use, and an error is a no.
	Ask func(ctx context.Context, u Use) error
	// Tell is told of each use.
	Tell func(Use)
	// Declined, where it is not nil, is told what a program wanted to put into the ring
	// that was not taken.
	Declined func(Declined)
	// All lends every key there is to a program here, which may add and take away
	// keys, lock the ring, and have more than logins signed. Ask is asked only for
	// keys that want it.
	All bool
}

// Declined is something that a program wanted to put into the ring, and that was not
// taken. The program itself hears no reason: its protocol has no words for one.
type Declined struct {
	From string // the program
	What string // the kind of key, cleaned
	Why  error
}

// otherHost refuses a key that is for other hosts.
type otherHost string

func (o otherHost) Error() string { return "it is for " + string(o) + " alone" }

// Lend is what somebody else may use: keys of a ring, for as long as it is not
// ended. It speaks the agent protocol to whoever comes.
type Lend struct {
	Terms
	ring *Ring
	ctx  context.Context
	end  context.CancelCauseFunc

	mu      sync.Mutex
	uses    int
	made    int // of signatures, those under way included
	until   time.Time
	refused map[string]int // how often a person said no, by who asked
	recent  []time.Time
	open    map[io.Closer]bool
}

// The most uses in a short time before a lend stops by itself.
const (
	burst     = 12
	burstTime = 10 * time.Second
)

// refusals is how many times a person says no before a lend stops by itself.
const refusals = 3

// ErrNoMore is the answer of whoever is asked for a use and lets nobody use anything of the
// lend any more.
var ErrNoMore = errors.New("refused, and all that follows, too")

var (
	errRefused = fmt.Errorf("refused %d times: agent forwarding has ended", refusals)
	errAll     = errors.New("all uses were refused: agent forwarding has ended")
	errEnded   = errors.New("the lend has ended")
	errHere    = errors.New("it was ended here")
	errTime    = errors.New("its time is over: agent forwarding has ended")
	errBurst   = fmt.Errorf("more than %d requests in %s: agent forwarding has ended, since someone there may be trying keys", burst, burstTime)
	errNever   = errors.New("a forwarded agent only lists keys and signs")
	errMany    = fmt.Errorf("%d lines are open already", maxClients)
)

// Lend lends keys of the ring.
func (r *Ring) Lend(t Terms) *Lend {
	l := &Lend{Terms: t, ring: r, open: map[io.Closer]bool{}, refused: map[string]int{}}
	l.Terms.Keys = slices.Clone(t.Keys)
	l.ctx, l.end = context.WithCancelCause(context.Background())
	if t.For > 0 {
		l.until = time.Now().Add(t.For)
		timer := time.AfterFunc(t.For, func() { l.stop(errTime) })
		context.AfterFunc(l.ctx, func() { timer.Stop() })
	}
	return l
}

// Until is when the lend stops by itself, zero where it does not.
func (l *Lend) Until() time.Time { return l.until }

// Left is how many signatures are left to be made; limited is false where any number is.
func (l *Lend) Left() (n int, limited bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return max(l.Most-l.made, 0), l.Most > 0
}

// Stop ends the lend before what it is for ends, as a person wants it.
func (l *Lend) Stop() { l.stop(errHere) }

// reserve takes one of the signatures that may be made, and tells whether there was one.
func (l *Lend) reserve() (taken bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.Most > 0 && l.made >= l.Most {
		return false
	}
	l.made++
	return true
}

// settle gives one back that was not made, and stops the lend where it was the last.
func (l *Lend) settle(made bool) {
	l.mu.Lock()
	if !made {
		l.made--
	}
	spent := l.Most > 0 && l.made >= l.Most
	l.mu.Unlock()
	if spent && made {
		l.end(l.errSpent())
	}
}

func (l *Lend) errSpent() error {
	return fmt.Errorf("the limit of uses is reached, %s: agent forwarding has ended", words.Count(l.Most, "time"))
}

// End ends the lend: whoever uses it is cut off, and nothing is served any more.
func (l *Lend) End() { l.stop(errEnded) }

func (l *Lend) stop(why error) {
	l.end(why)
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		c.Close()
	}
	clear(l.open)
}

// Ended is why the lend serves nobody any more, nil while it does.
func (l *Lend) Ended() error { return context.Cause(l.ctx) }

// Uses is how often something was asked for.
func (l *Lend) Uses() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.uses
}

// Lent are the lent keys that are in the ring now.
func (l *Lend) Lent() []Entry {
	var all []Entry
	for _, e := range l.ring.Entries() {
		if l.All || slices.Contains(l.Keys, e.SHA256) {
			all = append(all, e)
		}
	}
	return all
}

// Serve answers one line until it is left or the lend ends. from names the program
// here that is at its other end, "" for a far side.
func (l *Lend) Serve(c io.ReadWriteCloser, from string) error {
	l.mu.Lock()
	err := l.ctx.Err()
	if err == nil && len(l.open) >= maxClients {
		err = errMany
	}
	if err != nil {
		l.mu.Unlock()
		c.Close()
		return err
	}
	l.open[c] = true
	l.mu.Unlock()
	defer func() {
		c.Close()
		l.mu.Lock()
		delete(l.open, c)
		l.mu.Unlock()
	}()
	err = contain.Do("a line to the ring", func() error {
		s := &served{l: l, from: from}
		return agent.ServeAgent(s, &guard{ReadWriteCloser: c, failed: s.declined})
	})
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return err
}

// served is the lend as the protocol library wants it, for one line.
type served struct {
	l        *Lend
	from     string
	bindings []binding
	why      error // why the last key was not taken, nil where that was seen before it came to [served.Add]
}

// declined tells what was not taken: message is the beginning of the request that failed.
func (s *served) declined(message []byte) {
	why := s.why
	s.why = nil
	if !s.l.All || s.l.Declined == nil {
		return
	}
	d := Declined{From: s.from, What: "keys of a security token", Why: why}
	switch message[0] {
	case addKey, addKeyConstrained:
		var m struct {
			Kind string
			Rest []byte `ssh:"rest"`
		}
		if d.What = "a key"; ssh.Unmarshal(message[1:], &m) == nil {
			d.What = "a key of the kind " + sanitize.Line(m.Kind, 60)
		}
		if why == nil {
			d.Why = errors.New("keys of that kind are not read here")
		}
	case addToken, addTokenConstrained:
		d.Why = errors.New("they stay in their token, and only keys that can be read are held here")
	default:
		return
	}
	s.l.Declined(d)
}

func (s *served) List() ([]*agent.Key, error) {
	l := s.l
	if l.ctx.Err() != nil || l.ring.Locked() {
		return nil, nil
	}
	var keys []*agent.Key
	for _, e := range l.Lent() {
		if signer := l.ring.Signer(e.SHA256); signer != nil {
			k := signer.PublicKey()
			keys = append(keys, &agent.Key{Format: k.Type(), Blob: k.Marshal(), Comment: e.Name})
		}
	}
	if l.All {
		keys = append(keys, l.ring.behind()...)
	}
	return keys, nil
}

// behind are the keys of the agent behind the ring, as it tells them now.
func (r *Ring) behind() []*agent.Key {
	r.mu.Lock()
	f := r.front
	r.mu.Unlock()
	if f == nil || f.refresh(context.Background()) != nil {
		return nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.keys
}

func (s *served) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return s.SignWithFlags(key, data, 0)
}

// SignWithFlags makes a signature where everything speaks for it.
func (s *served) SignWithFlags(key ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	l := s.l
	if parsed, err := ssh.ParsePublicKey(key.Marshal()); err == nil {
		key = parsed
	}
	r := readRequest(data, key)
	u := Use{Key: Entry{SHA256: ssh.FingerprintSHA256(key)}, Login: r.login, What: r.kind, Host: r.host, From: s.from}
	err := s.bound(r, &u)
	if u.Host != "" && l.ring.Names != nil {
		u.At = l.ring.Names(u.Host)
	}
	if counted := l.count(&u); counted != nil {
		err = counted
	}
	if err == nil {
		err = l.allow(&u)
	}
	taken := false
	if err == nil {
		if taken = l.reserve(); !taken {
			err = l.errSpent()
		}
	}
	if err == nil && l.Ask != nil && (!l.All || u.Key.Confirm) {
		err = l.ask(u)
	}
	if err == nil {
		err = l.Ended()
	}
	var signature *ssh.Signature
	if err == nil {
		signature, err = l.ring.sign(key, data, algorithmOf(key, flags))
	}
	if taken {
		l.settle(err == nil)
	}
	u.Refuse = err
	l.Tell(u)
	return signature, err
}

// ask has a person asked. Who was refused a few times, or once and for all, is not asked
// about any more: a lend to a far side stops, and a program here is refused by itself.
func (l *Lend) ask(u Use) error {
	l.mu.Lock()
	before := l.refused[u.From]
	l.mu.Unlock()
	if before >= refusals {
		return errRefused
	}
	err := l.Ask(l.ctx, u)
	if err == nil || l.ctx.Err() != nil {
		return err
	}
	l.mu.Lock()
	l.refused[u.From]++
	if errors.Is(err, ErrNoMore) {
		l.refused[u.From] = refusals
	}
	enough := l.refused[u.From] >= refusals
	l.mu.Unlock()
	switch {
	case !enough || l.All:
	case errors.Is(err, ErrNoMore):
		l.stop(errAll)
	default:
		l.stop(errRefused)
	}
	return err
}

// bound takes from the line's bindings which host a request is for. A request for
// a login in another session than the one the line is bound to is refused.
func (s *served) bound(r request, u *Use) error {
	for _, b := range s.bindings {
		if b.forwarded {
			u.Via = append(u.Via, ssh.FingerprintSHA256(b.host))
		}
	}
	if r.login == "" || len(s.bindings) == 0 {
		return nil
	}
	last := s.bindings[len(s.bindings)-1]
	if last.forwarded || string(last.session) != string(r.session) {
		return errors.New("the request is for another session than the one its line is bound to")
	}
	host := ssh.FingerprintSHA256(last.host)
	if u.Host != "" && u.Host != host {
		return errors.New("the request names another host than the one its line is bound to")
	}
	u.Host = host
	return nil
}

// count counts a request, and stops a lend to a far side that gets too many.
func (l *Lend) count(u *Use) error {
	l.mu.Lock()
	now := time.Now()
	l.recent = slices.DeleteFunc(append(l.recent, now), func(t time.Time) bool { return now.Sub(t) > burstTime })
	many := len(l.recent) > burst && !l.All
	l.uses++
	u.Count = l.uses
	l.mu.Unlock()
	if many {
		l.stop(errBurst)
		return errBurst
	}
	return nil
}

// allow judges whether a key may be used for what it is asked for.
func (l *Lend) allow(u *Use) error {
	mine := false
	for _, e := range l.Lent() {
		if e.SHA256 == u.Key.SHA256 {
			u.Key, mine = e, true
		}
	}
	switch {
	case l.ring.Locked():
		return ErrLocked
	case l.All && !mine: // the agent behind has it, or nobody
		return nil
	case !slices.Contains(l.Keys, u.Key.SHA256) && !l.All:
		return errors.New("that key is not forwarded")
	case !mine:
		return errGone
	case u.Login == "" && !l.All:
		return errors.New("the request is not a login: a forwarded key signs nothing else")
	}
	for _, only := range []struct{ hosts, said []string }{{l.Hosts, l.Said}, {u.Key.Hosts, u.Key.Said}} {
		if len(only.said) == 0 {
			only.said = only.hosts
		}
		switch {
		case len(only.hosts) == 0:
		case u.Login == "":
			return fmt.Errorf("the key is only for %s, and the request is not a login", strings.Join(only.said, ", "))
		case u.Host == "":
			return fmt.Errorf("the key is only for %s, and the request names no host", strings.Join(only.said, ", "))
		case !fits(only.hosts, u.At):
			return otherHost(strings.Join(only.said, ", "))
		}
	}
	return nil
}

// algorithmOf is how a signature is made: for RSA never with SHA-1, whatever is
// asked.
func algorithmOf(key ssh.PublicKey, flags agent.SignatureFlags) string {
	switch {
	case bare(key).Type() != ssh.KeyAlgoRSA:
		return bare(key).Type()
	case flags&agent.SignatureFlagRsaSha512 != 0:
		return ssh.KeyAlgoRSASHA512
	}
	return ssh.KeyAlgoRSASHA256
}

// What only a program here may do.

func (s *served) Add(k agent.AddedKey) error {
	s.why = s.add(k)
	return s.why
}

func (s *served) add(k agent.AddedKey) (err error) {
	switch {
	case !s.l.All:
		err = errNever
	case s.l.ring.Locked():
		err = ErrLocked
	case len(k.ConstraintExtensions) > 0: // to hold it without them would be to let it do more
		err = fmt.Errorf("it is to be limited by %q, which is not held to here", sanitize.Line(k.ConstraintExtensions[0].ExtensionName, 60))
	}
	if err != nil {
		secret.Wipe(k.PrivateKey)
		return err
	}
	e := Entry{Name: sanitize.Line(k.Comment, 60), Confirm: k.ConfirmBeforeUse}
	if k.LifetimeSecs > 0 {
		e.Until = time.Now().Add(time.Duration(k.LifetimeSecs) * time.Second)
	}
	if k.Certificate != nil {
		_, err = s.l.ring.AddCertified(k.PrivateKey, k.Certificate, e)
	} else {
		_, err = s.l.ring.Add(k.PrivateKey, e)
	}
	return err
}

func (s *served) Remove(key ssh.PublicKey) error {
	if !s.l.All {
		return errNever
	}
	if s.l.ring.Locked() {
		return ErrLocked
	}
	if !s.l.ring.Remove(ssh.FingerprintSHA256(key)) {
		return errGone
	}
	return nil
}

func (s *served) RemoveAll() error {
	if !s.l.All {
		return errNever
	}
	if s.l.ring.Locked() {
		return ErrLocked
	}
	s.l.ring.Forget()
	return nil
}

func (s *served) Lock(password []byte) error {
	if !s.l.All {
		return errNever
	}
	return s.l.ring.Lock(password)
}

func (s *served) Unlock(password []byte) error {
	if !s.l.All {
		return errNever
	}
	return s.l.ring.Unlock(password)
}

func (*served) Signers() ([]ssh.Signer, error) { return nil, errNever }

// Extension takes the one extension that says for which session a line is used.
func (s *served) Extension(kind string, payload []byte) ([]byte, error) {
	if kind != "session-bind@openssh.com" {
		return nil, agent.ErrExtensionUnsupported
	}
	b, err := readBinding(payload)
	if err != nil {
		return nil, err
	}
	if n := len(s.bindings); n >= maxBindings || n > 0 && !s.bindings[n-1].forwarded {
		return nil, errBindings
	}
	s.bindings = append(s.bindings, b)
	return nil, nil
}
