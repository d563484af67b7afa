package dial

import (
	"io"
	"net"
	"testing"

	"golang.org/x/sys/unix"
)

// A small message is acknowledged at once, since a server may keep the next one back until then; a stream is not.
func TestSmallMessagesAreAcknowledgedAtOnce(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	near, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer near.Close()
	far, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer far.Close()
	asked := 0
	acknowledge := acker(near)
	c := NewConn(near, false)
	c.acknowledge = func() { asked++; acknowledge() }
	quick := func() (n int) {
		raw, err := near.(*net.TCPConn).SyscallConn()
		if err != nil {
			t.Fatal(err)
		}
		raw.Control(func(fd uintptr) { n, err = unix.GetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK) })
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	for range 20 { // question and answer have the system put acknowledgements off
		near.Write([]byte("question"))
		io.ReadFull(far, make([]byte, 8))
		far.Write([]byte("answer"))
		if _, err := io.ReadFull(c, make([]byte, 6)); err != nil {
			t.Fatal(err)
		}
		if quick() != 1 {
			t.Fatal("the answer is not acknowledged at once")
		}
	}
	before := asked
	go far.Write(make([]byte, 1<<20))
	for got := 0; got < 1<<20; {
		n, err := c.Read(make([]byte, 64<<10))
		if err != nil {
			t.Fatal(err)
		}
		if got += n; n >= fewBytes && asked != before {
			t.Fatalf("a piece of %d bytes was acknowledged by itself", n)
		}
		before = asked
	}
}
