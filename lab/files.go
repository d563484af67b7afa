package lab

import (
	"errors"
	"io/fs"
	"path"
	"sort"
	"strings"
	"sync"
	"time"
)

// keeperID is the number of every login at a host of the lab; 0 is the machine's
// own.
const keeperID = 1000

// node is a file, a folder, a link or a socket of a host.
type node struct {
	mode  fs.FileMode
	owner uint32
	text  []byte
	leads string // of a link
	at    time.Time
	in    map[string]bool // the names in a folder
}

// tree is a host's file tree, by full names. It is safe to use from many
// goroutines.
type tree struct {
	saved func(name string, text []byte) // told of each file that was written, may be nil

	mu    sync.Mutex
	nodes map[string]*node
	used  int64 // bytes of all files
}

// filesSince is how old the files of the bay are.
var filesSince = time.Date(2026, time.October, 15, 6, 0, 0, 0, time.UTC)

// newTree gives a host the files that every machine of the bay has, and its own;
// names of folders end in "/".
func newTree(h *Host, own map[string]string) *tree {
	t := &tree{nodes: map[string]*node{"/": {mode: fs.ModeDir | 0o755, at: filesSince}}}
	t.plant("/etc/motd", "Lantern Bay tide observatory: "+h.Name+"\nThis machine is simulated. Type help.\n", 0o644)
	t.plant("/etc/hostname", h.Name+"\n", 0o644)
	t.plant("/var/log/tide.log", tideLog(), 0o644)
	t.plant("/tmp/", "", 0o777|fs.ModeSticky)
	for login := range h.Accounts {
		t.plant("/home/"+login+"/log", "14 Oct: lamp cleaned\n15 Oct: spring tide, all gauges within a hand of the table\n", 0o644)
	}
	for name, text := range own {
		t.plant(name, text, 0o644)
	}
	return t
}

// plant puts something where nothing need be yet, with the folders above it. What
// lies in a home belongs to the login.
func (t *tree) plant(name, text string, mode fs.FileMode) {
	folder := strings.HasSuffix(name, "/")
	name = path.Clean(name)
	if up := path.Dir(name); t.nodes[up] == nil {
		t.plant(up+"/", "", 0o755)
	}
	n := &node{mode: mode, text: []byte(text), at: filesSince}
	if folder {
		n.mode |= fs.ModeDir
		if n.mode.Perm()&0o100 == 0 {
			n.mode |= 0o755
		}
	}
	if strings.HasPrefix(name, "/home/") || strings.HasPrefix(name, "/tmp/") {
		n.owner = keeperID
	}
	t.setLocked(name, n)
}

// setLocked has a node stand at a name, nothing where n is nil.
func (t *tree) setLocked(name string, n *node) {
	if before := t.nodes[name]; before != nil {
		t.used -= int64(len(before.text))
		if n != nil && n.mode.IsDir() {
			n.in = before.in
		}
	}
	up := t.nodes[path.Dir(name)]
	if n == nil {
		delete(t.nodes, name)
		delete(up.in, path.Base(name))
		return
	}
	t.nodes[name] = n
	t.used += int64(len(n.text))
	if up != nil && name != "/" {
		if up.in == nil {
			up.in = map[string]bool{}
		}
		up.in[path.Base(name)] = true
	}
}

// ours tells whether a login may write at a place.
func ours(name string) bool {
	return strings.HasPrefix(name, "/home/") || strings.HasPrefix(name, "/tmp/")
}

func tideLog() string {
	var b strings.Builder
	for hour := range 24 {
		level := tideLevel(float64(hour))
		b.WriteString(strings.Join([]string{"2026-10-15T", two(hour), ":00Z level ", metres(level), "\n"}, ""))
	}
	return b.String()
}

// find resolves a name seen from the folder cwd; ok tells whether it is there.
func (t *tree) find(cwd, name string) (full string, dir, ok bool) {
	if !strings.HasPrefix(name, "/") {
		name = cwd + "/" + name
	}
	full = path.Clean(name)
	n, ok := t.get(full)
	return full, ok && n.mode.IsDir(), ok
}

// get is a copy of what stands at a full name.
func (t *tree) get(full string) (node, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.nodes[full]
	if n == nil {
		return node{}, false
	}
	return *n, true
}

// read is the text of a file, "" where there is none.
func (t *tree) read(full string) string {
	n, _ := t.get(full)
	return string(n.text)
}

// list names what stands in a folder, folders with a "/" behind.
func (t *tree) list(dir string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.nodes[dir]
	if n == nil {
		return nil
	}
	names := make([]string, 0, len(n.in))
	for base := range n.in {
		if t.nodes[path.Join(dir, base)].mode.IsDir() {
			base += "/"
		}
		names = append(names, base)
	}
	sort.Strings(names)
	return names
}

// resolve is the name that a name leads to, through links.
func (t *tree) resolve(full string) (string, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for range maxLinks {
		parts := strings.Split(strings.TrimPrefix(path.Clean(full), "/"), "/")
		at, link := "/", false
		for i, part := range parts {
			at = path.Join(at, part)
			n := t.nodes[at]
			if n == nil {
				return full, false
			}
			if n.mode&fs.ModeSymlink != 0 {
				leads := n.leads
				if !path.IsAbs(leads) {
					leads = path.Join(path.Dir(at), leads)
				}
				full, link = path.Join(append([]string{leads}, parts[i+1:]...)...), true
				break
			}
		}
		if !link {
			return path.Clean(full), true
		}
	}
	return full, false
}

// maxLinks is how many links a name may lead through.
const maxLinks = 20

// change changes what stands at a name. It fails where that is not the login's or
// is not there.
func (t *tree) change(full string, do func(*node)) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.nodes[full]
	switch {
	case n == nil:
		return fs.ErrNotExist
	case n.owner != keeperID:
		return fs.ErrPermission
	}
	before := len(n.text)
	do(n)
	t.used += int64(len(n.text) - before)
	t.save(full)
	return nil
}

// save tells of a file that was written. The lock is held.
func (t *tree) save(full string) {
	if n := t.nodes[full]; n != nil && t.saved != nil && !n.mode.IsDir() {
		t.saved(full, n.text)
	}
}

// make makes a file or folder, in the place of a file that is there.
func (t *tree) make(full string, mode fs.FileMode) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	up := t.nodes[path.Dir(full)]
	switch {
	case up == nil:
		return fs.ErrNotExist
	case !up.mode.IsDir() || !ours(full):
		return fs.ErrPermission
	}
	t.setLocked(full, &node{mode: mode, owner: keeperID, at: time.Now()})
	return nil
}

// link makes a symbolic link, or where leads is "" a second name of a file.
func (t *tree) link(leads, from, full string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	up := t.nodes[path.Dir(full)]
	n := &node{mode: fs.ModeSymlink | 0o777, owner: keeperID, leads: leads, at: time.Now()}
	switch {
	case up == nil:
		return fs.ErrNotExist
	case !up.mode.IsDir() || !ours(full):
		return fs.ErrPermission
	case t.nodes[full] != nil:
		return fs.ErrExist
	}
	if leads == "" {
		of := t.nodes[from]
		if of == nil || !of.mode.IsRegular() {
			return fs.ErrNotExist
		}
		second := *of // a change of the one is no change of the other: nothing here writes to what has two names
		n = &second
	}
	t.setLocked(full, n)
	return nil
}

// move gives a file or a folder another name, in the place of what is there if over is set.
func (t *tree) move(from, to string, over bool) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	n, there := t.nodes[from], t.nodes[to]
	switch {
	case n == nil || t.nodes[path.Dir(to)] == nil:
		return fs.ErrNotExist
	case !ours(from) || !ours(to) || strings.HasPrefix(to, from+"/"):
		return fs.ErrPermission
	case there != nil && (!over || there.mode.IsDir()):
		return fs.ErrExist
	}
	t.moveLocked(from, to, n)
	t.save(to)
	return nil
}

// moveLocked gives another name to a node and all in it.
func (t *tree) moveLocked(from, to string, n *node) {
	t.setLocked(to, &node{mode: n.mode, owner: n.owner, text: n.text, leads: n.leads, at: n.at})
	for base := range n.in {
		t.moveLocked(path.Join(from, base), path.Join(to, base), t.nodes[path.Join(from, base)])
	}
	t.setLocked(from, nil)
}

// remove takes a file away, or an empty folder where folder is set.
func (t *tree) remove(full string, folder bool) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.nodes[full]
	switch {
	case n == nil:
		return fs.ErrNotExist
	case n.owner != keeperID || n.mode.IsDir() != folder:
		return fs.ErrPermission
	case len(n.in) > 0:
		return errNotEmpty
	}
	t.setLocked(full, nil)
	return nil
}

var errNotEmpty = errors.New("the folder is not empty")

// maxFile is how long a file of the lab can become, in bytes.
const maxFile = 64 << 20
