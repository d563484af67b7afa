package tunnel

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"meatus/core/link"
	"meatus/core/localaddr"
	"meatus/core/remote"
)

// Program is a Meatus that holds tunnels, as another one sees it.
type Program struct {
	PID   int    `json:"pid"`
	What  string `json:"what"` // "hold", "the full screen"
	Lines []Line `json:"tunnels"`

	socket string
}

// Seen is all that is alive in another Meatus.
type Seen struct {
	Program
	Links  []link.State   `json:"links"`
	Shells []remote.State `json:"shells"`
	Flows  []SeenFlow     `json:"flows"`
}

// SeenFlow is a flow with the tunnel it goes through.
type SeenFlow struct {
	Flow
	Session  string
	Listener string
	What     string // the tunnel, as the session sheet writes it
}

// Key names the flow among all of its program's.
func (f SeenFlow) Key() string { return flowKey(f.Session, f.What, f.ID) }

// control is where the programs of one workspace have their sockets: a folder of
// this account's alone, made where there is none and it is wanted.
func control(workspace string, wanted bool) (string, error) {
	parent := os.Getenv("XDG_RUNTIME_DIR")
	if info, err := os.Stat(parent); parent == "" || err != nil || !info.IsDir() {
		parent = filepath.Join(os.TempDir(), fmt.Sprintf("meatus-of-%d", os.Getuid()))
	} else {
		parent = filepath.Join(parent, "meatus")
	}
	dir := filepath.Join(parent, fmt.Sprintf("%x", sha256.Sum256([]byte(workspace)))[:16])
	if wanted {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return "", err
		}
	}
	for _, d := range []string{parent, dir} { // somebody else may have made it before
		info, err := os.Lstat(d)
		if err != nil {
			return "", err
		}
		if !info.IsDir() || info.Mode().Perm()&0o077 != 0 || !own(info) {
			return "", fmt.Errorf("%s is not this account's alone; remove it", d)
		}
	}
	return dir, nil
}

// asking is how long another program is waited for.
const asking = 2 * time.Second

// Show has other programs of this account and workspace see a set's tunnels and what
// runs through them, and close one of their listeners. stop ends it.
func (s *Set) Show(workspace, what string) (stop func(), err error) {
	return s.show(workspace, what, strconv.Itoa(os.Getpid()))
}

// ShowApart is Show for a set that this program has beside its own, and sees as
// another program's.
func (s *Set) ShowApart(workspace, what string) (stop func(), err error) {
	return s.show(workspace, what, fmt.Sprint(os.Getpid(), "-apart"))
}

func (s *Set) show(workspace, what, name string) (stop func(), err error) {
	var dir, path string
	var l net.Listener
	for range 2 { // the folder goes with the last program that leaves it
		if dir, err = control(workspace, true); err != nil {
			return nil, err
		}
		path = filepath.Join(dir, name)
		os.Remove(path) // of a program that had this number and was killed
		if l, err = localaddr.ListenSocket(path); err == nil {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go s.answer(conn, what)
		}
	}()
	return func() {
		l.Close()
		os.Remove(dir) // where nobody else is in it
	}, nil
}

// answer serves one question: "list", "see", or "close ADDRESS".
func (s *Set) answer(conn net.Conn, what string) {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(asking))
	line, err := bufio.NewReader(io.LimitReader(conn, 1024)).ReadString('\n')
	if err != nil {
		return
	}
	word, address, _ := strings.Cut(strings.TrimSpace(line), " ")
	switch word {
	case "list":
		json.NewEncoder(conn).Encode(Program{PID: os.Getpid(), What: what, Lines: s.Lines()})
	case "see":
		json.NewEncoder(conn).Encode(s.Seen(what))
	case "close":
		json.NewEncoder(conn).Encode(s.CloseListener(address))
	}
}

// Seen is all that is alive here, as this program or another sees it. It asks the system
// and takes every tunnel's lock: it is not for the interface's goroutine.
func (s *Set) Seen(what string) Seen {
	all := Seen{Program: Program{PID: os.Getpid(), What: what, Lines: s.Lines()}}
	all.Links, all.Shells = s.Links(), s.Running()
	for _, t := range s.All() {
		at := t.Address()
		for _, f := range t.Flows() {
			all.Flows = append(all.Flows, SeenFlow{f, t.Session, at, t.What()})
		}
	}
	return all
}

// Programs lists the programs of this account that hold tunnels of a workspace,
// this one left out. Sockets that programs left behind are cleared away.
func Programs(workspace string) ([]Program, error) {
	var all []Program
	err := others(workspace, func(path string) error {
		var p Program
		err := ask(path, "list", &p)
		if err == nil {
			p.socket = path
			all = append(all, p)
		}
		return err
	})
	return all, err
}

// See is [Programs] with all that is alive in them.
func See(workspace string) ([]Seen, error) {
	var all []Seen
	err := others(workspace, func(path string) error {
		var s Seen
		err := ask(path, "see", &s)
		if err == nil {
			s.socket = path
			all = append(all, s)
		}
		return err
	})
	return all, err
}

// others calls do with the sockets of other programs, and clears those away at which
// nobody listens.
func others(workspace string, do func(path string) error) error {
	dir, err := control(workspace, false)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	files, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, f := range files {
		pid, _, _ := strings.Cut(f.Name(), "-")
		if _, err := strconv.Atoi(pid); err != nil || f.Name() == strconv.Itoa(os.Getpid()) {
			continue
		}
		path := filepath.Join(dir, f.Name())
		if do(path) == nil {
			continue
		}
		conn, err := net.Dial("unix", path)
		if err != nil {
			os.Remove(path)
			continue
		}
		conn.Close()
	}
	return nil
}

// TakeOver has the program that holds a listener close it.
func TakeOver(p Program, address string) error {
	var closed bool
	if err := ask(p.socket, "close "+address, &closed); err != nil {
		return fmt.Errorf("process %d does not answer: %w", p.PID, err)
	}
	if !closed {
		return fmt.Errorf("process %d no longer listens at %s", p.PID, address)
	}
	return nil
}

func ask(path, question string, answer any) error {
	conn, err := net.DialTimeout("unix", path, asking)
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(asking))
	fmt.Fprintln(conn, question)
	return json.NewDecoder(io.LimitReader(conn, 4<<20)).Decode(answer)
}

// EndFlow ends one flow through the tunnel with a listener. It tells whether there was such
// a one.
func (s *Set) EndFlow(listener string, id int64) bool {
	for _, t := range s.All() {
		if t.Address() == listener {
			return t.EndFlow(id)
		}
	}
	return false
}

// LoginOf is what programs have to say at a roaming listener, "" where it asks for none.
func (s *Set) LoginOf(listener string) (user, password string) {
	for _, t := range s.All() {
		if t.Address() == listener {
			return t.Login()
		}
	}
	return "", ""
}
