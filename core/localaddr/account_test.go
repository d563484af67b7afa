package localaddr

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"syscall"
	"testing"
)

// accepted is a connection that was made to a listener at an address.
func accepted(t *testing.T, address string, connect func(port int)) net.Conn {
	t.Helper()
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go connect(l.Addr().(*net.TCPAddr).Port)
	conn, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return conn
}

func TestAConnectionOfThisAccountIsOurs(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0", ":0"} {
		conn := accepted(t, address, func(port int) {
			host := "127.0.0.1"
			if address[0] == '[' {
				host = "::1"
			}
			if c, err := net.Dial("tcp", net.JoinHostPort(host, fmt.Sprint(port))); err == nil {
				t.Cleanup(func() { c.Close() })
			}
		})
		if err := Ours(conn); err != nil {
			t.Errorf("at %s: %v", address, err)
		}
	}
}

func TestAConnectionOfAnotherAccountIsNot(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("only the superuser can be another account; the rule is tested where it is")
		return
	}
	conn := accepted(t, "127.0.0.1:0", func(port int) {
		cmd := exec.Command("/bin/bash", "-c", fmt.Sprintf("exec 3<>/dev/tcp/127.0.0.1/%d; read -r line <&3", port))
		cmd.Dir = "/"
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		if err := cmd.Start(); err != nil {
			t.Error(err)
			return
		}
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	})
	var foreign *Foreign
	if err := Ours(conn); !errors.As(err, &foreign) || foreign.Account != "nobody" && foreign.Account != "65534" {
		t.Errorf("got %v", err)
	}
}
