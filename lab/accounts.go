package lab

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
)

// listOf is where the list of an account's keys stands at a host.
func listOf(login string) string { return "/home/" + login + "/.ssh/authorized_keys" }

// plantLists writes the lists of the accounts' keys into the host's tree, as they
// were at an earlier start or as the bay has them, and keeps what becomes of them.
func (h *Host) plantLists() error {
	for login, account := range h.Accounts {
		kept := filepath.Join(h.bay.Dir, "lab", h.Name+"-"+login+".list")
		list, err := os.ReadFile(kept)
		if errors.Is(err, fs.ErrNotExist) {
			for _, key := range account.Keys {
				list = append(list, ssh.MarshalAuthorizedKey(key)...)
			}
			list = append(list, account.Line...)
		} else if err != nil {
			return err
		}
		h.files.plant("/home/"+login+"/.ssh/", "", 0o700)
		h.files.plant(listOf(login), string(list), 0o600)
	}
	h.files.saved = func(name string, text []byte) {
		for login := range h.Accounts {
			if name == listOf(login) {
				os.WriteFile(filepath.Join(h.bay.Dir, "lab", h.Name+"-"+login+".list"), text, 0o600)
			}
		}
	}
	return nil
}

// List is the list of an account's keys as it stands.
func (h *Host) List(login string) string { return h.files.read(listOf(login)) }

// SetList writes the list of an account's keys.
func (h *Host) SetList(login, text string) {
	h.files.mu.Lock()
	defer h.files.mu.Unlock()
	h.files.plant(listOf(login), text, 0o600)
}

// listed tells whether the account's list lets a key in. As servers do, it is
// passed over where others could write it or the folders above.
func (h *Host) listed(login string, key ssh.PublicKey, from net.Addr) bool {
	list := listOf(login)
	for _, name := range []string{"/home/" + login, "/home/" + login + "/.ssh", list} {
		if n, ok := h.files.get(name); !ok || n.mode.Perm()&0o022 != 0 {
			return false
		}
	}
	for line := range bytes.Lines([]byte(h.files.read(list))) {
		k, _, options, _, err := ssh.ParseAuthorizedKey(line)
		if err == nil && bytes.Equal(k.Marshal(), key.Marshal()) {
			return cameFrom(options, from)
		}
	}
	return false
}

// cameFrom judges the addresses that a line of a list takes a key from.
func cameFrom(options []string, from net.Addr) bool {
	for _, o := range options {
		patterns, ok := strings.CutPrefix(o, "from=")
		if !ok {
			continue
		}
		at, err := netip.ParseAddrPort(from.String())
		if err != nil {
			return false
		}
		for p := range strings.SplitSeq(strings.Trim(patterns, `"`), ",") {
			if prefix, err := netip.ParsePrefix(p); err == nil && prefix.Contains(at.Addr()) || p == at.Addr().String() {
				return true
			}
		}
		return false
	}
	return true
}

// changeMode is the shell's command for the mode of a file.
func changeMode(s *shell, args []string) int {
	var mode fs.FileMode
	if len(args) != 2 {
		fmt.Fprintln(s.errs, commands["chmod"].use)
		return 2
	}
	if _, err := fmt.Sscanf(args[0], "%o", &mode); err != nil {
		fmt.Fprintf(s.errs, "chmod: %s is no mode, as 755 is\n", args[0])
		return 2
	}
	full, _, _ := s.files.find(s.cwd, args[1])
	if err := s.files.change(full, func(n *node) { n.mode = n.mode&^fs.ModePerm | mode.Perm() }); err != nil {
		fmt.Fprintf(s.errs, "chmod: %s: %v\n", args[1], err)
		return 1
	}
	return 0
}
