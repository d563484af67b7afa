package tunnel_test

import (
	"fmt"
	"net"
	"sync"
	"testing"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/localaddr"
	"meatus/core/tunnel"
)

// TestOpeningAndClosingAtOnceLeavesNothingOpen opens a session's tunnels while they are
// closed, again and again.
func TestOpeningAndClosingAtOnceLeavesNothingOpen(t *testing.T) {
	b := openBay(t)
	r, err := b.ws.Planner().Plan("quay")
	if err != nil {
		t.Fatal(err)
	}
	var specs []book.Tunnel
	for range 4 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		specs = append(specs, book.Tunnel{Bring: l.Addr().String(), Reach: "10.61.4.20:5432"})
		l.Close()
	}
	set := tunnel.NewSet(b.walker, func(event.Event) {})
	for range 200 {
		var both sync.WaitGroup
		both.Go(func() { set.Open(r, specs, tunnel.Options{}, true) })
		both.Go(func() { set.Close("quay") })
		both.Wait()
		set.Close("quay")
		for _, spec := range specs {
			if err := localaddr.Try(spec.Bring); err != nil {
				t.Fatalf("%s is left open: %v", spec.Bring, err)
			}
		}
	}
	set.CloseAll(0)
	if err := set.Open(r, specs, tunnel.Options{}, true); err == nil || len(set.All()) > 0 {
		t.Errorf("tunnels are opened after the end: %v, %s", err, fmt.Sprint(set.All()))
	}
}
