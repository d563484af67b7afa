package mend

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/localaddr"
	"meatus/core/login"
	"meatus/core/perm"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// Case is a gate that is to be mended.
type Case struct {
	Workspace *workspace.Workspace
	Route     route.Route
	Hop       int // the gate's hop on the route
	Gate      gate.Gate
	Failure   *gate.Failure   // how the last walk ended there, or nil
	Arrived   []keyfile.Sheet // keys that lie in the download folder
	Takes     []string        // fingerprints of keys that the server said it would take
	Asked     bool            // it was asked
}

// Way is one way to mend a gate.
type Way struct {
	Say     string          // "use the login keeper"
	Why     string          // why it is likely, "" where there is nothing to say
	Preview []string        // what it would change
	Act     gate.Act        // [gate.Settle] or [gate.Wait] where the interface does it
	LetIn   workspace.LetIn // what [gate.LetIn] adds
	do      func() (Done, error)
}

// Done is what a way has changed.
type Done struct {
	Say  string
	Book *book.Book // the sessions as they are now, nil where they did not change
	Keys []string   // key files that changed, by path
}

// Do goes the way. An error together with a Say means that it is done in part.
func (w Way) Do() (Done, error) {
	if w.do == nil {
		return Done{}, errors.New("that is not done here")
	}
	return w.do()
}

func (c Case) hop() route.Hop { return c.Route.Hops[c.Hop] }

// Ways are the ways to mend a gate, the likeliest first.
func Ways(c Case) []Way {
	var ways []Way
	switch {
	case c.Gate.Remedy.Act == gate.Settle:
		ways = append(ways, Way{Say: "decide about the changed host key", Act: gate.Settle})
	case c.Gate.Remedy.Act == gate.MendFile:
		ways = append(ways, c.restrict())
	case c.Gate.Kind == gate.State:
		return c.state()
	case c.Gate.Kind == gate.Rules:
		return c.rules(c.Workspace.AskHop(c.Route, c.Hop))
	case c.Gate.Kind == gate.Key:
		ways = append(c.file(), c.otherKeys()...)
	case c.Gate.Kind == gate.Login:
		ways = append(c.logins(), c.otherKeys()...)
		if len(c.Takes) > 0 { // the server has said what it wants
			slices.SortStableFunc(ways, func(a, b Way) int { return rank(b) - rank(a) })
		}
		if !c.Asked {
			ways = append(ways, Way{Say: "ask the server which of your keys it accepts", Why: "nothing is signed; no login", Act: gate.AskKeys,
				Preview: []string{fmt.Sprintf("asks %s about at most %d keys for the login %s", c.hop().Name, len(c.Workspace.KeyNames()), c.hop().User)}})
		}
	case c.Gate.Kind == gate.Channel && c.shutFar():
		ways = c.rules(c.Workspace.AskFar(c.Route, c.Gate.Remedy.Subject))
	case c.Gate.Kind == gate.Channel && c.Gate.Remedy.Act == gate.Choose:
		ways = c.otherListener()
	case c.Gate.Remedy.Act == gate.MendKey:
		ways = c.file()
	}
	if c.Failure != nil && walk.MayPass(c.Failure) {
		ways = append(ways, Way{Say: "wait until it answers", Why: "retries with growing pauses, then connects", Act: gate.Wait})
	}
	return ways
}

// state are the ways to have an instance run.
func (c Case) state() []Way {
	i := c.hop().Instance
	if i == nil {
		return nil
	}
	var ways []Way
	if source, ok := c.Workspace.Source(i.Source); ok && i.State == "stopped" && (&estate.Source{EstateSource: source}).Acts() {
		ways = append(ways, Way{Say: "start the instance, then connect", Act: gate.Start,
			Preview: []string{fmt.Sprintf("asks estate %s to start %s; its address may be another then, and the session follows", i.Source, sanitize.Line(i.Name, 60))}})
	}
	if i.State == "stopped" || i.State == "starting" {
		ways = append(ways, Way{Say: "wait until the instance runs, then connect", Act: gate.Runs, Preview: []string{"reads estate " + i.Source + " again and again, for ten minutes at most"}})
	}
	return ways
}

// Mode sets the mode of the key or the file of the workspace that a remedy is about, and
// says which it has now.
func Mode(r gate.Remedy) (say string, err error) {
	if r.Act == gate.MendFile {
		err = perm.Restrict(r.Subject, keyfile.MendedMode, nil)
	} else {
		_, err = keyfile.Mend(r.Subject)
	}
	return fmt.Sprintf("%s now has mode %04o", sanitize.Name(r.Subject), keyfile.Inspect(r.Subject).Mode.Perm()), err
}

// file are the ways to make the named key file usable.
func (c Case) file() []Way {
	path := c.Gate.Remedy.Subject
	if path == "" && len(c.hop().Keys) > 0 {
		path = c.hop().Keys[0]
	}
	if path == "" {
		return nil
	}
	access := keyfile.Inspect(path)
	var ways []Way
	for _, f := range access.Faults {
		switch {
		case f.Mending:
			ways = append(ways, c.mode(access), c.folder(path))
		case f.Flaw == keyfile.ForeignOwner:
			ways = append(ways, c.own(path, access), c.adopt(path, "copy the key to keys/ as your own"))
		case f.Flaw == keyfile.Missing:
			ways = append(ways, c.arrived(path)...)
		}
	}
	if below(path, c.Workspace.Downloads) {
		ways = append(ways, c.adopt(path, "move the key to keys/, readable only by you"))
	}
	return slices.DeleteFunc(ways, func(w Way) bool { return w.Say == "" })
}

// rank puts what the server said it would take first.
func rank(w Way) int {
	if w.Why == wouldTake {
		return 1
	}
	return 0
}

const wouldTake = "the server accepts it"

func below(path, dir string) bool {
	return dir != "" && strings.HasPrefix(path, filepath.Clean(dir)+string(filepath.Separator))
}

// mode sets the key's mode.
func (c Case) mode(a keyfile.Access) Way {
	name := sanitize.Name(a.Path)
	now := keyfile.MendedMode(a.Mode.Perm())
	return Way{
		Say:     fmt.Sprintf("set mode %04o on %s", now, name),
		Preview: []string{fmt.Sprintf("%s  %04o → %04o", workspace.Short(a.Real), a.Mode.Perm(), now)},
		do: func() (Done, error) {
			after, err := keyfile.Mend(a.Path)
			return Done{Say: fmt.Sprintf("%s now has mode %04o", name, after.Mode.Perm()), Keys: []string{a.Path}}, err
		},
	}
}

// folder mends every key beside one, where there are more.
func (c Case) folder(path string) Way {
	dir := filepath.Dir(path)
	loose := keyfile.Loose(dir)
	if len(loose) < 2 {
		return Way{}
	}
	w := Way{Say: fmt.Sprintf("fix the permissions of all %d keys in %s", len(loose), workspace.Short(dir))}
	var paths []string
	for _, s := range loose {
		w.Preview = append(w.Preview, fmt.Sprintf("%s  %04o → %04o", sanitize.Name(s.Path), s.Mode.Perm(), keyfile.MendedMode(s.Mode.Perm())))
		paths = append(paths, s.Path)
	}
	w.do = func() (Done, error) {
		changed, err := keyfile.MendFolder(dir)
		return Done{Say: "mended " + strings.Join(changed, ", "), Keys: paths}, err
	}
	return w
}

func (c Case) own(path string, a keyfile.Access) Way {
	if os.Geteuid() != 0 {
		return Way{} // only the superuser can take a file over
	}
	return Way{
		Say:     "make yourself the owner of the file",
		Preview: []string{fmt.Sprintf("%s  owner %s → you, mode %04o", workspace.Short(path), a.Owner, keyfile.MendedMode(a.Mode.Perm()))},
		do: func() (Done, error) {
			_, err := keyfile.Own(path)
			return Done{Say: sanitize.Name(path) + " is yours now", Keys: []string{path}}, err
		},
	}
}

// adopt brings a key into keys/ and points the sessions at it that name it.
func (c Case) adopt(path, say string) Way {
	if _, err := keyfile.Look(path); err != nil {
		return Way{}
	}
	ws, to := c.Workspace, filepath.Join("keys", filepath.Base(path))
	return Way{
		Say:     say,
		Preview: []string{fmt.Sprintf("%s → %s, mode 0400", workspace.Short(path), to), "sessions that name it name the new place"},
		do: func() (Done, error) {
			m, err := ws.MoveKey(filepath.Clean(path), "adopt", "")
			if m.To == "" {
				return Done{}, err
			}
			return Done{Say: fmt.Sprintf("%s is keys/%s now", sanitize.Name(path), sanitize.Name(m.To)), Book: m.Book, Keys: []string{path, m.To}}, err
		},
	}
}

// arrived are keys in the download folder for a key that is missing: the one of
// its name first.
func (c Case) arrived(missing string) []Way {
	var ways []Way
	for _, s := range c.Arrived {
		w := c.use(s.Path)
		if filepath.Base(s.Path) == filepath.Base(missing) {
			ways = append([]Way{w}, ways...)
		} else {
			ways = append(ways, w)
		}
	}
	return ways[:min(len(ways), 5)]
}

// use adopts a downloaded key and gives it to the hop's session.
func (c Case) use(path string) Way {
	ws, session := c.Workspace, c.hop().Name
	return Way{
		Say:     fmt.Sprintf("use %s from %s", sanitize.Name(path), workspace.Short(filepath.Dir(path))),
		Preview: []string{fmt.Sprintf("%s → keys/%s, mode 0400", workspace.Short(path), sanitize.Name(path)), fmt.Sprintf("key of %s becomes keys/%s", session, sanitize.Name(path))},
		do: func() (Done, error) {
			at, err := keyfile.Adopt(path, filepath.Join(ws.Dir, "keys"))
			if at == "" {
				return Done{}, err
			}
			written := filepath.Join("keys", filepath.Base(at))
			b, berr := book.Set(ws.SessionsPath(), session, "key", written)
			return Done{Say: fmt.Sprintf("%s is %s now, and %s uses it", sanitize.Name(path), written, session), Book: b, Keys: []string{at}}, errors.Join(err, berr)
		},
	}
}

// otherKeys are the workspace's keys that the hop's session does not name: those
// that open neighbours first, and the one that got in here last before all.
func (c Case) otherKeys() []Way {
	ws, h := c.Workspace, c.hop()
	last := ""
	if ws.Logins != nil {
		l, _ := ws.Logins.Last(h.At().Host, h.Port, h.User)
		last = l.Key
	}
	type choice struct {
		way  Way
		rank int
	}
	var choices []choice
	for _, name := range ws.KeyNames() {
		path := filepath.Join(ws.Dir, "keys", name)
		file, err := keyfile.Look(path)
		if err != nil || slices.Contains(h.Keys, path) {
			continue
		}
		written := "keys/" + name
		opens := c.opens(path)
		ch := choice{rank: -len(opens)}
		ch.way = Way{Say: "use the key " + name, Preview: []string{c.change("key", written)}, do: c.set("key", written)}
		switch {
		case slices.Contains(c.Takes, file.SHA256):
			ch.rank, ch.way.Why = -2000, wouldTake
		case last != "" && file.SHA256 == last:
			ch.rank, ch.way.Why = -1000, "last accepted here"
		case len(opens) > 0:
			ch.way.Why = "used for " + some(opens)
		}
		if fault, stopped := file.Blocked(); stopped {
			ch.rank, ch.way.Why = 1000, fault.Say
		}
		choices = append(choices, ch)
	}
	slices.SortStableFunc(choices, func(a, b choice) int { return a.rank - b.rank })
	var ways []Way
	for _, ch := range choices[:min(len(choices), 8)] {
		ways = append(ways, ch.way)
	}
	return ways
}

// opens lists the sessions that name a key.
func (c Case) opens(path string) []string {
	planner := c.Workspace.Planner()
	var names []string
	for _, s := range c.Workspace.Book.Sessions {
		if slices.ContainsFunc(s.Keys.V, func(k string) bool { return planner.KeyPath(k) == path }) {
			names = append(names, s.Name)
		}
	}
	return names
}

func some(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

// change says what an edit of the hop's session would be.
func (c Case) change(key, value string) string {
	s := c.Workspace.Book.Session(c.hop().Name)
	old, origin := s.Text(key)
	if old == "" {
		old = "none"
	}
	if origin.Layer() != book.InSession && origin.Layer() != book.BuiltIn {
		old += " (from " + origin.String() + ")"
	}
	return fmt.Sprintf("%s of %s: %s → %s", key, s.Name, old, value)
}

func (c Case) set(key, value string) func() (Done, error) {
	ws, session := c.Workspace, c.hop().Name
	return func() (Done, error) {
		b, err := book.Set(ws.SessionsPath(), session, key, value)
		return Done{Say: fmt.Sprintf("%s of %s is %s now; connect again", key, session, value), Book: b}, err
	}
}

// logins are the names that are likely: what got in at neighbours of the same
// site first, then what is usual for what the server says it is.
func (c Case) logins() []Way {
	h := c.hop()
	var names, why []string
	add := func(name, because string) {
		if name != "" && name != h.User && !slices.Contains(names, name) {
			names, why = append(names, name), append(why, because)
		}
	}
	var turned *remote.TurnedAway
	if c.Failure != nil && errors.As(c.Failure, &turned) {
		add(turned.Login, "the machine asks for it")
	}
	neighbours := c.neighbours()
	for _, name := range slices.Sorted(maps.Keys(neighbours)) {
		add(name, "worked for "+some(neighbours[name]))
	}
	var refused *login.LoginRefused
	version, banner := "", ""
	if c.Failure != nil && errors.As(c.Failure, &refused) {
		version, banner = refused.Version, refused.Banner
	}
	families, _ := Families(c.Workspace.Dir)
	likely, of := Likely(families, version, banner)
	for i, name := range likely {
		because := "usual"
		if of[i] != "usual" {
			because = "usual for " + of[i] + ", as it says it is"
		}
		add(name, because)
	}
	var ways []Way
	for i, name := range names[:min(len(names), 6)] {
		ways = append(ways, Way{Say: "log in as " + name, Why: why[i], Preview: []string{c.change("user", name)}, do: c.set("user", name)})
	}
	return ways
}

// neighbours are the logins of other sessions of the same site that got in, with
// those sessions.
func (c Case) neighbours() map[string][]string {
	worked := map[string][]string{}
	ws := c.Workspace
	s := ws.Book.Session(c.hop().Name)
	if s == nil || ws.Logins == nil {
		return worked
	}
	for _, other := range ws.Book.Sessions {
		if other.Name == s.Name || other.Site.V != s.Site.V || other.User.V == "" {
			continue
		}
		host := other.Host.V
		if other.Bound != nil {
			host = other.Bound.ID
		}
		if _, ok := ws.Logins.Last(host, other.Port.V, other.User.V); ok {
			worked[other.User.V] = append(worked[other.User.V], other.Name)
		}
	}
	return worked
}

// otherListener moves a tunnel to a free port near the one that is taken.
func (c Case) otherListener() []Way {
	h := c.hop()
	taken := c.Gate.Remedy.Subject
	host, port, err := net.SplitHostPort(taken)
	n, notNumber := strconv.Atoi(port)
	if err != nil || notNumber != nil {
		return nil
	}
	free := localaddr.Free(host, n)
	if free == 0 {
		return nil
	}
	now := net.JoinHostPort(host, strconv.Itoa(free))
	list := slices.Clone(h.Tunnels)
	for i := range list {
		switch taken {
		case list[i].Bring:
			list[i].Bring = now
		case list[i].Roam:
			list[i].Roam = now
		}
	}
	line := book.TunnelsLine(list)
	return []Way{{Say: fmt.Sprintf("listen at port %d instead", free), Preview: []string{c.change("tunnels", line)}, do: c.set("tunnels", line)}}
}
