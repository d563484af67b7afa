package tunnel

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// Program is a Meatus that holds tunnels, as another one sees it.
type Program struct {
	PID   int    `json:"pid"`
	What  string `json:"what"` // "hold", "the full screen"
	Lines []Line `json:"tunnels"`
}

// control is where the programs of one workspace have their sockets: a folder of
// this account's alone.
func control(workspace string) (string, error) {
	parent := os.Getenv("XDG_RUNTIME_DIR")
	if info, err := os.Stat(parent); parent == "" || err != nil || !info.IsDir() {
		parent = filepath.Join(os.TempDir(), fmt.Sprintf("meatus-of-%d", os.Getuid()))
	} else {
		parent = filepath.Join(parent, "meatus")
	}
	dir := filepath.Join(parent, fmt.Sprintf("%x", sha256.Sum256([]byte(workspace)))[:16])
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
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

// Show has other programs of this account and workspace see a set's tunnels, and
// close one of their doors. stop ends it.
func (s *Set) Show(workspace, what string) (stop func(), err error) {
	dir, err := control(workspace)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, strconv.Itoa(os.Getpid()))
	os.Remove(path) // of a program that had this number and was killed
	l, err := net.Listen("unix", path)
	if err == nil {
		err = os.Chmod(path, 0o600)
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
	return func() { l.Close() }, nil
}

// answer serves one question: "list", or "close ADDRESS".
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
		json.NewEncoder(conn).Encode(Program{os.Getpid(), what, s.Lines()})
	case "close":
		json.NewEncoder(conn).Encode(s.CloseDoor(address))
	}
}

// Programs lists the programs of this account that hold tunnels of a workspace,
// this one left out. Sockets that programs left behind are cleared away.
func Programs(workspace string) ([]Program, error) {
	dir, err := control(workspace)
	if err != nil {
		return nil, err
	}
	files, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var all []Program
	for _, f := range files {
		pid, err := strconv.Atoi(f.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		path := filepath.Join(dir, f.Name())
		var p Program
		if err := ask(path, "list", &p); err != nil {
			if _, err := net.Dial("unix", path); err != nil {
				os.Remove(path) // nobody listens any more
			}
			continue
		}
		all = append(all, p)
	}
	return all, nil
}

// TakeOver has the program that holds a door close it.
func TakeOver(workspace string, p Program, address string) error {
	dir, err := control(workspace)
	if err != nil {
		return err
	}
	var closed bool
	if err := ask(filepath.Join(dir, strconv.Itoa(p.PID)), "close "+address, &closed); err != nil {
		return fmt.Errorf("process %d does not answer: %w", p.PID, err)
	}
	if !closed {
		return fmt.Errorf("process %d holds no door at %s any more", p.PID, address)
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
