package lab

import (
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

// node is a file, a folder or a socket of a host.
type node struct {
	mode  fs.FileMode
	owner uint32
	text  []byte
	at    time.Time
}

// tree is a host's file tree, by full names. It is safe to use from many
// goroutines.
type tree struct {
	saved func(name string, text []byte) // told of each file that was written, may be nil

	mu    sync.Mutex
	nodes map[string]*node
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
	t.nodes[name] = n
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
	var names []string
	for name, n := range t.nodes {
		if name != "/" && path.Dir(name) == dir {
			base := path.Base(name)
			if n.mode.IsDir() {
				base += "/"
			}
			names = append(names, base)
		}
	}
	sort.Strings(names)
	return names
}

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
	do(n)
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
	t.nodes[full] = &node{mode: mode, owner: keeperID, at: time.Now()}
	return nil
}

// move gives a file another name, in the place of what is there if over is set.
func (t *tree) move(from, to string, over bool) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	n, there := t.nodes[from], t.nodes[to]
	switch {
	case n == nil || t.nodes[path.Dir(to)] == nil:
		return fs.ErrNotExist
	case !ours(from) || !ours(to) || n.mode.IsDir():
		return fs.ErrPermission
	case there != nil && (!over || there.mode.IsDir()):
		return fs.ErrExist
	}
	delete(t.nodes, from)
	t.nodes[to] = n
	t.save(to)
	return nil
}

// remove takes a file away.
func (t *tree) remove(full string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := t.nodes[full]
	switch {
	case n == nil:
		return fs.ErrNotExist
	case n.owner != keeperID || n.mode.IsDir():
		return fs.ErrPermission
	}
	delete(t.nodes, full)
	return nil
}

// maxFile is how long a file of the lab can become, in bytes.
const maxFile = 16 << 20
