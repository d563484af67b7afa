package tunnel_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/tunnel"
	"meatus/lab/servertest"
)

// services are a source that sends without end, and one that sends back what comes.
func services(b *testing.B) (source, echo string) {
	b.Helper()
	serve := func(do func(net.Conn)) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(func() { l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() { defer conn.Close(); do(conn) }()
			}
		}()
		return l.Addr().String()
	}
	block := make([]byte, 64<<10)
	return serve(func(c net.Conn) {
			for {
				if _, err := c.Write(block); err != nil {
					return
				}
			}
		}), serve(func(c net.Conn) {
			io.Copy(c, c)
		})
}

// listener opens a tunnel to a service over so many hops.
func listener(b *testing.B, s servertest.Server, hops int, spec book.Tunnel) *tunnel.Tunnel {
	b.Helper()
	way := tunnel.NewWay(s.Walker(b), s.Way(hops))
	t, err := tunnel.Open(way, spec, tunnel.Options{})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { t.Close(); way.Close() })
	if _, err := way.Passage(context.Background()); err != nil {
		b.Fatal(err)
	}
	return t
}

const load = 32 << 20

// take reads a share of the load from each of so many connections and returns how
// long that took.
func take(b *testing.B, flows int, dial func() (net.Conn, error)) time.Duration {
	b.Helper()
	var conns []net.Conn
	for range flows {
		conn, err := dial()
		if err != nil {
			b.Fatal(err)
		}
		conns = append(conns, conn)
		if _, err := io.CopyN(io.Discard, conn, 1<<20); err != nil { // it has begun
			b.Fatal(err)
		}
	}
	began := time.Now()
	var wg sync.WaitGroup
	for _, conn := range conns {
		wg.Go(func() { io.CopyN(io.Discard, conn, int64(load/flows)) })
	}
	wg.Wait()
	took := time.Since(began)
	for _, conn := range conns {
		conn.Close()
	}
	return took
}

// compare takes the load through bare channels and through a listener.
func compare(b *testing.B, flows int, client *ssh.Client, t *tunnel.Tunnel, source string) {
	b.Helper()
	servertest.Compare(b, load,
		func() time.Duration {
			return take(b, flows, func() (net.Conn, error) { return client.Dial("tcp", source) })
		},
		func() time.Duration {
			return take(b, flows, func() (net.Conn, error) { return net.Dial("tcp", t.Address()) })
		})
}

// BenchmarkFlows compares what comes through a listener with what comes through bare
// channels of the library, in turn in the same run.
func BenchmarkFlows(b *testing.B) {
	s := servertest.Start(b)
	source, _ := services(b)
	for hops := 1; hops <= 2; hops++ {
		client := s.Bare(b, hops)
		t := listener(b, s, hops, book.Tunnel{Bring: "127.0.0.1:0", Reach: source})
		for _, flows := range []int{1, 16} {
			b.Run(fmt.Sprintf("%dhop/%dflows", hops, flows), func(b *testing.B) { compare(b, flows, client, t, source) })
		}
	}
}

// BenchmarkDistance compares what comes through a listener with what comes through bare
// channels where the first hop is far away, in turn in the same run. The library gives
// a channel a window of 2 MiB, and no flow can have more than that on its way.
func BenchmarkDistance(b *testing.B) {
	near := servertest.Start(b)
	source, _ := services(b)
	for _, roundTrip := range []time.Duration{0, 20 * time.Millisecond, 100 * time.Millisecond} {
		s := near.Far(b, roundTrip)
		for hops := 1; hops <= 2; hops++ {
			client := s.Bare(b, hops)
			t := listener(b, s, hops, book.Tunnel{Bring: "127.0.0.1:0", Reach: source})
			for _, flows := range []int{1, 16} {
				b.Run(fmt.Sprintf("%s/%dhop/%dflows", roundTrip, hops, flows), func(b *testing.B) {
					compare(b, flows, client, t, source)
					if roundTrip > 0 {
						b.ReportMetric(float64(2<<20)/1e6/roundTrip.Seconds(), "a-window-MB/s")
					}
				})
			}
		}
	}
}

// BenchmarkLinks measures 16 flows over two hops, the first of them far away, spread
// over links side by side.
func BenchmarkLinks(b *testing.B) {
	s := servertest.Start(b).Far(b, 100*time.Millisecond)
	source, _ := services(b)
	for _, links := range []int{1, 4} {
		r := s.Way(2)
		r.Hops[1].Links = links
		way := tunnel.NewWay(s.Walker(b), r)
		t, err := tunnel.Open(way, book.Tunnel{Bring: "127.0.0.1:0", Reach: source}, tunnel.Options{})
		if err != nil {
			b.Fatal(err)
		}
		for way.State().Lanes < links || !way.State().Up { // all of them are being made
			way.Want()
			time.Sleep(10 * time.Millisecond)
		}
		time.Sleep(3 * time.Second)
		b.Run(fmt.Sprintf("%dlinks", links), func(b *testing.B) {
			var took time.Duration
			for b.Loop() {
				took += take(b, 16, func() (net.Conn, error) { return net.Dial("tcp", t.Address()) })
			}
			b.ReportMetric(float64(load)*float64(b.N)/1e6/took.Seconds(), "MB/s")
			b.ReportMetric(0, "ns/op")
		})
		t.Close()
		way.Close()
	}
}

// BenchmarkRequests measures small requests through a listener, and connecting.
func BenchmarkRequests(b *testing.B) {
	s := servertest.Start(b)
	_, echo := services(b)
	for hops := 1; hops <= 2; hops++ {
		client := s.Bare(b, hops)
		t := listener(b, s, hops, book.Tunnel{Bring: "127.0.0.1:0", Reach: echo})
		for name, dial := range map[string]func() (net.Conn, error){
			"bare": func() (net.Conn, error) { return client.Dial("tcp", echo) },
			"door": func() (net.Conn, error) { return net.Dial("tcp", t.Address()) },
		} {
			b.Run(fmt.Sprintf("%dhop/%s/request", hops, name), func(b *testing.B) {
				conn, err := dial()
				if err != nil {
					b.Fatal(err)
				}
				defer conn.Close()
				var each []time.Duration
				buf := make([]byte, 100)
				for b.Loop() {
					began := time.Now()
					conn.Write(buf)
					if _, err := io.ReadFull(conn, buf); err != nil {
						b.Fatal(err)
					}
					each = append(each, time.Since(began))
				}
				slices.Sort(each)
				b.ReportMetric(float64(each[len(each)/2].Microseconds()), "p50-µs")
				b.ReportMetric(float64(each[len(each)*99/100].Microseconds()), "p99-µs")
			})
			b.Run(fmt.Sprintf("%dhop/%s/connect", hops, name), func(b *testing.B) {
				buf := make([]byte, 1)
				for b.Loop() {
					conn, err := dial()
					if err != nil {
						b.Fatal(err)
					}
					conn.Write(buf)
					if _, err := io.ReadFull(conn, buf); err != nil {
						b.Fatal(err)
					}
					conn.Close()
				}
			})
		}
	}
}

// BenchmarkRoam measures requests for a page through a roaming listener.
func BenchmarkRoam(b *testing.B) {
	s := servertest.Start(b)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "tides") })}
	go server.Serve(l)
	defer server.Close()
	t := listener(b, s, 1, book.Tunnel{Roam: "127.0.0.1:0"})
	for name, keep := range map[string]bool{"connections kept": true, "one for each": false} {
		b.Run(name, func(b *testing.B) {
			proxy, _ := url.Parse("socks5://" + t.Address())
			transport := &http.Transport{Proxy: http.ProxyURL(proxy), DisableKeepAlives: !keep}
			defer transport.CloseIdleConnections()
			client := &http.Client{Transport: transport}
			for b.Loop() {
				r, err := client.Get("http://" + l.Addr().String() + "/")
				if err != nil {
					b.Fatal(err)
				}
				io.Copy(io.Discard, r.Body)
				r.Body.Close()
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
		})
	}
}

// BenchmarkIdleFlow measures the memory that a flow takes through which nothing
// passes.
func BenchmarkIdleFlow(b *testing.B) {
	s := servertest.Start(b)
	_, echo := services(b)
	t := listener(b, s, 1, book.Tunnel{Bring: "127.0.0.1:0", Reach: echo})
	memory := func() int64 {
		runtime.GC()
		runtime.GC() // what pools keep is gone after the second
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc + m.StackInuse)
	}
	const flows = 500
	before, each := memory(), int64(0)
	for b.Loop() {
		var conns []net.Conn
		for range flows {
			conn, err := net.Dial("tcp", t.Address())
			if err != nil {
				b.Fatal(err)
			}
			conn.Write([]byte{0})
			io.ReadFull(conn, make([]byte, 1))
			conns = append(conns, conn)
		}
		if each == 0 { // what flows leave that have ended is used by the next ones
			each = (memory() - before) / flows
		}
		for _, conn := range conns {
			conn.Close()
		}
	}
	b.ReportMetric(float64(each)/1024, "KiB/flow")
}
