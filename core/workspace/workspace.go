// Package workspace is the folder a person works in: its sessions, its record of
// vouched hosts and its keys, read together.
//
// It promises that what it hands out is whole: a session that cannot be used
// becomes a report that says why, never a missing one. Opening costs one read of
// the sessions file; [Workspace.Check] one look at every key file.
package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/perm"
	"meatus/core/route"
	"meatus/core/routeline"
	"meatus/core/sanitize"
	"meatus/core/secret"
	"meatus/core/vouch"
)

// Variable is the environment variable that names the workspace.
const Variable = "MEATUS_WORKSPACE"

// StateDir is the folder of a workspace that the program keeps its own files in.
const StateDir = "state"

// Workspace is an opened folder. It does not change; [Workspace.Reread] returns
// a newer one.
type Workspace struct {
	Dir     string
	Book    *book.Book
	Estates []estate.Kept // what is known of the file's estates, in its order
	Vouched *vouch.Record
	Logins  route.Logins // how logins got in before, nil where that is not known
	Leases  route.Leases // what issuers told of what one may, nil where that is not known
	// Downloads is the folder that downloaded key files arrive in.
	Downloads string
	// Here is as which address this machine is seen outside, where somebody has said so; else it is what the
	// machine knows of itself.
	Here   netip.Addr
	pairs  *pairs
	judges *judges // of Estates
}

// Folder decides which folder is meant: the one named, else the one in the
// environment, else the one in the user's configuration.
func Folder(named string) string {
	if named == "" {
		named = os.Getenv(Variable)
	}
	if named == "" {
		named = filepath.Join(xdg.ConfigHome, "meatus")
	}
	return named
}

// Open reads the workspace in dir. A folder without sessions is an empty
// workspace. It fails where the sessions file cannot be read at all.
func Open(dir string) (*Workspace, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	w := &Workspace{Dir: dir, Downloads: xdg.UserDirs.Download, Vouched: vouch.Open(filepath.Join(dir, vouch.FileName)), pairs: &pairs{}}
	return w, w.read()
}

// Reread reads the sessions anew.
func (w *Workspace) Reread() (*Workspace, error) {
	again := *w
	return &again, again.read()
}

func (w *Workspace) read() error {
	path := w.SessionsPath()
	for _, part := range []string{path, filepath.Join(w.Dir, StateDir)} {
		var foreign *perm.Foreign
		if errors.As(perm.Judge(part), &foreign) {
			return fmt.Errorf("the workspace is not used: %w", foreign)
		}
	}
	read, err := book.Read(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if info, err := os.Stat(w.Dir); err == nil && !info.IsDir() {
			return fmt.Errorf("the workspace %s is not a folder; name one with --workspace", w.Dir)
		}
		read = book.Parse(book.FileName, nil)
		read.Path = path
	case err != nil:
		return fmt.Errorf("the sessions cannot be read: %w; mend the file's permissions, or name another workspace", err)
	}
	for _, source := range read.Estates {
		if source.TokenEnv.Set {
			secret.Hide(source.TokenEnv.V)
		}
	}
	w.recall(read)
	w.Book = w.bound(read)
	return nil
}

// SessionsPath is where the sessions are written.
func (w *Workspace) SessionsPath() string { return filepath.Join(w.Dir, book.FileName) }

// Planner makes routes of the workspace's sessions.
func (w *Workspace) Planner() route.Planner { return route.Planner{Source: w.Book, Dir: w.Dir} }

// Knowledge is what checks draw on, as it is now, for many of them in a row.
func (w *Workspace) Knowledge() route.Knowledge {
	return route.Knowledge{Vouched: w.Vouched.Snapshot(), Keys: route.KeySheets{}, Logins: w.Logins, Rules: w, Leases: w.Leases}
}

// Check judges what this machine alone can know about a session.
func (w *Workspace) Check(name string, k route.Knowledge) (route.Route, gate.Report) {
	return w.CheckWay(name, route.LinkKey{}, k)
}

// CheckWay is [Workspace.Check] of the way that [route.Route.End] names, where the session
// has several, the zero key for the first.
func (w *Workspace) CheckWay(name string, way route.LinkKey, k route.Knowledge) (route.Route, gate.Report) {
	r, err := w.Planner().Plan(name)
	if err != nil {
		return r, gate.Report{Session: name, Broken: err.Error()}
	}
	if way != (route.LinkKey{}) {
		r = r.Turned(way)
	}
	return r, r.Check(k)
}

// KeyNames lists the key files in keys/, by the names they are written with in a
// route line.
func (w *Workspace) KeyNames() []string {
	files, _ := os.ReadDir(filepath.Join(w.Dir, "keys"))
	var names []string
	for _, f := range files {
		if !f.IsDir() && filepath.Ext(f.Name()) != ".pub" && !strings.HasPrefix(f.Name(), ".") {
			names = append(names, f.Name())
		}
	}
	return names
}

// Arrived lists the private keys that lie in the download folder.
func (w *Workspace) Arrived() []keyfile.Sheet { return keyfile.Found(w.Downloads) }

// Elsewhere lists the private keys outside keys/ that a session can be made with by their names: in the folders that were
// added, the download folder and the current one.
func (w *Workspace) Elsewhere() []keyfile.Sheet {
	dirs := append(w.KeyFolders(), w.Downloads)
	if here, err := os.Getwd(); err == nil {
		dirs = append(dirs, here)
	}
	var all []keyfile.Sheet
	seen := map[string]bool{filepath.Join(w.Dir, "keys"): true}
	for _, dir := range dirs {
		if dir == "" || seen[dir] {
			continue
		}
		seen[dir] = true
		all = append(all, keyfile.Found(dir)...)
	}
	return all
}

// Known is what a route line can refer to. arrived are key files elsewhere.
func (w *Workspace) Known(arrived []keyfile.Sheet) routeline.Known {
	k := routeline.Known{Sessions: w.Book.Names(), Sites: w.Book.Sites(), Keys: w.KeyNames(), Hosts: map[string]string{}}
	users := map[string]bool{}
	for _, s := range w.Book.Sessions {
		if s.Host.V != "" && k.Hosts[s.Host.V] == "" {
			k.Hosts[s.Host.V] = s.Name
		}
		if s.User.V != "" && !users[s.User.V] {
			users[s.User.V] = true
			k.Users = append(k.Users, s.User.V)
		}
	}
	for _, sheet := range arrived {
		k.Downloads = append(k.Downloads, short(sheet.Path))
	}
	return k
}

// Short writes a path below the home folder with "~/", as it can be shown.
func Short(path string) string { return sanitize.Path(short(path)) }

func short(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		if rest, ok := strings.CutPrefix(path, home+string(filepath.Separator)); ok {
			return "~/" + rest
		}
	}
	return path
}

// RoutesOf are the routes of sessions and of all sessions of sites, each once; with marked, those of the marked sessions, too.
// It fails with [route.ErrNoSession] for a name that is neither.
func (w *Workspace) RoutesOf(names []string, marked bool) ([]route.Route, error) {
	if marked {
		marks, err := w.Marks()
		if err != nil {
			return nil, err
		}
		names = slices.Concat(names, slices.DeleteFunc(slices.Clone(w.Book.Names()), func(name string) bool { return !marks[name] }))
	}
	var routes []route.Route
	seen := map[string]bool{}
	for _, name := range names {
		sessions := []string{name}
		if w.Book.Session(name) == nil {
			if !slices.Contains(w.Book.Sites(), name) {
				return nil, fmt.Errorf("%w and no site %q", route.ErrNoSession, name)
			}
			sessions = w.Book.Members(book.Table{Layer: book.InSite, Name: name})
		}
		for _, s := range sessions {
			if seen[s] {
				continue
			}
			seen[s] = true
			r, err := w.Planner().Plan(s)
			if err != nil {
				return nil, err
			}
			routes = append(routes, r)
		}
	}
	return routes, nil
}
