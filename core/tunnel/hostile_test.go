package tunnel_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/await"
	"meatus/lab/hostile"
	"meatus/lab/labtest"
)

// against opens tunnels through a hostile server; told tells what happened.
func against(t *testing.T, limit int, specs ...book.Tunnel) (server *hostile.Server, set *tunnel.Set, told func() []event.Event) {
	t.Helper()
	return spread(t, limit, 0, specs...)
}

// spread is against with links side by side.
func spread(t *testing.T, limit, links int, specs ...book.Tunnel) (server *hostile.Server, set *tunnel.Set, told func() []event.Event) {
	t.Helper()
	server = hostile.Start(t, limit)
	l := labtest.Open(t) // for a key
	t.Cleanup(l.Close)
	w := walk.New(walk.Config{Vouched: vouch.Open(t.TempDir() + "/v"), Asker: labtest.Yes{}})
	t.Cleanup(w.Close)
	var mu sync.Mutex
	var events []event.Event
	set = tunnel.NewSet(w, func(e event.Event) {
		mu.Lock()
		defer mu.Unlock()
		events = append(events, e)
	})
	t.Cleanup(func() { set.CloseAll(0) })
	hop := route.Hop{Name: "odd", Destination: route.Destination{Host: "odd.lantern.example", Port: 22, Dial: server.Address}, Credentials: route.Credentials{User: "keeper", Keys: []string{l.Dir + "/keys/shore.pem"}}, Limits: route.Limits{Keepalive: time.Second, Links: links}}
	hop.Manner.Reconnect = time.Minute
	if err := set.Open(route.Route{Session: "odd", Hops: []route.Hop{hop}}, specs, tunnel.Options{}, false); err != nil {
		t.Fatal(err)
	}
	return server, set, func() []event.Event {
		mu.Lock()
		defer mu.Unlock()
		return append([]event.Event(nil), events...)
	}
}

// echoed tells whether a listener leads to the echo.
func echoed(t *testing.T, listener string) net.Conn {
	t.Helper()
	conn, err := net.Dial("tcp", listener)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(30 * time.Second))
	io.WriteString(conn, "tide")
	got := make([]byte, 4)
	if _, err := io.ReadFull(conn, got); err != nil || string(got) != "tide" {
		t.Fatalf("it says %q, %v", got, err)
	}
	return conn
}

func TestAWindowAtZeroHoldsItsOwnFlowAlone(t *testing.T) {
	_, set, _ := against(t, 0, bring("stuck.example:9"), bring("echo.example:7"))
	stuck, listener := set.Of("odd")[0], set.Of("odd")[1].Address()
	conn, err := net.Dial("tcp", stuck.Address())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	written := make(chan int64, 1)
	go func() {
		n, _ := io.Copy(conn, bytes.NewReader(make([]byte, 64<<20)))
		written <- n
	}()
	last, still := uint64(0), 0
	await.Until(t, "nothing to move any more", func() bool {
		_, _, out := stuck.Count()
		if still++; out != last || out == 0 {
			last, still = out, 0
		}
		return still == 40
	})
	if last > 4<<20 {
		t.Errorf("%d bytes were taken for a far side that reads none", last)
	}
	echoed(t, listener).Close() // the other one passes beside it
	flows := stuck.Flows()
	if len(flows) != 1 || !stuck.EndFlow(flows[0].ID) {
		t.Fatalf("%+v", flows)
	}
	if n := <-written; n == 64<<20 {
		t.Error("all of it was taken")
	}
	echoed(t, listener)
}

func TestAFarSideThatLiesHarmsItsOwnLinkAndTheDoorStays(t *testing.T) {
	const eof, data, extended, adjust, closed, success = 96, 94, 95, 93, 97, 99
	u32 := func(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }
	packet := func(kind byte, parts ...[]byte) []byte { return append([]byte{kind}, bytes.Join(parts, nil)...) }
	for name, lie := range map[string]func(c *hostile.Conn) [][]byte{
		"more than is there": func(c *hostile.Conn) [][]byte {
			return [][]byte{packet(data, u32(c.Channel()), u32(1000), []byte("short"))}
		},
		"less than is there": func(c *hostile.Conn) [][]byte {
			return [][]byte{packet(data, u32(c.Channel()), u32(2), []byte("longer"))}
		},
		"four billion": func(c *hostile.Conn) [][]byte { return [][]byte{packet(data, u32(c.Channel()), u32(1<<32-1))} },
		"no length":    func(c *hostile.Conn) [][]byte { return [][]byte{packet(data, u32(c.Channel()))} },
		"a packet beyond its size": func(c *hostile.Conn) [][]byte {
			return [][]byte{packet(data, u32(c.Channel()), u32(200<<10), make([]byte, 200<<10))}
		},
		"more than the window": func(c *hostile.Conn) [][]byte {
			one := packet(data, u32(c.Channel()), u32(32<<10), make([]byte, 32<<10))
			return slicesOf(one, 4000)
		},
		"errors that are none": func(c *hostile.Conn) [][]byte {
			return [][]byte{packet(extended, u32(c.Channel()), u32(77), u32(9), []byte("x"))}
		},
		"a window of all":       func(c *hostile.Conn) [][]byte { return slicesOf(packet(adjust, u32(c.Channel()), u32(1<<32-1)), 3) },
		"another's channel":     func(c *hostile.Conn) [][]byte { return [][]byte{packet(data, u32(4242), u32(1), []byte("x"))} },
		"the end, three times":  func(c *hostile.Conn) [][]byte { return slicesOf(packet(eof, u32(c.Channel())), 3) },
		"closed, three times":   func(c *hostile.Conn) [][]byte { return slicesOf(packet(closed, u32(c.Channel())), 3) },
		"answers to no request": func(c *hostile.Conn) [][]byte { return slicesOf(packet(success, u32(c.Channel())), 40) },
		"an unknown one":        func(*hostile.Conn) [][]byte { return [][]byte{{250, 1, 2, 3}} },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server, set, _ := against(t, 0, bring("echo.example:7"))
			listener := set.Of("odd")[0].Address()
			conn := echoed(t, listener)
			conns := server.Conns()
			for _, p := range lie(conns[len(conns)-1]) {
				if conns[len(conns)-1].Send(p) != nil {
					break // it was hung up on
				}
			}
			// Whatever becomes of that flow, no byte is made up, and the listener leads on.
			conn.SetDeadline(time.Now().Add(500 * time.Millisecond))
			got, _ := io.ReadAll(io.LimitReader(conn, 1<<20))
			if strings.Trim(string(got), "\x00") != "" && !strings.HasPrefix("longer", string(got)) {
				t.Errorf("it says %q", got)
			}
			conn.Close()
			echoed(t, listener)
		})
	}
}

func TestAListenerIsCancelledOnce(t *testing.T) {
	server, set, _ := against(t, 0, book.Tunnel{Lend: "127.0.0.1:7009", Reach: "127.0.0.1:9"})
	await.Until(t, "the door over there", func() bool {
		lines := set.Lines()
		return len(lines) == 1 && lines[0].Open
	})
	conn := server.Conns()[0] // it ends with its last door, and is no longer among them then
	asked := func(kind string) (n int) {
		for _, ask := range conn.Asks() {
			if ask == kind {
				n++
			}
		}
		return n
	}
	set.CloseAll(0)
	if opened, cancelled := asked("tcpip-forward"), asked("cancel-tcpip-forward"); opened != 1 || cancelled != 1 {
		t.Errorf("asked for %d times, cancelled %d times: %q", opened, cancelled, conn.Asks())
	}
}

func TestAServerWithoutOnwardConnectionsIsNoFirewall(t *testing.T) {
	_, set, _ := against(t, 0, bring("tide-db.internal:3"))
	p := set.Of("odd")[0].Prove(t.Context())
	if p.Verdict != gate.Shut || !strings.Contains(p.Rule, "the server at odd opens no onward connections at all") || strings.Contains(p.Say, "dropped") {
		t.Errorf("%+v", p)
	}
}

func TestFlowsAreSpreadOverLinksSideBySide(t *testing.T) {
	server, set, _ := spread(t, 0, 3, bring("echo.example:7"))
	tun := set.Of("odd")[0]
	await.Until(t, "three links", func() bool { return len(server.Conns()) >= 3 })
	for range 9 {
		echoed(t, tun.Address())
	}
	for tries := 0; ; tries++ { // as soon as they are known to be there they are used
		echoed(t, tun.Address())
		used := 0
		for _, c := range server.Conns() {
			if c.Open() > 0 {
				used++
			}
		}
		if used == 3 {
			break
		}
		if tries == 100 {
			t.Fatalf("flows go over %d of 3 links", used)
		}
	}
	if n := len(server.Conns()); n != 3 {
		t.Errorf("%d links", n)
	}
}

func TestATunnelThatNobodyUsesClosesItself(t *testing.T) {
	spec := bring("echo.example:7")
	spec.Idle = "1s"
	_, set, told := against(t, 0, spec, bring("echo.example:9"))
	listener := set.Of("odd")[0].Address()
	conn := echoed(t, listener)
	rested := func() bool {
		for _, e := range told() {
			if r, ok := e.(tunnel.Rested); ok && r.After == time.Second {
				return true
			}
		}
		return false
	}
	if idle := set.Of("odd")[0].Idle(); idle != 0 || rested() {
		t.Errorf("it is taken to be unused for %s though a flow lives", idle)
	}
	conn.Close()
	await.Until(t, "it to close", func() bool { return len(set.All()) == 1 })
	if !rested() || set.All()[0].Spec.Reach != "echo.example:9" {
		t.Errorf("%v", told())
	}
}

func TestAFurtherLinkThatCannotBeMadeIsTriedOnceForEachWhoKnocks(t *testing.T) {
	server, set, told := against(t, 1, bring("echo.example:7"))
	await.Until(t, "its proof", func() bool {
		return slices.ContainsFunc(told(), func(e event.Event) bool { _, is := e.(tunnel.Proven); return is })
	})
	server.Once.Store(true)
	tun := set.Of("odd")[0]
	conn := echoed(t, tun.Address())
	if err := tried(tun.Address()); err == nil {
		t.Error("a second flow where one is allowed, and no further link")
	}
	await.Until(t, "a further link to be tried", func() bool { return server.HungUp() > 0 })
	if n := server.HungUp(); n > 2 { // a link that is hung up on at once is tried again, once
		t.Errorf("%d links were tried", n)
	}
	io.WriteString(conn, "ebbs")
	if _, err := io.ReadFull(conn, make([]byte, 4)); err != nil {
		t.Errorf("the first: %v", err)
	}
}

// tried tells why a listener does not lead to the echo, nil where it does.
func tried(listener string) error {
	conn, err := net.Dial("tcp", listener)
	if err != nil {
		return err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	io.WriteString(conn, "tide")
	_, err = io.ReadFull(conn, make([]byte, 4))
	return err
}

func slicesOf(p []byte, n int) [][]byte {
	all := make([][]byte, n)
	for i := range all {
		all[i] = p
	}
	return all
}

func TestWhereAServerAllowsFewChannelsThereAreFurtherLinks(t *testing.T) {
	server, set, told := against(t, 3, bring("echo.example:7"))
	tun := set.Of("odd")[0]
	await.Until(t, "its proof", func() bool { // its channel is free again
		return slices.ContainsFunc(told(), func(e event.Event) bool { _, is := e.(tunnel.Proven); return is })
	})
	var conns []net.Conn
	for range 10 {
		conns = append(conns, echoed(t, tun.Address()))
	}
	if n := len(server.Conns()); n < 4 || n > 4 {
		t.Errorf("%d links for 10 flows at 3 a link", n)
	}
	await.Until(t, "to be told of 4 links", func() bool {
		return slices.ContainsFunc(told(), func(e event.Event) bool {
			w, ok := e.(tunnel.Widened)
			return ok && w.Session == "odd" && w.Hop == "odd" && w.Links == 4
		})
	})
	// Two more are what fits; then the refusal comes through.
	echoed(t, tun.Address())
	echoed(t, tun.Address())
	if tried(tun.Address()) == nil {
		t.Error("one more than all links hold is joined")
	}
	for _, c := range conns {
		c.Close()
	}
	await.Until(t, "the flows to end", func() bool { return len(tun.Flows()) <= 2 })
	for tries := 0; ; tries++ { // the server takes its time to count, too
		err := tried(tun.Address())
		if err == nil {
			break
		}
		if tries == 100 {
			t.Fatalf("where there is room again: %v", err)
		}
	}
}

func TestDoorsOfTheNewerAddresses(t *testing.T) {
	_, set, _ := against(t, 0, book.Tunnel{Bring: "[::1]:0", Reach: "[2001:db8::7]:7"}, book.Tunnel{Roam: "[::1]:0"})
	listeners := set.Of("odd")
	if at := listeners[0].Address(); !strings.HasPrefix(at, "[::1]:") || strings.HasSuffix(at, ":0") || listeners[0].Beyond() {
		t.Errorf("the door is %s", at)
	}
	echoed(t, listeners[0].Address())
	conn, err := net.Dial("tcp", listeners[1].Address())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	greeting := "\x05\x01\x00" + "\x05\x01\x00\x04\x20\x01\x0d\xb8" + strings.Repeat("\x00", 11) + "\x07\x00\x07" + "tide"
	io.WriteString(conn, greeting)
	got := make([]byte, 2+10+4)
	if _, err := io.ReadFull(conn, got); err != nil || string(got[:2]) != "\x05\x00" || string(got[12:]) != "tide" {
		t.Errorf("%q, %v", got, err)
	}
	if flows := listeners[1].Flows(); len(flows) != 1 || flows[0].To != "[2001:db8::7]:7" {
		t.Errorf("%+v", flows)
	}
}

func TestNoFlowOfALimitedTunnelIsLeftOut(t *testing.T) {
	spec := bring("echo.example:7")
	spec.Rate = "8MB"
	_, set, _ := against(t, 0, spec)
	tun := set.Of("odd")[0]
	const flows = 8
	for i := range flows {
		conn := echoed(t, tun.Address())
		go func() { // some press harder than others
			block := make([]byte, 1000<<i)
			for {
				if _, err := conn.Write(block); err != nil {
					return
				}
			}
		}()
		go io.Copy(io.Discard, conn)
	}
	// How even the shares are is also a matter of who gets the processor; that nobody is
	// left out is the tunnel's.
	await.Until(t, "every flow to get something through", func() bool {
		for _, f := range tun.Flows() {
			if f.Out < 1<<20 {
				return false
			}
		}
		return true
	})
}
