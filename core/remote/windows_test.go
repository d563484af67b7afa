package remote_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"meatus/core/remote"
	"meatus/core/window"
	"meatus/lab/await"
)

// standIn is a display that takes whoever has no cookie, since it has none of its own,
// and tells who made it.
func standIn(t *testing.T) (display func() (*window.Display, error), taken func() int) {
	t.Helper()
	var l net.Listener
	port := 0
	for port < 6000 {
		var err error
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		port = l.Addr().(*net.TCPAddr).Port
	}
	var mu sync.Mutex
	count := 0
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			count++
			mu.Unlock()
			go func() {
				defer conn.Close()
				if _, err := io.ReadFull(conn, make([]byte, 12)); err != nil {
					return
				}
				const vendor = "Lantern Bay "
				answer := binary.LittleEndian.AppendUint16([]byte{1, 0, 11, 0, 0, 0}, (32+uint16(len(vendor)))/4)
				rest := make([]byte, 32)
				binary.LittleEndian.PutUint16(rest[16:], uint16(len(vendor)))
				conn.Write(append(append(answer, rest...), vendor...))
				io.Copy(io.Discard, conn)
			}()
		}
	}()
	env := map[string]string{"DISPLAY": fmt.Sprint("localhost:", port-6000), "HOME": t.TempDir()}
	return func() (*window.Display, error) { return window.Local(func(name string) string { return env[name] }) }, func() int {
		mu.Lock()
		defer mu.Unlock()
		return count
	}
}

func TestAFarSideDrawsOnlyWhereItMayAndWithItsCookie(t *testing.T) {
	display, taken := standIn(t)
	b := openBay(t, display)
	inbox := b.Events.Subscribe()
	r := b.route("quay")
	r.Hops = slices.Clone(r.Hops)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	run := func(windows bool, command string) (string, remote.Ending) {
		t.Helper()
		r.Hops[0].Windows = windows
		p, err := b.Walk(ctx, r)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		g, err := b.programs.Start(ctx, p, command, nil)
		if err != nil {
			t.Fatal(err)
		}
		errs := make(chan string, 1)
		go func() {
			said, _ := io.ReadAll(g.Err)
			errs <- string(said)
		}()
		out, _ := io.ReadAll(g.Out)
		said := <-errs
		return string(out) + said, g.Wait()
	}
	if said, e := run(false, "window"); e.Status == 0 || !strings.Contains(said, "no display") {
		t.Errorf("where it may not: %q, %+v", said, e)
	}
	if said, e := run(true, "window"); e.Status != 0 || said != "your display is by Lantern Bay \n" {
		t.Errorf("where it may: %q, %+v", said, e)
	}
	if said, e := run(true, "window stranger 40"); e.Status == 0 || strings.Contains(said, "Lantern") || strings.Count(said, "turned away") != 40 {
		t.Errorf("a stranger: %q, %+v", said, e)
	}
	if opened, err := b.lab.Host("quay").Push("x11", make([]byte, 8)); err != nil || opened != 0 {
		t.Errorf("with no shell there: %d opened, %v", opened, err)
	}
	if n := taken(); n != 1 {
		t.Errorf("the display was reached %d times", n)
	}
	drew, refused := 0, 0
	telling, stop := context.WithTimeout(ctx, await.Patience)
	defer stop()
	for drew < 21 { // the last may be told after the far side has heard of it
		events := inbox.Take(telling)
		if events == nil {
			break
		}
		for _, e := range events {
			if d, ok := e.(remote.Drew); ok {
				if drew++; d.Err != nil {
					refused++
				}
			}
		}
	}
	if drew != 21 || refused != 20 {
		t.Errorf("told of %d, %d of them turned away", drew, refused)
	}
}
