// Package labtest opens labs for tests. Making a lab's keys takes longer than most
// tests, so the keys of a first lab are used by all labs of one test program.
package labtest

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"meatus/core/step"
	"meatus/core/workspace"
	"meatus/lab"
)

// Yes answers for a person who vouches for every machine and answers nothing else.
type Yes struct{ step.Asker }

// Identity says yes.
func (Yes) Identity(context.Context, step.IdentityQuestion) error { return nil }

// Answers gives no answer.
func (Yes) Answers(context.Context, step.ServerQuestions) ([]string, error) {
	return nil, step.ErrDeclined
}

// first is the folder of a lab that was opened once. [Main] removes
// it.
var first = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "bay")
	if err != nil {
		return "", err
	}
	l, err := lab.Open(dir)
	if err != nil {
		return "", err
	}
	l.Close()
	return dir, nil
})

// Main runs a package's tests and clears up after them.
func Main(m *testing.M) {
	dir, err := first()
	if err != nil {
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// Open opens a lab in a folder of the test. The caller closes it.
func Open(t testing.TB) *lab.Lab {
	t.Helper()
	dir := t.TempDir()
	from, err := first()
	if err != nil {
		t.Fatal(err)
	}
	for _, sub := range []string{"keys", "lab", "downloads"} {
		if err := copyFolder(filepath.Join(from, sub), filepath.Join(dir, sub)); err != nil {
			t.Fatal(err)
		}
	}
	l, err := lab.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// copyFolder copies a folder of a lab. Each lab listens at ports of its own, so those are left out.
func copyFolder(from, to string) error {
	if err := os.Mkdir(to, 0o700); err != nil {
		return err
	}
	files, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, f := range files {
		at, into := filepath.Join(from, f.Name()), filepath.Join(to, f.Name())
		switch {
		case f.Name() == "port":
			continue
		case f.IsDir():
			if err := copyFolder(at, into); err != nil {
				return err
			}
			continue
		}
		info, err1 := f.Info()
		text, err2 := os.ReadFile(at)
		if err := errors.Join(err1, err2, os.WriteFile(into, text, 0o600), os.Chmod(into, info.Mode().Perm())); err != nil {
			return err
		}
	}
	return nil
}

// Workspace opens a lab, which ends with the test, and its workspace.
func Workspace(t testing.TB) (*lab.Lab, *workspace.Workspace) {
	t.Helper()
	l := Open(t)
	t.Cleanup(l.Close)
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	return l, ws
}

// Nowhere is a network on which nothing is reached, for tests over sessions with made-up hosts: no packet and no question for a
// name leaves the machine.
type Nowhere struct{}

// DialContext refuses.
func (Nowhere) DialContext(_ context.Context, network, address string) (net.Conn, error) {
	return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.ECONNREFUSED}
}

// LookupHost knows no name.
func (Nowhere) LookupHost(_ context.Context, host string) ([]string, error) {
	return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
}
