package tunnel_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

type bay struct {
	*lab.Lab
	*testing.T
	walker *walk.Walker
	ws     *workspace.Workspace

	mu    sync.Mutex
	ended []tunnel.Flow
}

func openBay(t *testing.T) *bay {
	b := &bay{Lab: labtest.Open(t), T: t}
	t.Cleanup(b.Lab.Close)
	var err error
	if b.ws, err = workspace.Open(b.Dir); err != nil {
		t.Fatal(err)
	}
	b.walker = walk.New(walk.Config{Vouched: b.ws.Vouched, Asker: labtest.Yes{}, Network: b.Dialer()})
	t.Cleanup(b.walker.Close)
	return b
}

func (b *bay) tell(e event.Event) {
	if ended, ok := e.(tunnel.Ended); ok {
		b.mu.Lock()
		b.ended = append(b.ended, ended.Flow)
		b.mu.Unlock()
	}
}

// flow waits for the nth flow to end.
func (b *bay) flow(n int) tunnel.Flow {
	b.Helper()
	var f tunnel.Flow
	await.Until(b, fmt.Sprint("flow ", n, " to end"), func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		if len(b.ended) < n {
			return false
		}
		f = b.ended[n-1]
		return true
	})
	return f
}

// way is the way to a session's machine.
func (b *bay) way(session string) *tunnel.Way {
	b.Helper()
	r, err := b.ws.Planner().Plan(session)
	if err != nil {
		b.Fatal(err)
	}
	w := tunnel.NewWay(b.walker, r)
	b.Cleanup(w.Close)
	return w
}

// open opens a tunnel through quay.
func (b *bay) open(spec book.Tunnel, o tunnel.Options) *tunnel.Tunnel {
	b.Helper()
	o.Tell = b.tell
	t, err := tunnel.Open(b.way("quay"), spec, o)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(t.Close)
	return t
}

func (b *bay) dial(address string) net.Conn {
	b.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		b.Fatal(err)
	}
	conn.SetDeadline(time.Now().Add(30 * time.Second))
	b.Cleanup(func() { conn.Close() })
	return conn
}

func bring(reach string) book.Tunnel { return book.Tunnel{Bring: "127.0.0.1:0", Reach: reach} }

func TestAServiceIsBroughtNear(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("tide-db.internal:5432"), tunnel.Options{})
	if strings.HasSuffix(d.Address(), ":0") || d.Beyond() {
		t.Errorf("the door is %s", d.Address())
	}
	conn := b.dial(d.Address())
	lines := bufio.NewScanner(conn)
	lines.Scan()
	if got := lines.Text(); got != "TIDES 1.4 ready, hello "+lab.InnerAddress {
		t.Errorf("it said %q", got)
	}
	if flows := d.Flows(); len(flows) != 1 || flows[0].To != "tide-db.internal:5432" || flows[0].In == 0 || flows[0].From != conn.LocalAddr().String() {
		t.Errorf("flows %+v", flows)
	}
	fmt.Fprintln(conn, "level 3")
	lines.Scan()
	if !strings.HasSuffix(lines.Text(), " m") {
		t.Errorf("it said %q", lines.Text())
	}
	fmt.Fprintln(conn, "quit")
	if lines.Scan() {
		t.Errorf("after the end %q", lines.Text())
	}
	conn.Close()
	if f := b.flow(1); !f.Complete || f.Out != uint64(len("level 3\nquit\n")) {
		t.Errorf("ended %+v", f)
	}
}

func TestTheTwoDirectionsEndApart(t *testing.T) {
	b := openBay(t)
	conn := b.dial(b.open(bring("10.61.4.50:7"), tunnel.Options{}).Address())
	io.WriteString(conn, "low tide")
	conn.(*net.TCPConn).CloseWrite()
	if got, err := io.ReadAll(conn); err != nil || string(got) != "LOW TIDE" {
		t.Errorf("%q, %v", got, err)
	}
}

func TestAProgramThatIsCutOffEndsItsFlowThoughTheServiceIsSilent(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("tide-db.internal:5432"), tunnel.Options{})
	conn := b.dial(d.Address())
	bufio.NewReader(conn).ReadString('\n')
	conn.(*net.TCPConn).SetLinger(0)
	conn.Close() // a reset, and nothing more comes from the far side
	if f := b.flow(1); f.Complete || strings.Contains(f.How, "\n") {
		t.Errorf("ended %+v", f)
	}
}

func TestWhatTheFarSideRefusesIsTold(t *testing.T) {
	b := openBay(t)
	if conn, err := net.Dial("tcp", b.open(bring("10.61.4.99:80"), tunnel.Options{}).Address()); err == nil { // it may be reset that early
		if _, err := conn.Read(make([]byte, 1)); err == nil {
			t.Error("it is served")
		}
		conn.Close()
	}
	if f := b.flow(1); f.Complete || !strings.Contains(f.How, "quay opens no connection to 10.61.4.99:80: ") || !strings.Contains(f.How, "No route to host") {
		t.Errorf("%+v", f)
	}
}

func TestADoorOutlivesItsWay(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("10.61.4.31:7000"), tunnel.Options{})
	conn := b.dial(d.Address())
	first := bufio.NewScanner(conn)
	if !first.Scan() {
		t.Fatal(first.Err())
	}
	b.Host("quay").Cut()
	for first.Scan() {
	}
	if first.Err() == nil {
		t.Error("a flow that was cut looks as if it had come to its end")
	}
	again := bufio.NewScanner(b.dial(d.Address()))
	if !again.Scan() || !strings.HasPrefix(again.Text(), "gauge-1 ") {
		t.Errorf("after it: %q, %v", again.Text(), again.Err())
	}
	if f := b.flow(1); f.Complete {
		t.Errorf("%+v", f)
	}
}

func TestWhatKnocksWaitsForTheWayAndNotForEver(t *testing.T) {
	b := openBay(t)
	quay := b.Host("quay")
	quay.Faults.ClosePort(true)
	d := b.open(bring("10.61.4.31:7000"), tunnel.Options{Wait: 200 * time.Millisecond})
	if conn, err := net.Dial("tcp", d.Address()); err == nil { // it may be reset that early
		if _, err := conn.Read(make([]byte, 1)); err == nil {
			t.Error("it is served")
		}
		conn.Close()
	}
	if f := b.flow(1); f.Complete {
		t.Errorf("%+v", f)
	}
	quay.Faults.Heal()
	if lines := bufio.NewScanner(b.dial(d.Address())); !lines.Scan() {
		t.Errorf("healed: %v", lines.Err())
	}
}

func TestAPageIsReachedByRoaming(t *testing.T) {
	b := openBay(t)
	for name, login := range map[string]*url.Userinfo{"open": nil, "with a password": url.UserPassword("keeper", "ebb")} {
		o := tunnel.Options{}
		if login != nil {
			o.User, o.Password = "keeper", "ebb"
		}
		d := b.open(book.Tunnel{Roam: "127.0.0.1:0"}, o)
		for _, scheme := range []string{"socks5", "http"} {
			proxy := &url.URL{Scheme: scheme, Host: d.Address(), User: login}
			var client http.Client
			transport := &http.Transport{Proxy: http.ProxyURL(proxy)}
			client.Transport = transport
			address := "http://survey-web.internal/" // a name that the far side alone resolves
			if scheme == "http" {
				continue // a plain page needs no CONNECT; see TestGreetings
			}
			r, err := client.Get(address)
			if err != nil {
				t.Errorf("%s, %s: %v", name, scheme, err)
				continue
			}
			text, _ := io.ReadAll(r.Body)
			r.Body.Close()
			if !strings.Contains(string(text), "Tide tables of survey-web") {
				t.Errorf("%s, %s: %s", name, scheme, text)
			}
			transport.CloseIdleConnections()
			if login != nil {
				proxy.User = url.UserPassword("keeper", "flood")
				if _, err := client.Get(address); err == nil {
					t.Errorf("%s: a wrong password is taken", scheme)
				}
			}
		}
	}
}

func TestARoamingDoorLeadsWhereItMay(t *testing.T) {
	b := openBay(t)
	here := must(net.Listen("tcp", "127.0.0.1:0"))
	defer here.Close()
	go func() {
		for {
			conn, err := here.Accept()
			if err != nil {
				return
			}
			io.WriteString(conn, "from here")
			conn.Close()
		}
	}()
	_, port, _ := net.SplitHostPort(here.Addr().String())
	d := b.open(book.Tunnel{Roam: "127.0.0.1:0", Only: "archive.* 10.61.4.0/24:5432", Direct: "127.0.0.0/8:" + port}, tunnel.Options{})
	for _, c := range []struct{ to, want string }{
		{"archive.internal:7", "HTTP/1.1 200 Connection established"},
		{"ARCHIVE.internal.:7", "HTTP/1.1 502 Bad Gateway"}, // allowed, and not known over there by that name
		{"10.61.4.20:5432", "HTTP/1.1 200 Connection established"},
		{"10.61.4.20:22", "HTTP/1.1 403 Forbidden"},
		{"survey-web.internal:80", "HTTP/1.1 403 Forbidden"},
		{"127.0.0.1:" + port, "HTTP/1.1 200 Connection established"},
		{"[::ffff:127.0.0.1]:" + port, "HTTP/1.1 200 Connection established"},
	} {
		conn := b.dial(d.Address())
		fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\n\r\n", c.to)
		lines := bufio.NewScanner(conn)
		lines.Scan()
		if lines.Text() != c.want {
			t.Errorf("%s: %q, wanted %q", c.to, lines.Text(), c.want)
		}
		if strings.HasSuffix(c.to, port) {
			lines.Scan()
			if lines.Scan(); lines.Text() != "from here" {
				t.Errorf("%s: it said %q", c.to, lines.Text())
			}
		}
		conn.Close()
	}
	conn := b.dial(d.Address())
	io.WriteString(conn, "\x05\x01\x00\x05\x01\x00\x01\x0a\x3d\x04\x28\x00\x50")
	if got, _ := io.ReadAll(conn); string(got) != "\x05\x00\x05\x02\x00\x01\x00\x00\x00\x00\x00\x00" {
		t.Errorf("%q", got)
	}
	guarded := b.open(book.Tunnel{Roam: "127.0.0.1:0", Login: "keeper"}, tunnel.Options{})
	if user, password := guarded.Login(); user != "keeper" || len(password) < 20 {
		t.Errorf("login %q, a password of %d", user, len(password))
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestGreetings(t *testing.T) {
	b := openBay(t)
	open := b.open(book.Tunnel{Roam: "127.0.0.1:0"}, tunnel.Options{})
	guarded := b.open(book.Tunnel{Roam: "127.0.0.1:0"}, tunnel.Options{User: "u", Password: "p"})
	port := "\x00\x07" // of the service that answers in capitals
	for _, c := range []struct {
		name, send, want string
		guarded          bool
	}{
		{"5 to an address", "\x05\x01\x00" + "\x05\x01\x00\x01\x0a\x3d\x04\x32" + port + "tide", "\x05\x00" + "\x05\x00\x00\x01\x00\x00\x00\x00\x00\x00" + "TIDE", false},
		{"5 to a name", "\x05\x02\x02\x00" + "\x05\x01\x00\x03\x10archive.internal" + port + "tide", "\x05\x00" + "\x05\x00\x00\x01\x00\x00\x00\x00\x00\x00" + "TIDE", false},
		{"5, nobody there", "\x05\x01\x00" + "\x05\x01\x00\x01\x0a\x3d\x04\x63" + port, "\x05\x00" + "\x05\x05\x00\x01\x00\x00\x00\x00\x00\x00", false},
		{"5, listening", "\x05\x01\x00" + "\x05\x02\x00\x01\x0a\x3d\x04\x32" + port, "\x05\x00" + "\x05\x07\x00\x01\x00\x00\x00\x00\x00\x00", false},
		{"5, kind of address", "\x05\x01\x00" + "\x05\x01\x00\x09", "\x05\x00" + "\x05\x08\x00\x01\x00\x00\x00\x00\x00\x00", false},
		{"5, a bad name", "\x05\x01\x00" + "\x05\x01\x00\x03\x03a\x1bb" + port, "\x05\x00" + "\x05\x01\x00\x01\x00\x00\x00\x00\x00\x00", false},
		{"5 without the login wanted", "\x05\x01\x00", "\x05\xff", true},
		{"5 with it", "\x05\x01\x02" + "\x01\x01u\x01p" + "\x05\x01\x00\x01\x0a\x3d\x04\x32" + port + "tide", "\x05\x02\x01\x00" + "\x05\x00\x00\x01\x00\x00\x00\x00\x00\x00" + "TIDE", true},
		{"5 with another", "\x05\x01\x02" + "\x01\x01u\x01q", "\x05\x02\x01\x01", true},
		{"4", "\x04\x01" + port + "\x0a\x3d\x04\x32" + "me\x00" + "tide", "\x00\x5a\x00\x00\x00\x00\x00\x00" + "TIDE", false},
		{"4a", "\x04\x01" + port + "\x00\x00\x00\x01" + "\x00" + "archive.internal\x00" + "tide", "\x00\x5a\x00\x00\x00\x00\x00\x00" + "TIDE", false},
		{"4 where a password is wanted", "\x04\x01" + port + "\x0a\x3d\x04\x32" + "me\x00", "\x00\x5b\x00\x00\x00\x00\x00\x00", true},
		{"CONNECT", "CONNECT archive.internal:7 HTTP/1.1\r\nHost: archive.internal:7\r\n\r\ntide", "HTTP/1.1 200 Connection established\r\n\r\nTIDE", false},
		{"CONNECT to nobody", "CONNECT 10.61.4.99:7 HTTP/1.1\r\n\r\n", "HTTP/1.1 502 Bad Gateway\r\n\r\n", false},
		{"CONNECT to rubbish", "CONNECT archive HTTP/1.1\r\n\r\n", "HTTP/1.1 400 Bad Request\r\n\r\n", false},
		{"CONNECT without the password", "CONNECT archive.internal:7 HTTP/1.1\r\n\r\n", "HTTP/1.1 407 Proxy Authentication Required\r\nProxy-Authenticate: Basic realm=\"door\"\r\n\r\n", true},
		{"CONNECT with it", "CONNECT archive.internal:7 HTTP/1.1\r\nProxy-Authorization: Basic dTpw\r\n\r\ntide", "HTTP/1.1 200 Connection established\r\n\r\nTIDE", true},
		{"rubbish", "\x16\x03\x01", "", false},
	} {
		at := open
		if c.guarded {
			at = guarded
		}
		conn := b.dial(at.Address()).(*net.TCPConn)
		io.WriteString(conn, c.send)
		conn.CloseWrite()
		got, _ := io.ReadAll(conn)
		if string(got) != c.want {
			t.Errorf("%s: got %q, want %q", c.name, got, c.want)
		}
		conn.Close()
		for n := 0; n < len(c.send); n += 1 + len(c.send)/8 { // cut short
			cut := b.dial(at.Address()).(*net.TCPConn)
			io.WriteString(cut, c.send[:n])
			cut.CloseWrite()
			io.Copy(io.Discard, cut)
			cut.Close()
		}
	}
	for _, d := range []*tunnel.Tunnel{open, guarded} {
		await.Until(t, "no flow to be left over", func() bool { return len(d.Flows()) == 0 })
	}
}

func TestASlowReaderStallsNobodyElse(t *testing.T) {
	b := openBay(t)
	d := b.open(book.Tunnel{Roam: "127.0.0.1:0"}, tunnel.Options{})
	slow := b.dial(d.Address()) // asks for a flood and reads nothing of it
	io.WriteString(slow, "\x04\x01\x00\x13\x0a\x3d\x04\x32\x00")
	await.Until(t, "the flood to begin", func() bool { _, in, _ := d.Count(); return in > 0 })
	for range 5 {
		conn := b.dial(d.Address()).(*net.TCPConn)
		io.WriteString(conn, "\x04\x01\x00\x07\x0a\x3d\x04\x32\x00tide")
		conn.CloseWrite()
		if got, err := io.ReadAll(conn); err != nil || !strings.HasSuffix(string(got), "TIDE") {
			t.Fatalf("%q, %v", got, err)
		}
	}
	before, same := uint64(0), 0
	await.Until(t, "what is held, which is bounded, to come to rest", func() bool {
		_, in, _ := d.Count()
		if same++; in != before {
			before, same = in, 0
		}
		return same == 20
	})
	if before > 32<<20 {
		t.Errorf("%d bytes were taken in for a reader that reads nothing", before)
	}
	if flows := d.Flows(); len(flows) != 1 || !d.EndFlow(flows[0].ID) {
		t.Errorf("flows %+v", flows)
	}
	if f := b.flow(6); f.How != "ended here" {
		t.Errorf("%+v", f)
	}
}

func TestManyFlowsThroughOneDoor(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("10.61.4.50:7"), tunnel.Options{})
	var wg sync.WaitGroup
	for range 200 {
		wg.Go(func() {
			conn, err := net.Dial("tcp", d.Address())
			if err != nil {
				t.Error(err)
				return
			}
			defer conn.Close()
			conn.SetDeadline(time.Now().Add(30 * time.Second))
			io.WriteString(conn, "tide")
			conn.(*net.TCPConn).CloseWrite()
			if got, err := io.ReadAll(conn); err != nil || string(got) != "TIDE" {
				t.Errorf("%q, %v", got, err)
			}
		})
	}
	wg.Wait()
	if flows, in, out := d.Count(); flows != 200 || in != 800 || out != 800 {
		t.Errorf("counted %d flows, %d in, %d out", flows, in, out)
	}
}

func TestATakenDoorNamesItsHolder(t *testing.T) {
	b := openBay(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, err = tunnel.Open(b.way("quay"), book.Tunnel{Bring: l.Addr().String(), Reach: "x:1"}, tunnel.Options{})
	if err == nil || !strings.Contains(err.Error(), "is taken by") {
		t.Errorf("%v", err)
	}
	for spec, beyond := range map[string]bool{"127.0.0.1:1": false, "[::1]:1": false, "localhost:1": false, "/run/x": false, "0.0.0.0:1": true, "*:1": true, "192.0.2.1:1": true} {
		if (book.Tunnel{Roam: spec}).Beyond() != beyond {
			t.Errorf("%s: beyond is %v", spec, !beyond)
		}
	}
}

func TestAnIdleFlowIsEnded(t *testing.T) {
	b := openBay(t)
	conn := b.dial(b.open(bring("10.61.4.20:5432"), tunnel.Options{Idle: 60 * time.Millisecond}).Address())
	io.Copy(io.Discard, conn)
	if f := b.flow(1); !strings.Contains(f.How, "nothing passed for") {
		t.Errorf("%+v", f)
	}
}

func TestServicesAreProvenFromTheFarSide(t *testing.T) {
	b := openBay(t)
	for reach, want := range map[string][3]string{
		"tide-db.internal:5432":  {"open", "it answers: TIDES 1.4 ready, hello 10.61.4.1", ""},
		"survey-web.internal:80": {"open", "it accepts connections and waits for the client", ""},
		"archive.internal:5433":  {"shut", "FATAL no entry in the access list for 10.61.4.1", "allow quay (seen as 10.61.4.1) to connect"},
		"10.61.4.31:81":          {"shut", "Connection refused; 10.61.4.31:81 answers, but nothing listens", ""},
		"nowhere.internal:80":    {"shut", "does not know that name", ""},
	} {
		p := b.open(bring(reach), tunnel.Options{}).Prove(t.Context())
		if p.Verdict.String() != want[0] || !strings.Contains(p.Say, want[1]) || !strings.HasPrefix(p.Rule, want[2]) || (want[2] == "") != (p.Rule == "") {
			t.Errorf("%s: %+v", reach, p)
		}
	}
	b.Host("quay").Faults.ForbidOnward(true)
	if p := b.open(bring("tide-db.internal:5432"), tunnel.Options{}).Prove(t.Context()); !strings.Contains(p.Rule, "have onward connections allowed at quay") {
		t.Errorf("forbidden: %+v", p)
	}
}

// shout says something to the service that answers in capitals, and returns what it
// answers.
func shout(conn net.Conn) (string, error) {
	conn.SetDeadline(time.Now().Add(60 * time.Second))
	io.WriteString(conn, "tide")
	conn.(*net.TCPConn).CloseWrite()
	got, err := io.ReadAll(conn)
	return string(got), err
}

func TestTwoThousandConnectionsAtOnce(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("10.61.4.50:7"), tunnel.Options{Wait: time.Minute})
	const many = 2000
	conns := make([]net.Conn, many)
	for i := range conns { // all are open before the first asks anything
		conn, err := net.Dial("tcp", d.Address())
		if err != nil {
			t.Fatalf("connection %d: %v", i, err)
		}
		defer conn.Close()
		conns[i] = conn
	}
	var wg sync.WaitGroup
	var wrong sync.Map
	for i, conn := range conns {
		wg.Go(func() {
			if got, err := shout(conn); err != nil || got != "TIDE" {
				wrong.Store(i, fmt.Sprintf("%q, %v", got, err))
			}
		})
	}
	wg.Wait()
	wrong.Range(func(i, say any) bool { t.Errorf("connection %v: %v", i, say); return false })
	if flows, in, out := d.Count(); flows != many || in != 4*many || out != 4*many {
		t.Errorf("counted %d flows, %d in, %d out", flows, in, out)
	}
}

func TestTenThousandConnectionsLeaveNothingBehind(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("10.61.4.50:7"), tunnel.Options{})
	if got, err := shout(b.dial(d.Address())); err != nil || got != "TIDE" {
		t.Fatalf("%q, %v", got, err)
	}
	before := carrying()
	for range 8 {
		var wg sync.WaitGroup
		for range 16 {
			wg.Go(func() {
				for range 79 {
					conn, err := net.Dial("tcp", d.Address())
					if err != nil {
						t.Error(err)
						return
					}
					got, err := shout(conn)
					conn.Close()
					if err != nil || got != "TIDE" {
						t.Errorf("%q, %v", got, err)
						return
					}
				}
			})
		}
		wg.Wait()
	}
	await.Until(t, fmt.Sprint("nothing to be left of ", before, " goroutines more"), func() bool {
		return len(d.Flows()) == 0 && carrying() <= before
	})
}

// carrying is how many goroutines carry connections. What else the bay does meanwhile does not count.
func carrying() (n int) {
	stacks := make([]byte, 16<<20)
	for stack := range strings.SplitSeq(string(stacks[:runtime.Stack(stacks, true)]), "\n\n") {
		if strings.Contains(stack, "meatus/core/tunnel.(") || strings.Contains(stack, "ssh.(*channel)") {
			n++
		}
	}
	return n
}

func TestADoorIsTakenBetweenLookingAndListening(t *testing.T) {
	b := openBay(t)
	way := b.way("quay")
	spec := book.Tunnel{Bring: "127.0.0.1:0", Reach: "10.61.4.50:7"}
	first, err := tunnel.Open(way, spec, tunnel.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	spec.Bring = first.Address()
	if _, err := tunnel.Open(way, spec, tunnel.Options{}); err == nil || !strings.Contains(err.Error(), "is taken") {
		t.Errorf("%v", err)
	}
	first.Close()
	again, err := tunnel.Open(way, spec, tunnel.Options{})
	if err != nil {
		t.Fatalf("when it is free: %v", err)
	}
	again.Close()
}

func TestAChannelThatNobodyAskedForIsRefused(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("10.61.4.50:7"), tunnel.Options{})
	if got, err := shout(b.dial(d.Address())); err != nil || got != "TIDE" {
		t.Fatalf("%q, %v", got, err)
	}
	for kind, payload := range map[string][]byte{"forwarded-tcpip": ssh.Marshal(struct {
		At   string
		Port uint32
		From string
		By   uint32
	}{"127.0.0.1", 22, "203.0.113.9", 1}), "x11": ssh.Marshal(struct {
		From string
		Port uint32
	}{"203.0.113.9", 1}), "session": nil, "direct-tcpip": []byte("rubbish"), "auth-agent@openssh.com": nil} {
		if opened, err := b.Host("quay").Push(kind, payload); err != nil || opened != 0 {
			t.Errorf("%s: opened at %d connections, %v", kind, opened, err)
		}
	}
	if got, err := shout(b.dial(d.Address())); err != nil || got != "TIDE" {
		t.Errorf("afterwards: %q, %v", got, err)
	}
}

func TestNarrowAndLossyLinesChangeNothing(t *testing.T) {
	b := openBay(t)
	b.Host("archive").Faults.Limit(256 << 10)
	b.Host("quay").Faults.Lose(0.05)
	b.Host("quay").Faults.Delay(2 * time.Millisecond)
	d := b.open(bring("10.61.4.50:7"), tunnel.Options{})
	conn := b.dial(d.Address()).(*net.TCPConn)
	text := strings.Repeat("the tide rises, ", 8<<10) // 128 KiB
	go func() { io.WriteString(conn, text); conn.CloseWrite() }()
	got, err := io.ReadAll(conn)
	if err != nil || string(got) != strings.ToUpper(text) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	b.Host("quay").Faults.Heal()
}

func TestALimitedFlowPassesWholeAndEndsAtOnce(t *testing.T) {
	b := openBay(t)
	d := b.open(bring("10.61.4.50:7"), tunnel.Options{Rate: 64 << 10})
	conn := b.dial(d.Address()).(*net.TCPConn)
	text := strings.Repeat("tide", 20<<10) // more than may pass at once
	go func() { io.WriteString(conn, text); conn.CloseWrite() }()
	if got, err := io.ReadAll(conn); err != nil || string(got) != strings.ToUpper(text) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	slow := b.open(bring("10.61.4.50:19"), tunnel.Options{Rate: 1 << 10})
	held := b.dial(slow.Address())
	if _, err := held.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
	slow.Close() // does not wait for what is held back
	if f := b.flow(2); f.Complete {
		t.Errorf("%+v", f)
	}
}
