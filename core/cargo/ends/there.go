package ends

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/retry"
	"meatus/core/walk"
)

// MaxChannels is how many file-transfer channels a tree takes at most.
const MaxChannels = 6

// Bounds of one folder's listing, and of what a far side may keep us waiting for it.
const (
	maxNames  = 1 << 20
	maxListed = 200 << 20 // bytes
	maxList   = 10 * time.Minute
)

// Walk walks to the account. lane is 0, or says which further link beside the first it is to be over;
// again says that it was reached before: then it is waited for.
type Walk func(ctx context.Context, lane int, again bool) (*walk.Passage, error)

// Options of a far tree.
type Options struct {
	Session string
	Walk    Walk
	// Lanes is how many links to the account may be used, as the session says; 1 where 0.
	Lanes int
	// Super has everything done with the superuser's right, by the command sudo, which
	// must not ask for a password.
	Super bool
	// Lent begins a command that keys are lent to, as the session says; nil where none may be.
	Lent func(ctx context.Context, p *walk.Passage, command string) (*remote.Program, error)
	// Silence is how long the far side may say nothing while something is asked of it; two
	// minutes where 0.
	Silence time.Duration
}

// There is a tree of a far account. It is safe to use from many goroutines.
type There struct {
	Options
	server string // the command that serves the protocol, "" for the subsystem; guarded by mu
	path   string // of the root
	dir    string // the folder that commands run in
	base   string // what is put before each path there
	home   string // the login's folder, "" where it is not told

	ctx    context.Context
	cancel context.CancelFunc

	digests sync.Once // found out: whether the file-transfer channel tells them
	tells   atomic.Bool

	again sync.Mutex // held while the account is reached anew

	ordering sync.Mutex // held while it is found out:
	order    linkOrder
	follows  atomic.Bool // it was seen to follow links, as those in [followers] do

	mu       sync.Mutex
	passage  *walk.Passage
	lives    context.Context // as long as the passage is used
	leave    context.CancelFunc
	channels []*channel
	full     bool // no more channels are to be had
	single   bool // the server falls silent when it has several channels
	growing  int  // channels that are being opened
	tried    int  // channels that were asked for since the account was reached
	commands commands
	counted  int64 // requests that were made
}

// channel is one file-transfer channel.
type channel struct {
	files    *sftp.Client
	extended *remote.Extended // nil where it is served by commands
	shell    bool             // it is served by commands of the account's shell
	done     func()
	life     context.Context // ends with the channel
	busy     int             // operations under way, guarded by the tree's lock
	waits    int             // what waits to open a file there, guarded by the tree's lock
	one      chan struct{}   // holds a word while a file or a folder is open there, nil where many may be

	heard atomic.Int64 // bytes that the far side said
	data  atomic.Int64 // of them, what files hold
}

// OpenThere opens the tree at a path of an account: one that does not begin with "/" stands
// in the login's folder. It fails with a gate's failure where the account or its
// file-transfer channel cannot be reached.
func OpenThere(ctx context.Context, o Options, at string) (*There, error) {
	t := &There{Options: o}
	t.Silence = cmp.Or(t.Silence, longSilence)
	if o.Super {
		t.server = superServer
	}
	t.ctx, t.cancel = context.WithCancel(context.Background())
	if err := t.connect(ctx, false); err != nil {
		t.cancel()
		return nil, err
	}
	if err := t.settle(at); err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

// connect walks to the account and opens the first channel.
func (t *There) connect(ctx context.Context, again bool) error {
	p, err := t.Walk(ctx, 0, again)
	if err != nil {
		return err
	}
	c, err := t.open(ctx, p)
	if err != nil {
		p.Close()
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.passage, t.channels, t.full, t.tried = p, []*channel{c}, false, 1
	t.lives, t.leave = context.WithCancel(t.ctx)
	return nil
}

// open opens a channel. ctx bounds the opening alone.
func (t *There) open(ctx context.Context, p *walk.Passage) (*channel, error) {
	life, end := context.WithCancel(t.ctx)
	stop := context.AfterFunc(ctx, end)
	t.mu.Lock()
	server := t.server
	t.mu.Unlock()
	slow := time.AfterFunc(t.Silence, end)
	c := &channel{}
	err := t.openWith(life, p, server, c)
	for _, other := range [...]string{plainServer, shellServer} {
		if server != "" && (server != superServer || other == plainServer) || !remote.NoFiles(err) {
			continue
		}
		if t.openWith(life, p, other, c) == nil {
			err = nil
			t.mu.Lock()
			t.server = other
			t.mu.Unlock()
		}
	}
	silent := !slow.Stop()
	if !stop() || silent || err != nil {
		end()
		if silent {
			err = errSilent
		}
		return nil, cmp.Or(ctx.Err(), err)
	}
	done := c.done
	c.done = func() { done(); end() }
	c.life = life
	if isOneOf(p, mixers) {
		c.one = make(chan struct{}, 1)
	}
	go t.guard(life, c)
	return c, nil
}

// openWith opens a channel to what serves it: "" for the subsystem, [shellServer] for commands of a shell.
func (t *There) openWith(ctx context.Context, p *walk.Passage, server string, c *channel) error {
	if server == shellServer {
		return t.openShell(ctx, p, c)
	}
	files, err := remote.FilesWith(ctx, p, remote.FileOptions{Command: server, Piece: largePiece, Heard: func(n int) { c.heard.Add(int64(n)) }})
	if err == nil {
		c.files, c.extended, c.done = files.Client, files.Extended, files.Close
	}
	return err
}

// longSilence is how long a far side may say nothing where the options do not tell.
const longSilence = 2 * time.Minute

var errSilent = errors.New("the far side does not answer over its file-transfer channel")

// crowded are what servers call themselves that lose count of what comes when files are moved over
// several channels of one link at once: they wait for ever then.
var crowded = []string{"mod_sftp"}

// mixers are the version strings of servers that give two open files of a channel the same handle, and so write data to
// the wrong file.
var mixers = []string{"Erlang/"}

// isOneOf tells whether the server at a passage's end calls itself by one of these names.
func isOneOf(p *walk.Passage, names []string) bool {
	return slices.ContainsFunc(names, func(s string) bool { return strings.HasPrefix(p.Link().Software, s) })
}

// guard ends a channel whose far side is silent while something is asked of it, so that nothing waits
// for it for ever.
func (t *There) guard(ctx context.Context, c *channel) {
	look := time.NewTicker(t.Silence / 8)
	defer look.Stop()
	was, since := int64(-1), time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		}
		t.mu.Lock()
		busy := c.busy > 0
		t.mu.Unlock()
		if now := c.heard.Load(); now != was || !busy {
			was, since = now, time.Now()
		}
		if time.Since(since) > t.Silence {
			t.mu.Lock()
			t.single = t.single || len(t.channels)+t.growing > 1
			t.mu.Unlock()
			c.done()
			return
		}
	}
}

// settle finds out where the root is.
func (t *There) settle(at string) error {
	c, err := t.take()
	if err != nil {
		return err
	}
	defer t.give(c)
	files := c.files
	if t.home == "" {
		t.home, err = files.RealPath(".")
	}
	if rest, home := strings.CutPrefix(at, "~"); home && (rest == "" || rest[0] == '/') {
		at = strings.TrimPrefix(rest, "/")
	}
	if !path.IsAbs(at) {
		if err != nil {
			return fmt.Errorf("the login's folder at %s: %w", t.Session, err)
		}
		at = path.Join(t.home, at)
	}
	t.path = path.Clean(at)
	info, err := files.Stat(t.path)
	if err == nil && info.IsDir() {
		t.dir = t.path
		if real, err := files.RealPath(t.path); err == nil && path.IsAbs(real) {
			t.dir = real
		}
		return nil
	}
	if t.dir, t.base = path.Split(t.path); t.dir != "/" {
		t.dir = path.Clean(t.dir)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s at %s: %w", t.path, t.Session, err)
	}
	if info, err := files.Stat(t.dir); err != nil || !info.IsDir() {
		return fmt.Errorf("there is no folder %s at %s", t.dir, t.Session)
	}
	return nil
}

// InHome tells whether the tree stands in the login's own folder.
func (t *There) InHome() bool { return within(t.home, path.Join(t.dir, t.base)) }

// within tells whether a folder is a home, or stands in it. The root of everything is nobody's home.
func within(home, folder string) bool {
	home, folder = path.Clean("/"+home), path.Clean(folder)
	return home != "/" && (folder == home || strings.HasPrefix(folder, home+"/"))
}

// Reroot gives the tree another root. Nothing else may use it meanwhile.
func (t *There) Reroot(at string) error {
	t.dir, t.base = "", ""
	return t.settle(at)
}

// at is a path as the server knows it.
func (t *There) at(name string) string {
	if t.base != "" {
		name = Join(t.base, name)
	}
	if t.dir == "/" {
		return "/" + name
	}
	if name == "" {
		return t.dir
	}
	return t.dir + "/" + name
}

// Name is the session.
func (t *There) Name() string { return t.Session }

// Root is the root's full path.
func (t *There) Root() string { return t.path }

// Can tells what the far side can do.
func (t *There) Can(f Feature) bool {
	switch f {
	case Digests:
		return t.known().digest || t.tellsDigests()
	case Packs:
		return t.known().unpack
	case Sends:
		return t.known().pack
	case Follows:
		return t.followsLinks()
	}
	name := map[Feature]string{Replaces: "posix-rename@openssh.com", Hardens: "hardlink@openssh.com", Syncs: "fsync@openssh.com"}[f]
	c, err := t.take()
	if err != nil {
		return false
	}
	defer t.give(c)
	_, can := c.files.HasExtension(name)
	return can
}

// The pieces that files are asked for in: what every server has to take (section 3 of the
// draft), and what those take that tell their limits.
const (
	smallPiece = 32 << 10
	largePiece = 240 << 10
)

// limits is by which a server says that it takes large pieces.
const limits = "limits@openssh.com"

// Widths is how much may be under way at once.
func (t *There) Widths() (operations, piece int) {
	c, err := t.take()
	if err != nil {
		return 1, smallPiece
	}
	defer t.give(c)
	switch piece := c.piece(); {
	case c.shell:
		return 2 * shellChannels, piece
	case piece == largePiece:
		return 96, piece
	}
	return 256, smallPiece
}

// piece is how long a piece of a file the far side takes, in bytes.
func (c *channel) piece() int {
	if _, large := c.files.HasExtension(limits); large || c.shell {
		return largePiece
	}
	return smallPiece
}

// Requests is how many operations the far side was asked for so far.
func (t *There) Requests() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.counted
}

// lost is the error of an operation during which the line was lost.
type lost struct{ error }

func (l lost) Unwrap() error { return l.error }

// Lost tells whether an error means that the line is no more.
func (t *There) Lost(err error) bool {
	var l lost
	return errors.As(err, &l)
}

// Linked tells whether the link to the account is up, whatever became of its channels.
func (t *There) Linked() bool {
	p := t.Passage()
	return p != nil && p.Lives()
}

// answered tells whether an error is an answer of the server.
func answered(err error) bool {
	var s *sftp.StatusError
	return err == io.EOF || errors.As(err, &s) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) ||
		errors.Is(err, fs.ErrExist) || errors.Is(err, os.ErrClosed) || errors.Is(err, context.Canceled) || errors.Is(err, errEndless) || errors.Is(err, ErrUnsafe) ||
		errors.Is(err, ErrFollows) || errors.Is(err, errNoLink) || isWrongLink(err)
}

func isWrongLink(err error) bool {
	var w *WrongLinkError
	return errors.As(err, &w)
}

// judged is an operation's error, as a lost line where it is none of the server's answers.
func judged(err error) error {
	if err == nil || answered(err) {
		return err
	}
	return lost{err}
}

// busyAt is from how many operations on each channel on another one is worth while; a full
// window of a channel is ten large pieces (2 MiB).
const busyAt = 8

// take takes the channel with the least to do for one operation.
func (t *There) take() (*channel, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	least, err := t.leastLocked()
	if err == nil {
		least.busy++
		t.counted++
	}
	return least, err
}

// takeToOpen is take for the opening of a file or a folder. It waits where the server may have one open on a channel alone;
// done lets the next one be opened.
func (t *There) takeToOpen(ctx context.Context) (c *channel, done func(), err error) {
	t.mu.Lock()
	c, err = t.leastLocked()
	if err != nil || c.one == nil {
		if err == nil {
			c.busy++
			t.counted++
		}
		t.mu.Unlock()
		return c, func() {}, err
	}
	c.waits++
	t.mu.Unlock()
	select {
	case c.one <- struct{}{}:
	case <-c.life.Done():
		err = lost{errors.New("the file-transfer channel to " + t.Session + " has ended")}
	case <-ctx.Done():
		err = ctx.Err()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	c.waits--
	if err != nil {
		return nil, nil, err
	}
	c.busy++
	t.counted++
	return c, sync.OnceFunc(func() { <-c.one }), nil
}

// leastLocked is the channel with the least to do; where each has much, another is opened.
func (t *There) leastLocked() (*channel, error) {
	var least *channel
	for _, c := range t.channels {
		if least == nil || c.busy+c.waits < least.busy+least.waits {
			least = c
		}
	}
	if least == nil {
		return nil, lost{errors.New("the line to " + t.Session + " is lost")}
	}
	for (least.busy >= busyAt || least.shell && least.busy > 0 || least.waits > 0) && !t.full && len(t.channels)+t.growing < t.worthLocked() {
		t.growing++
		go t.grow(t.lives, t.passage, t.tried%max(t.Lanes, 1))
		t.tried++
	}
	return least, nil
}

// worthLocked is how many channels are worth having: behind a long round trip one window a
// channel is all that comes through each.
func (t *There) worthLocked() int {
	link := t.passage.Link()
	switch trip := link.RoundTrip; {
	case t.server == shellServer:
		return shellChannels // each answers one request after the other
	case t.single || isOneOf(t.passage, crowded):
		return 1
	case trip > 10*time.Millisecond:
		return MaxChannels
	case trip > 2*time.Millisecond:
		return 4
	}
	return 2
}

// grow opens one more channel, over a further link where the session has several. A server that has
// no more is not asked again.
func (t *There) grow(ctx context.Context, p *walk.Passage, lane int) {
	c, err := t.openOn(ctx, p, lane)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.growing--
	switch {
	case t.passage != p: // it was reached anew meanwhile
		if err == nil {
			c.done()
		}
	case err != nil:
		t.full = true
	default:
		t.channels = append(t.channels, c)
	}
}

// openOn opens a channel over a passage, or over a link of its own beside it.
func (t *There) openOn(ctx context.Context, p *walk.Passage, lane int) (*channel, error) {
	if lane == 0 {
		return t.open(ctx, p)
	}
	own, err := t.Walk(ctx, lane, false)
	if err != nil {
		return nil, err
	}
	c, err := t.open(ctx, own)
	if err != nil {
		own.Close()
		return nil, err
	}
	done := c.done
	c.done = func() {
		done()
		own.Close()
	}
	return c, nil
}

// hold takes a channel that one has already for one operation more.
func (t *There) hold(c *channel) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c.busy++
	t.counted++
}

func (t *There) give(c *channel) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c.busy--
}

// do does one operation.
func (t *There) do(ctx context.Context, operation func(*sftp.Client) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	c, err := t.take()
	if err != nil {
		return err
	}
	defer t.give(c)
	return judged(operation(c.files))
}

// Again has the account reached anew, once for all that ask for it together.
func (t *There) Again(ctx context.Context) error {
	t.mu.Lock()
	before := t.passage
	t.mu.Unlock()
	t.again.Lock()
	defer t.again.Unlock()
	if !t.drop(before) {
		return ctx.Err()
	}
	// A link that is shared may be dead without that being known yet, and a machine that starts may
	// take a login before it takes a channel.
	pauses := retry.Pauses(firstPause, longPause)
	for try := 1; ; try++ {
		err := t.connect(ctx, true)
		var f *gate.Failure
		if err == nil || ctx.Err() != nil || try == tries ||
			!errors.Is(err, errSilent) && (!errors.As(err, &f) || !walk.MayPass(f) && f.Cause != gate.ChannelRefused) {
			return err
		}
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// The pauses between attempts to open the file-transfer channel anew.
const (
	firstPause = 50 * time.Millisecond
	longPause  = 30 * time.Second
	tries      = 11 // which take less than a minute of pauses
)

// drop gives up what goes over a passage, and tells whether that was what is used now.
func (t *There) drop(p *walk.Passage) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.passage != p {
		return false
	}
	for _, c := range t.channels {
		c.done()
	}
	t.channels = nil
	if t.passage != nil {
		t.leave()
		t.passage.Close()
		t.passage = nil
	}
	return true
}

// Close gives the tree up.
func (t *There) Close() error {
	t.cancel()
	t.mu.Lock()
	p := t.passage
	t.mu.Unlock()
	t.drop(p)
	return nil
}

// Passage is the way to the account as it is now, nil where there is none.
func (t *There) Passage() *walk.Passage {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.passage
}

// entryOf makes an entry of what the server says.
func entryOf(info fs.FileInfo) Entry {
	e := Entry{Kind: kindOf(info.Mode()), Mode: bits(info.Mode()), Time: info.ModTime().Unix()}
	if e.Kind == File {
		e.Size = max(info.Size(), 0) // a size beyond 2^63 is told as 0, and then differs from what is read
	}
	if s, ok := info.Sys().(*sftp.FileStat); ok {
		e.UID, e.GID, e.Owned = s.UID, s.GID, true
	}
	return e
}

// Lstat tells what stands under a name.
func (t *There) Lstat(ctx context.Context, name string) (e Entry, err error) {
	err = t.do(ctx, func(c *sftp.Client) error {
		info, err := c.Lstat(t.at(name))
		if err == nil {
			e = entryOf(info)
		}
		switch {
		case err == nil && e.Kind == Link:
			if e.Link, err = t.leadsTo(c, name); errors.Is(err, fs.ErrNotExist) {
				err = nil // it is there, and what it says is not told
			}
		case err == nil && t.followsLinks():
			if leads, lerr := t.leadsTo(c, name); lerr == nil {
				e = Entry{Kind: Link, Mode: bits(fs.ModePerm), Link: leads, Owned: e.Owned, UID: e.UID, GID: e.GID}
			} else if !answered(lerr) {
				err = lerr
			}
		}
		return err
	})
	return e, err
}

// Stat tells what a name leads to, where that stands in the tree.
func (t *There) Stat(ctx context.Context, name string) (e Entry, err error) {
	err = t.do(ctx, func(c *sftp.Client) error {
		real, err := c.RealPath(t.at(name))
		if err != nil {
			return err
		}
		if real != t.dir && !strings.HasPrefix(real, strings.TrimSuffix(t.dir, "/")+"/") {
			return fmt.Errorf("it leads out of the tree: %w", fs.ErrPermission)
		}
		info, err := c.Stat(t.at(name))
		if err == nil {
			e = entryOf(info)
		}
		return err
	})
	return e, err
}

// followers are what servers call themselves that follow links: asked for a link itself they tell of the file that it
// leads to, and asked what it says, that file's full path.
var followers = []string{"mod_sftp"}

// followsLinks tells whether the server follows links where it is asked for the links themselves.
func (t *There) followsLinks() bool {
	p := t.Passage()
	return t.follows.Load() || p != nil && isOneOf(p, followers)
}

// refuseLink fails where a name is a link that the server would follow.
func (t *There) refuseLink(c *sftp.Client, name string) error {
	if !t.followsLinks() {
		return nil
	}
	_, err := c.ReadLink(t.at(name))
	switch {
	case err == nil:
		return ErrFollows
	case answered(err):
		return nil
	}
	return err
}

// leadsTo is what a link says that it leads to. Where a server tells the full path in its place, and that is in the
// tree, it is what a relative link says. A server with a root of its own may not tell what a relative link says, but
// where it leads.
func (t *There) leadsTo(c *sftp.Client, name string) (string, error) {
	leads, err := c.ReadLink(t.at(name))
	if err == nil && path.IsAbs(leads) && !t.isOpenSSH() && !t.followsLinks() {
		t.seeFollowed(c, name)
	}
	whole := t.followsLinks()
	if errors.Is(err, fs.ErrNotExist) && !whole {
		switch real, rerr := c.RealPath(t.at(name)); {
		case rerr == nil && real != t.at(name):
			leads, err, whole = real, nil, true
		case rerr != nil && !answered(rerr):
			err = rerr
		}
	}
	if err != nil || !whole || !path.IsAbs(leads) || !within(t.dir, leads) {
		return leads, err
	}
	return filepath.Rel(path.Dir(t.at(name)), leads)
}

var errEndless = errors.New("the folder has more names than are taken")

// List tells each name in a folder.
func (t *There) List(ctx context.Context, folder string, each func(string, Entry) error) error {
	ctx, cancel := context.WithTimeout(ctx, maxList)
	defer cancel()
	c, closed, err := t.takeToOpen(ctx)
	if err != nil {
		return err
	}
	defer t.give(c)
	infos, err := c.list(ctx, t.at(folder))
	closed()
	if err != nil {
		return judged(err)
	}
	return t.each(c.files, folder, infos, each)
}

// linksAtOnce is how many links are asked at once for what they lead to.
const linksAtOnce = 64

// list reads a folder. The library gathers what a far side lists, which may never end: so it is
// given up when more has come than a folder of [maxNames] has.
func (c *channel) list(ctx context.Context, folder string) ([]fs.FileInfo, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	began := c.heard.Load() - c.data.Load()
	endless := atomic.Bool{}
	look := time.NewTicker(100 * time.Millisecond)
	defer look.Stop()
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			select {
			case <-done:
				return
			case <-look.C:
				if c.heard.Load()-c.data.Load()-began > maxListed {
					endless.Store(true)
					cancel()
				}
			}
		}
	}()
	infos, err := c.files.ReadDirContext(ctx, folder)
	if endless.Load() || len(infos) > maxNames {
		return nil, errEndless
	}
	return infos, err
}

// each tells the names of a folder that was read.
func (t *There) each(c *sftp.Client, folder string, infos []fs.FileInfo, each func(string, Entry) error) error {
	leads := make([]string, len(infos))
	var links errgroup.Group
	links.SetLimit(linksAtOnce)
	for i, info := range infos {
		if info.Mode()&fs.ModeSymlink != 0 && !Unsafe(info.Name()) {
			links.Go(func() error {
				leads[i], _ = t.leadsTo(c, Join(folder, info.Name()))
				return nil
			})
		}
	}
	links.Wait()
	for i, info := range infos {
		e := entryOf(info)
		e.Link = leads[i]
		if err := each(info.Name(), e); err != nil {
			return err
		}
	}
	return nil
}

// thereFile is an open file of the far side, on as many channels as reading or writing it
// comes to.
type thereFile struct {
	t     *There
	name  string
	flags int

	first *channel // on which it was opened
	shut  func()   // lets another be opened there

	mu     sync.Mutex
	opened map[*channel]*opening
	alone  bool // it is opened on the first channel alone
}

// opening is a file on one channel, opened when it is used there first.
type opening struct {
	once sync.Once
	file *sftp.File
	err  error
}

// on is the file on a channel.
func (f *thereFile) on(c *channel) (*sftp.File, error) {
	f.mu.Lock()
	o := f.opened[c]
	if o == nil {
		o = &opening{}
		f.opened[c] = o
	}
	f.mu.Unlock()
	o.once.Do(func() { o.file, o.err = c.files.OpenFile(f.t.at(f.name), f.flags) })
	return o.file, o.err
}

func (f *thereFile) use(do func(*sftp.File) error) error {
	return f.used(false, func(_ *channel, file *sftp.File) error { return do(file) })
}

// used does something with the file: on the channel it was opened on, or where it may be spread on
// the one with the least to do. A server that lets nobody open it twice has it on the first alone.
func (f *thereFile) used(spread bool, do func(*channel, *sftp.File) error) error {
	c, err := f.channel(spread)
	if err != nil {
		return err
	}
	defer f.t.give(c)
	file, err := f.on(c)
	if err != nil && c != f.first && answered(err) {
		f.mu.Lock()
		f.alone = true
		f.mu.Unlock()
		return f.used(false, do)
	}
	if err != nil {
		return judged(err)
	}
	return judged(do(c, file))
}

// channel takes the channel for one operation.
func (f *thereFile) channel(spread bool) (*channel, error) {
	f.mu.Lock()
	alone := f.alone
	f.mu.Unlock()
	if spread && !alone {
		return f.t.take()
	}
	f.t.hold(f.first)
	return f.first, nil
}

// ReadAt reads from a place on, one request for each piece: what the library makes of a longer read
// is wrong where a server answers with less than it was asked for.
func (f *thereFile) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) && err == nil {
		var got int
		err = f.used(at > 0, func(c *channel, file *sftp.File) (err error) {
			got, err = file.ReadAt(b[n:min(n+c.piece(), len(b))], at+int64(n))
			c.data.Add(int64(got))
			return err
		})
		n += got
	}
	return n, err
}

// WriteAt writes a piece.
func (f *thereFile) WriteAt(b []byte, at int64) (n int, err error) {
	err = f.used(at > 0, func(_ *channel, file *sftp.File) (err error) { n, err = file.WriteAt(b, at); return err })
	return n, err
}

// Look tells how the file is now.
func (f *thereFile) Look() (e Entry, err error) {
	err = f.use(func(file *sftp.File) error {
		info, err := file.Stat()
		if err == nil {
			e = entryOf(info)
		}
		return err
	})
	return e, err
}

// Truncate gives the file a size.
func (f *thereFile) Truncate(size int64) error {
	return f.use(func(file *sftp.File) error { return file.Truncate(size) })
}

// Sync has the content on the disk where the server offers it.
func (f *thereFile) Sync() error {
	return f.use(func(file *sftp.File) error {
		if _, can := f.t.canSync(); !can {
			return nil
		}
		return file.Sync()
	})
}

func (t *There) canSync() (string, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.channels) == 0 {
		return "", false
	}
	return t.channels[0].files.HasExtension("fsync@openssh.com")
}

// Close closes the file on every channel.
func (f *thereFile) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all error
	var closing sync.WaitGroup
	errs := make(chan error, len(f.opened))
	for c, o := range f.opened {
		if o.file != nil {
			f.t.hold(c)
			closing.Go(func() {
				defer f.t.give(c)
				errs <- judged(o.file.Close())
			})
		}
	}
	closing.Wait()
	f.shut()
	close(errs)
	for err := range errs {
		all = errors.Join(all, err)
	}
	f.opened = map[*channel]*opening{}
	return all
}

// open opens a file with flags, on one channel at first.
func (t *There) file(ctx context.Context, name string, first, flags int) (*thereFile, error) {
	f := &thereFile{t: t, name: name, flags: flags, opened: map[*channel]*opening{}}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	c, shut, err := t.takeToOpen(ctx)
	if err != nil {
		return nil, err
	}
	defer t.give(c)
	f.shut, f.alone = shut, c.one != nil
	file, err := c.files.OpenFile(t.at(name), first)
	if err != nil {
		shut()
		return nil, judged(err)
	}
	o := &opening{file: file}
	o.once.Do(func() {})
	f.opened[c], f.first = o, c
	return f, nil
}

// Open opens a file to be read.
func (t *There) Open(ctx context.Context, name string) (Reader, error) {
	return t.file(ctx, name, os.O_RDONLY, os.O_RDONLY)
}

// Create makes a file, which the account alone may read from when its mode can be set.
func (t *There) Create(ctx context.Context, name string) (Writer, error) {
	f, err := t.file(ctx, name, os.O_RDWR|os.O_CREATE|os.O_EXCL, os.O_RDWR)
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Reopen opens a file that is there, to be written.
func (t *There) Reopen(ctx context.Context, name string) (Writer, error) {
	return t.file(ctx, name, os.O_RDWR, os.O_RDWR)
}

// Mkdir makes a folder.
func (t *There) Mkdir(ctx context.Context, name string, mode uint16) error {
	return t.do(ctx, func(c *sftp.Client) error {
		if err := c.Mkdir(t.at(name)); err != nil {
			return err
		}
		return c.Chmod(t.at(name), modeOf(mode))
	})
}

// Rename gives a name to what stands under another, where nothing is: the protocol's own
// rename fails where there is something.
func (t *There) Rename(ctx context.Context, from, to string) error {
	return t.do(ctx, func(c *sftp.Client) error {
		if err := t.refuseLink(c, from); err != nil {
			return err
		}
		err := c.Rename(t.at(from), t.at(to))
		if err == nil || !answered(err) || errors.Is(err, fs.ErrNotExist) {
			return err
		}
		// A server of another make refuses it now and then though nothing stands there, and takes the
		// same as a second name or as the rename that replaces.
		if _, lerr := c.Lstat(t.at(to)); !errors.Is(lerr, fs.ErrNotExist) {
			return err
		}
		if _, can := c.HasExtension("hardlink@openssh.com"); can && c.Link(t.at(from), t.at(to)) == nil {
			return c.Remove(t.at(from))
		}
		if _, can := c.HasExtension("posix-rename@openssh.com"); can {
			return c.PosixRename(t.at(from), t.at(to))
		}
		return err
	})
}

// Replace puts a file in the place of another.
func (t *There) Replace(ctx context.Context, from, to string) error {
	return t.do(ctx, func(c *sftp.Client) error {
		if err := cmp.Or(t.refuseLink(c, from), t.refuseLink(c, to)); err != nil {
			return err
		}
		return c.PosixRename(t.at(from), t.at(to))
	})
}

// Link makes a second name of a file.
func (t *There) Link(ctx context.Context, from, to string) error {
	return t.do(ctx, func(c *sftp.Client) error { return c.Link(t.at(from), t.at(to)) })
}

// Symlink makes a symbolic link. It fails with [ErrFollows], once, where the link was made and is found to be followed
// by the server: it cannot be moved or removed then.
func (t *There) Symlink(ctx context.Context, leads, name string) error {
	return t.do(ctx, func(c *sftp.Client) error {
		if t.isOpenSSH() {
			return c.Symlink(leads, t.at(name))
		}
		known := t.followsLinks() // others may find it out meanwhile
		first, err := t.linkComesFirst(c, t.at(name))
		switch {
		case err != nil:
			return err
		case first:
			err = c.Symlink(t.at(name), leads)
		default:
			err = c.Symlink(leads, t.at(name))
		}
		if err != nil || known {
			return err
		}
		if err = t.seeFollowed(c, name); err == nil && t.followsLinks() {
			return ErrFollows
		}
		if err == nil {
			err = t.leadsRight(c, leads, name)
		}
		return err
	})
}

// leadsRight reads back what a new link leads to, and removes a link that leads elsewhere: some servers turn what a link
// says into a full path, seen from their own folder. It is right where a link between folders of the tree is told by its
// full path.
func (t *There) leadsRight(c *sftp.Client, leads, name string) error {
	got, err := t.leadsTo(c, name)
	if err != nil {
		if answered(err) {
			return nil // it is there, and what it says is not told
		}
		return err
	}
	if got == leads || path.IsAbs(got) && path.Clean(got) == path.Join(path.Dir(t.at(name)), leads) {
		return nil
	}
	return errors.Join(&WrongLinkError{got}, c.Remove(t.at(name)))
}

// WrongLinkError says that a server made a link that leads elsewhere than it was told. The link was removed.
type WrongLinkError struct{ Leads string }

func (e *WrongLinkError) Error() string {
	return fmt.Sprintf("the server makes it lead to %q, so it was removed: make the link there by hand", e.Leads)
}

// seeFollowed asks for a name that is a link, and learns whether the server follows it.
func (t *There) seeFollowed(c *sftp.Client, name string) error {
	info, err := c.Lstat(t.at(name))
	if err == nil && info.Mode()&fs.ModeSymlink == 0 || errors.Is(err, fs.ErrNotExist) {
		t.follows.Store(true)
		return nil
	}
	return err
}

// isOpenSSH tells whether the server is the distribution's, by what it calls itself.
func (t *There) isOpenSSH() bool {
	p := t.Passage()
	return p != nil && strings.HasPrefix(p.Link().Software, "OpenSSH")
}

// linkComesFirst tells whether the server takes the link's own name before what it leads to, as the draft has it
// (draft-ietf-secsh-filexfer-02, section 6.10), and not as the distribution's server does and the library for it
// (its PROTOCOL, section 4.1). In the wrong order a link would be made where it is to lead to, in the tree or not: a
// server of another make is asked for one between two names of ours beside the link's, once.
func (t *There) linkComesFirst(c *sftp.Client, name string) (bool, error) {
	t.ordering.Lock()
	defer t.ordering.Unlock()
	if t.order != 0 {
		return t.order == linkFirst, nil
	}
	to := path.Join(path.Dir(name), PartPrefix+strings.ToLower(rand.Text()))
	link := to + "-link"
	if err := c.Symlink(to, link); err != nil {
		return false, err
	}
	for _, made := range [...]struct {
		name  string
		order linkOrder
	}{{link, linkLast}, {to, linkFirst}} {
		info, err := c.Lstat(made.name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return false, err
		}
		if err == nil && info.Mode()&fs.ModeSymlink != 0 {
			t.order = made.order
			return t.order == linkFirst, c.Remove(made.name)
		}
	}
	return false, errNoLink
}

var errNoLink = errors.New("the server says that it made a link, and there is none")

// linkOrder is in which order a server takes the two names of a link, zero where that is not known.
type linkOrder uint8

const (
	linkLast linkOrder = 1 + iota
	linkFirst
)

// Remove removes a file, a link or an empty folder.
func (t *There) Remove(ctx context.Context, name string) error {
	return t.do(ctx, func(c *sftp.Client) error {
		info, err := c.Lstat(t.at(name))
		if err != nil {
			return err
		}
		if err := t.refuseLink(c, name); err != nil {
			return err
		}
		if info.IsDir() {
			return c.RemoveDirectory(t.at(name))
		}
		return c.Remove(t.at(name))
	})
}

// Chmod sets the bits of permission.
func (t *There) Chmod(ctx context.Context, name string, mode uint16) error {
	return t.do(ctx, func(c *sftp.Client) error { return c.Chmod(t.at(name), modeOf(mode)) })
}

// Chtime sets when it was written last. The protocol has seconds from 1970 to 2106 alone.
func (t *There) Chtime(ctx context.Context, name string, e Entry) error {
	if !Tellable(e.Time) {
		return fmt.Errorf("the protocol has no time %s", e.When().UTC().Format(time.DateOnly))
	}
	return t.do(ctx, func(c *sftp.Client) error { return c.Chtimes(t.at(name), e.When(), e.When()) })
}

// Tellable tells whether the protocol can say a time, in seconds since 1970.
func Tellable(seconds int64) bool { return seconds >= 0 && seconds <= math.MaxUint32 }

// Chown sets whose it is.
func (t *There) Chown(ctx context.Context, name string, e Entry) error {
	return t.do(ctx, func(c *sftp.Client) error { return c.Chown(t.at(name), int(e.UID), int(e.GID)) })
}

// Room is how many bytes the account may still write.
func (t *There) Room(ctx context.Context) (room uint64, ok bool) {
	err := t.do(ctx, func(c *sftp.Client) error {
		if _, can := c.HasExtension("statvfs@openssh.com"); !can {
			return fs.ErrInvalid
		}
		s, err := c.StatVFS(t.dir)
		if err == nil {
			room = s.Bavail * s.Frsize
		}
		return err
	})
	return room, err == nil
}
