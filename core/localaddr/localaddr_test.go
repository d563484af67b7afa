package localaddr

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestATakenDoorNamesItsHolder(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	address := l.Addr().String()
	var taken *Taken
	if err := Try(address); !errors.As(err, &taken) {
		t.Fatalf("a taken door: %v", err)
	}
	if want := fmt.Sprintf("process %d)", os.Getpid()); !strings.Contains(taken.Error(), want) {
		t.Errorf("%q does not name us, %s", taken, want)
	}
	port := l.Addr().(*net.TCPAddr).Port
	if free := Free("127.0.0.1", port); free <= port || Try(fmt.Sprintf("127.0.0.1:%d", free)) != nil {
		t.Errorf("near %d, %d is said to be free", port, free)
	}
	l.Close()
	for range 2 { // trying leaves it free
		if err := Try(address); err != nil {
			t.Errorf("a free door: %v", err)
		}
	}
}

func TestDoorsNobodyCouldOpen(t *testing.T) {
	for _, address := range []string{"192.0.2.1:0", "nowhere", "/no/such/folder/door"} {
		var taken *Taken
		if err := Try(address); err == nil || errors.As(err, &taken) {
			t.Errorf("%s: %v", address, err)
		}
	}
}

func TestSockets(t *testing.T) {
	path := filepath.Join(t.TempDir(), "door")
	if err := Try(path); err != nil {
		t.Errorf("a free path: %v", err)
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var taken *Taken
	if err := Try(path); !errors.As(err, &taken) {
		t.Errorf("a taken path: %v", err)
	}
	left := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(left, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Try(left); err == nil || errors.As(err, &taken) {
		t.Errorf("a file in the way: %v", err)
	}
}
