package gateway_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gateway"
	"meatus/core/line"
	"meatus/core/record"
	"meatus/lab/await"
	"meatus/lab/servertest"
)

// What goes through is whole, both ways at once, in many streams, and each direction ends by itself.
func TestStreamsAreWhole(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to reef\n", "", nil)
	// It reads to the end, and then says what it has read.
	p.join("reef", answering(t, func(conn net.Conn) {
		sum := sha256.New()
		n, _ := io.Copy(sum, conn)
		fmt.Fprintf(conn, "%d %x", n, sum.Sum(nil))
		conn.Write(make([]byte, 3<<20))
	}))
	v := p.mustCome(signer)
	var wg sync.WaitGroup
	for i := range 10 {
		wg.Go(func() {
			text := make([]byte, i*400<<10+i)
			rand.Read(text)
			stream, err := v.open(t, "reef")
			if err != nil {
				t.Error(err)
				return
			}
			go func() {
				stream.Write(text)
				stream.CloseWrite()
			}()
			said, err := io.ReadAll(stream)
			if want := fmt.Sprintf("%d %x", len(text), sha256.Sum256(text)); err != nil || !strings.HasPrefix(string(said), want) || len(said) != len(want)+3<<20 {
				t.Errorf("stream %d: %d bytes %v: %.90q", i, len(said), err, said)
			}
			stream.Close()
		})
	}
	wg.Wait()
	if head, err := p.store.Verify(t.Context(), record.Head{}); err != nil || head.Number < 22 {
		t.Errorf("%+v %v", head, err)
	}
	// One that is simply closed has ended like any other.
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	stream.(interface{ Reset() error }).Reset()
	await.Until(t, "its end in the record", func() bool {
		list, err := p.store.Entries(t.Context(), 1, 1000)
		return err == nil && strings.Contains(list[len(list)-1].Body, `"closed"`) && !strings.Contains(list[len(list)-1].Body, `"why"`)
	})
}

// One that never reads keeps no other waiting.
func TestASlowReaderStallsNoOther(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	var sent sync.Map
	p.join("reef", answering(t, func(conn net.Conn) {
		first := make([]byte, 1)
		io.ReadFull(conn, first)
		if first[0] == 's' {
			n, piece := 0, make([]byte, 64<<10)
			for {
				m, err := conn.Write(piece)
				if n += m; err != nil {
					return
				}
				sent.Store("slow", n)
			}
		}
		io.Copy(conn, conn)
	}))
	v := p.mustCome(signer)
	slow, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	slow.Write([]byte("s"))
	still := func() bool { // it is held up when nothing was sent between two looks with other work between them
		before, _ := sent.Load("slow")
		other, err := v.open(t, "reef")
		if err != nil {
			t.Fatal(err)
		}
		defer other.Close()
		text := bytes.Repeat([]byte("tide"), 100<<10)
		go func() { other.Write(append([]byte("e"), text...)); other.CloseWrite() }()
		if got, err := io.ReadAll(other); err != nil || !bytes.Equal(got, text) {
			t.Fatalf("beside a slow reader %d bytes came: %v", len(got), err)
		}
		after, _ := sent.Load("slow")
		return before != nil && before == after
	}
	await.Until(t, "the slow one to be held up", still)
	if n, _ := sent.Load("slow"); n.(int) > 64<<20 {
		t.Errorf("%d bytes wait for who does not read", n)
	}
}

// Whoever is not known gets nothing, and is told nothing.
func TestStrangersAreToldNothing(t *testing.T) {
	_, known := key(t, "mira")
	p := open(t, known+"allow mira to reef\n", "", nil)
	stranger, _ := key(t, "nobody")
	if _, err := p.come(line.Target{}, ssh.PublicKeys(stranger)); err == nil || strings.Contains(err.Error(), "mira") {
		t.Errorf("a stranger: %v", err)
	}
	var refusal *line.Refusal
	if _, err := p.come(line.Target{Header: http.Header{"Authorization": {"Bearer x.y.z"}}}); !errors.As(err, &refusal) || refusal.Say != "the certificate or token is not taken" {
		t.Errorf("a token where none is trusted: %v", err)
	}
	_, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForMachines, HostKeys: []string{p.hostKey}})
	if !errors.As(err, &refusal) || refusal.Status != http.StatusUnauthorized {
		t.Errorf("a machine without a key: %v", err)
	}
	if _, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForGateways, HostKeys: []string{p.hostKey}}); !errors.As(err, &refusal) {
		t.Errorf("a gateway without a key: %v", err)
	}
}

// The policy decides, refusals say by which line, and a changed policy ends what it does not allow any more.
func TestThePolicyDecides(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to reef gone\ndeny mira to lamp\n", "", nil)
	p.join("reef", answering(t, echo))
	p.join("lamp", answering(t, echo))
	p.join("buoy", answering(t, echo))
	v := p.mustCome(signer)
	for machine, says := range map[string]string{
		"lamp": "line 3", "buoy": "no rule", "nowhere": "no rule", "gone": "no machine called gone", "reef.": "no rule", "": "no rule",
	} {
		_, err := v.open(t, machine)
		var refusal *line.Refusal
		if !errors.As(err, &refusal) || !strings.Contains(refusal.Say, says) {
			t.Errorf("%q: %v", machine, err)
		}
	}
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	stream.Write([]byte("tide"))
	io.ReadFull(stream, make([]byte, 4))
	// A wrong one changes nothing, and is told.
	p.write("allow mira to\n")
	p.log.has(t, "the last policy that was right goes on to hold")
	if other, err := v.open(t, "reef"); err != nil {
		t.Errorf("with the last good policy: %v", err)
	} else {
		other.Close()
	}
	p.write(known + "allow mira to buoy\n")
	if _, err := io.ReadAll(stream); line.CutOf(err) != line.CutByPolicy {
		t.Errorf("what is not allowed any more was not cut, or it is not told by what: %v", err)
	}
	if _, err := v.open(t, "reef"); err == nil {
		t.Error("what is not allowed any more was opened")
	}
	if other, err := v.open(t, "buoy"); err != nil {
		t.Errorf("what is allowed now: %v", err)
	} else {
		other.Close()
	}
	// Somebody who is not known any more is shown out.
	p.write("# nobody\n")
	v.client.Wait()
}

// A token lets one machine in, as that machine, once; its key is its own from then on.
func TestHowAMachineJoins(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	token := p.token("reef")
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	done := make(chan error, 1)
	j := p.joiner("reef", answering(t, echo), token)
	go func() { done <- j.Run(ctx) }()
	p.awaitJoined("reef")
	for name, token := range map[string]string{"a token used twice": token, "a token of nobody": "x", "no token": ""} {
		if token == "" {
			if _, err := gateway.NewJoiner(gateway.JoinOptions{URLs: []string{p.url}, Key: filepath.Join(p.dir, "none.pem"), SSH: "127.0.0.1:22"}); err == nil {
				t.Errorf("%s: a joiner was made", name)
			}
			continue
		}
		if err := p.joiner(name, "127.0.0.1:1", token).Run(t.Context()); !errors.Is(err, gateway.ErrNotLetIn) {
			t.Errorf("%s: %v", name, err)
		}
	}
	v := p.mustCome(signer)
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	// One that is revoked is cut off, and does not come back.
	if err := p.store.Revoke(t.Context(), "reef"); err != nil {
		t.Fatal(err)
	}
	if err := <-done; !errors.Is(err, gateway.ErrNotLetIn) {
		t.Errorf("a revoked machine: %v", err)
	}
	if _, err := io.ReadAll(stream); err == nil {
		t.Error("a stream to it goes on")
	}
	if _, err := v.open(t, "reef"); err == nil {
		t.Error("a stream to it was opened")
	}
}

// A machine leads to its SSH server and to what it names, and to nothing else.
func TestAMachineLeadsToWhatItNames(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to reef printer.reef tag:web\n", "", nil)
	j, err := gateway.NewJoiner(gateway.JoinOptions{URLs: []string{p.url}, HostKeys: []string{p.hostKey}, Key: filepath.Join(p.dir, "reef.pem"), Token: p.token("reef", "web"), SSH: answering(t, func(c net.Conn) { io.WriteString(c, "reef") }),
		Also: map[string]string{"printer": answering(t, func(c net.Conn) { io.WriteString(c, "printer") }), "safe": answering(t, echo)}})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- j.Run(ctx) }()
	defer func() { cancel(); <-done }()
	p.awaitJoined("reef")
	v := p.mustCome(signer)
	for machine, want := range map[string]string{"reef": "reef", "printer.reef": "printer"} {
		stream, err := v.open(t, machine)
		if err != nil {
			t.Errorf("%s: %v", machine, err)
			continue
		}
		if got, err := io.ReadAll(stream); err != nil || string(got) != want {
			t.Errorf("%s: %q %v", machine, got, err)
		}
	}
	for _, ask := range []line.Reach{{Machine: "reef", Port: 80}, {Machine: "safe.reef", Port: 22}, {Machine: "lamp.reef", Port: 22}, {Machine: "reef", To: "safe", Port: 80}, {Machine: "127.0.0.1", Port: 22}} {
		if stream, err := line.Open(t.Context(), v.session, ask); err == nil {
			t.Errorf("%+v was opened", ask)
			stream.Reset()
		}
	}
	p.write(known + "allow mira to *\ndeny mira to tag:web\n") // and what denies the machine denies what is behind it
	v.untilRefused(t, "printer.reef", "line 3")
}

// The gateway ends and is started again: machines return by themselves.
func TestAGatewayRestarts(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	p.join("reef", answering(t, echo))
	for range 2 {
		at := strings.TrimPrefix(p.url, "wss://")
		p.stop()
		if m, err := p.store.Machine(t.Context(), "reef"); err != nil || m.Gateway != "" {
			t.Errorf("without its gateway: %+v %v", m, err)
		}
		p.start(at, nil)
		v := p.mustCome(signer)
		// Opening waits for a machine that was here a moment ago, for some seconds; how long the machine pauses before it
		// joins again depends on how often it was cut off just before.
		await.Until(t, "the machine to be reached again", func() bool {
			stream, err := v.open(t, "reef")
			if err == nil {
				stream.Close()
			}
			return err == nil
		})
	}
}

// At its end a gateway has what runs go on for a while, and machines join elsewhere meanwhile.
func TestAGatewayEndsGracefully(t *testing.T) {
	signer, known := key(t, "mira")
	db := servertest.Postgres(t).URL
	rules := known + "allow mira to *\n"
	a := open(t, rules, db, nil)
	b := open(t, rules, db, func(o *gateway.Options) { o.Certificate, o.Name = a.cert, "b" })
	joiner, err := gateway.NewJoiner(gateway.JoinOptions{URLs: []string{a.url, b.url}, HostKeys: []string{a.hostKey}, Key: filepath.Join(a.dir, "reef.pem"), Token: a.token("reef"), SSH: answering(t, echo), Log: a.log.Logger})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- joiner.Run(ctx) }()
	defer func() { cancel(); <-done }()
	a.awaitJoined("reef")
	v := a.mustCome(signer)
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	closing, end := context.WithCancel(t.Context())
	closed := make(chan struct{})
	go func() { a.server.Close(closing); close(closed) }()
	a.log.has(t, "the gateway ends; joining elsewhere")
	if _, err := v.open(t, "reef"); err == nil {
		t.Error("something new was let through at the end")
	}
	await.Until(t, "the machine to join the other gateway", func() bool {
		m, err := b.store.Machine(t.Context(), "reef")
		return err == nil && m.Gateway == "b"
	})
	stream.Write([]byte("tide"))
	got := make([]byte, 4)
	if _, err := io.ReadFull(stream, got); err != nil || string(got) != "tide" {
		t.Errorf("what runs: %q %v", got, err)
	}
	stream.CloseWrite()
	io.ReadAll(stream)
	stream.Close()
	<-closed
	end()
}

// Gateways with one store are one: whoever comes to the one reaches what is joined at the other.
func TestGatewaysSideBySide(t *testing.T) {
	signer, known := key(t, "mira")
	db := servertest.Postgres(t)
	rules := known + "allow mira to *\n"
	a, b := open(t, rules, db.URL, nil), open(t, rules, db.URL, nil)
	b.join("reef", answering(t, echo))
	say := func(v *visit, what string) {
		t.Helper()
		stream, err := v.open(t, "reef")
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		text := bytes.Repeat([]byte("low water "), 50<<10)
		go func() { stream.Write(text); stream.CloseWrite() }()
		if got, err := io.ReadAll(stream); err != nil || !bytes.Equal(got, text) {
			t.Errorf("%s: %d bytes %v", what, len(got), err)
		}
		stream.Close()
	}
	v := a.mustCome(signer)
	say(v, "from the one to the other")
	say(v, "and again")
	// Its machine comes to this one while that one is away, without a word of farewell.
	token := a.token("moved")
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	j := b.joiner("moved", answering(t, echo), token, b.url)
	go j.Run(ctx)
	b.awaitJoined("moved")
	// The store goes away: what runs goes on, and nothing new is let through.
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	db.Stop()
	stream.Write([]byte("tide"))
	got := make([]byte, 4)
	if _, err := io.ReadFull(stream, got); err != nil || string(got) != "tide" {
		t.Errorf("what runs without the store: %q %v", got, err)
	}
	var refusal *line.Refusal
	if _, err := v.open(t, "reef"); !errors.As(err, &refusal) || !strings.Contains(refusal.Say, "nothing new is let through") {
		t.Errorf("without the store: %v", err)
	}
	a.log.has(t, "the store does not answer")
	db.Start()
	await.Until(t, "the store to be used again", func() bool {
		other, err := v.open(t, "reef")
		if err == nil {
			other.Close()
		}
		return err == nil
	})
	stream.Close()
	say(v, "when the store is back")
	if head, err := a.store.Verify(t.Context(), record.Head{}); err != nil || head.Number < 8 {
		t.Errorf("%+v %v", head, err)
	}
}

func TestLimits(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\nlimit mira connections 2 streams 3\nlimit machine lamp streams 1\nlimit machine tank daily 1kB\n", "", nil)
	for _, name := range []string{"reef", "lamp", "tank"} {
		p.join(name, answering(t, echo))
	}
	v := p.mustCome(signer)
	p.mustCome(signer)
	refused := func(v *visit, machine, says string) {
		t.Helper()
		stream, err := v.open(t, machine)
		var refusal *line.Refusal
		if !errors.As(err, &refusal) || refusal.Reason != line.NoRoom || !strings.Contains(refusal.Say, says) {
			t.Errorf("%s: %v", machine, err)
		}
		if err == nil {
			stream.Close()
		}
	}
	third, err := p.come(line.Target{}, ssh.PublicKeys(signer))
	if err != nil {
		t.Fatal(err)
	}
	refused(third, "reef", "2 connections")
	first, err := v.open(t, "lamp")
	if err != nil {
		t.Fatal(err)
	}
	refused(v, "lamp", "lamp has 1 streams")
	for range 2 {
		if _, err := v.open(t, "reef"); err != nil {
			t.Fatal(err)
		}
	}
	refused(v, "reef", "mira has 3 streams")
	first.Close()
	var tank line.Stream
	await.Until(t, "a stream to be counted out", func() bool {
		tank, err = v.open(t, "tank")
		return err == nil
	})
	go func() { tank.Write(make([]byte, 5000)); tank.CloseWrite() }()
	io.ReadAll(tank)
	tank.Close()
	v.untilRefused(t, "tank", "used up")
}

// What is not the protocol ends that connection, and nothing else.
func TestBentFrames(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	p.join("reef", answering(t, echo))
	for _, bent := range []string{"", "SSH-2.0-x\r\n", strings.Repeat("\xff", 4000), strings.Repeat("\x00", 100), "\x00\x00\x00\x01\x00\x00\x00\x01\xff\xff\xff\xff"} {
		conn, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForPersons, HostKeys: []string{p.hostKey}})
		if err != nil {
			t.Fatal(err)
		}
		conn.Write([]byte(bent))
		if strings.HasPrefix(bent, "\xff") { // no frame of any version
			io.Copy(io.Discard, conn)
		}
		conn.Close()
	}
	large, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForPersons, HostKeys: []string{p.hostKey}})
	if err != nil {
		t.Fatal(err)
	}
	for err == nil { // a message without end in sight is not kept
		_, err = large.Write(bytes.Repeat([]byte{0xff}, 64<<20))
	}
	large.Close()
	v := p.mustCome(signer)
	for _, head := range []string{"\xff\xff", "\x00\x02{}", "\x00\x05{\"ma", "\x10\x01"} {
		stream, err := v.session.OpenStream(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		stream.Write([]byte(head))
		stream.CloseWrite()
		io.Copy(io.Discard, stream)
	}
	// More streams than one person's connection may have are turned away, and the others go on.
	for range 10000 {
		stream, err := v.session.OpenStream(t.Context())
		if err != nil {
			break
		}
		go stream.Write([]byte{0})
	}
	w := p.mustCome(signer)
	stream, err := w.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	stream.Close()
}

// A proxy that closes what is idle keeps nobody from staying joined, and does not see inside.
func TestAProxyThatClosesWhatIsIdle(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	const idle = time.Second
	var connected, heard atomic.Int64
	proxy := answering(t, func(near net.Conn) {
		reader := bufio.NewReader(near)
		request, err := http.ReadRequest(reader)
		if err != nil || request.Method != http.MethodConnect {
			return
		}
		far, err := net.Dial("tcp", request.Host)
		if err != nil {
			return
		}
		connected.Add(1)
		io.WriteString(near, "HTTP/1.1 200 OK\r\n\r\n")
		pass := func(to, from net.Conn, r io.Reader) {
			piece := make([]byte, 4096)
			for {
				from.SetReadDeadline(time.Now().Add(idle))
				n, err := r.Read(piece)
				if err != nil {
					break
				}
				heard.Add(1)
				to.Write(piece[:n])
			}
			to.Close()
		}
		go pass(near, far, far)
		pass(far, near, reader)
	})
	j, err := gateway.NewJoiner(gateway.JoinOptions{URLs: []string{p.url}, HostKeys: []string{p.hostKey}, Key: filepath.Join(p.dir, "reef.pem"), Token: p.token("reef"), SSH: answering(t, echo), Log: p.log.Logger, Ping: 200 * time.Millisecond,
		Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: proxy})})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- j.Run(ctx) }()
	defer func() { cancel(); <-done }()
	p.awaitJoined("reef")
	before := heard.Load()
	// Twice as many signs of life as the proxy's patience has room for, each with its answer.
	await.Until(t, "signs of life to pass", func() bool { return heard.Load()-before > 20 })
	v := p.mustCome(signer)
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	stream.Close()
	if n := connected.Load(); n != 1 {
		t.Errorf("it connected %d times through the proxy", n)
	}
}

// What cannot be recorded is not opened, and nobody joins.
func TestNothingRunsThatCannotBeRecorded(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	p.join("reef", answering(t, echo))
	v := p.mustCome(signer)
	running, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	raw, err := sql.Open("sqlite", filepath.Join(p.dir, "gateway.db")+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer raw.Close()
	if _, err := raw.Exec("CREATE TRIGGER full BEFORE INSERT ON entry BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END"); err != nil {
		t.Fatal(err)
	}
	var refusal *line.Refusal
	if _, err := v.open(t, "reef"); !errors.As(err, &refusal) || !strings.Contains(refusal.Say, "record cannot be written") {
		t.Errorf("%v", err)
	}
	conn, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForMachines, HostKeys: []string{p.hostKey}, Present: machineKey(t, p, "reef")})
	if !errors.As(err, &refusal) || refusal.Status != http.StatusServiceUnavailable {
		t.Errorf("a machine joined: %v", err)
		conn.Close()
	}
	running.Write([]byte("tide"))
	got := make([]byte, 4)
	if _, err := io.ReadFull(running, got); err != nil || string(got) != "tide" {
		t.Errorf("what ran before: %q %v", got, err)
	}
	p.log.has(t, "database or disk is full")
	if _, err := raw.Exec("DROP TRIGGER full"); err != nil {
		t.Fatal(err)
	}
	again, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
	running.Close()
}

// machineKey is a joined machine's own.
func machineKey(t *testing.T, p *place, name string) *tls.Certificate {
	t.Helper()
	file := filepath.Join(p.dir, name+".pem")
	cert, err := tls.LoadX509KeyPair(file, file)
	if err != nil {
		t.Fatal(err)
	}
	return &cert
}

// What there is to reach is told to whom it is for, and the record to whom may read it.
func TestWhatAGatewayTells(t *testing.T) {
	mira, known1 := key(t, "mira")
	oskar, known2 := key(t, "oskar")
	p := open(t, known1+known2+"allow mira to reef lamp\nallow oskar to lamp\nreads oskar\n", "", nil)
	p.join("reef", answering(t, echo))
	p.token("never")
	told := func(signer ssh.Signer, ask line.Message) (string, error) {
		stream, err := line.Open(t.Context(), p.mustCome(signer).session, ask)
		if err != nil {
			return "", err
		}
		text, err := io.ReadAll(stream)
		return string(text), err
	}
	if text, err := told(mira, line.List{}); err != nil || strings.Count(text, "\n") != 1 || !strings.Contains(text, `"name":"reef"`) || !strings.Contains(text, `"joined":"20`) {
		t.Errorf("mira: %q %v", text, err)
	}
	if text, err := told(oskar, line.List{}); err != nil || text != "" {
		t.Errorf("oskar: %q %v", text, err)
	}
	var refusal *line.Refusal
	if _, err := told(mira, line.Entries{Most: 10}); !errors.As(err, &refusal) || refusal.Reason != line.NotAllowed {
		t.Errorf("the record: %v", err)
	}
	if text, err := told(oskar, line.Entries{Most: 1}); err != nil || strings.Count(text, "\n") != 1 || !strings.Contains(text, `"number":2`) || !strings.Contains(text, "joined") {
		t.Errorf("the record: %q %v", text, err)
	}
}

// What does not introduce itself, or a byte at a time, is not waited for.
func TestSlowHandshakes(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", func(o *gateway.Options) { o.Patience = 300 * time.Millisecond })
	p.join("reef", answering(t, echo))
	at := strings.TrimPrefix(p.url, "wss://")
	silent, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	slow, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer slow.Close()
	go func() {
		for _, c := range "GET /v1/person HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\n" {
			if _, err := slow.Write([]byte(string(c))); err != nil {
				return
			}
			select {
			case <-t.Context().Done():
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}()
	for _, conn := range []net.Conn{silent, slow} {
		if text, _ := io.ReadAll(conn); bytes.Contains(text, []byte(" 101 ")) {
			t.Errorf("it was let in: %q", text)
		}
	}
	stream, err := p.mustCome(signer).open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	stream.Close()
}
