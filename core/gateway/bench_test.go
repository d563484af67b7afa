package gateway_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"
	"golang.org/x/time/rate"

	"meatus/core/gateway"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/service"
	"meatus/core/store"
	"meatus/core/walk"
	"meatus/lab/await"
	"meatus/lab/servertest"
)

// slow is a line of so many bytes a second to an address, and returns its own.
func slow(b *testing.B, to string, perSecond int) string {
	if perSecond == 0 {
		return to
	}
	return answering(b, func(near net.Conn) {
		far, err := net.Dial("tcp", to)
		if err != nil {
			return
		}
		defer far.Close()
		one := func(to, from net.Conn) {
			limit, piece := rate.NewLimiter(rate.Limit(perSecond), 64<<10), make([]byte, 64<<10)
			for {
				n, err := from.Read(piece)
				if n > 0 {
					limit.WaitN(context.Background(), n)
					if _, err := to.Write(piece[:n]); err != nil {
						break
					}
				}
				if err != nil {
					break
				}
			}
			to.Close()
		}
		go one(far, near)
		one(near, far)
	})
}

// BenchmarkThroughGateway compares what comes from an SSH server through a gateway with what comes from it where it
// is knocked at, with one stream and with 16, over loopback and over a line of 50 MB/s.
func BenchmarkThroughGateway(b *testing.B) {
	s := servertest.StartWith(b, "MaxSessions 64\n")
	known := fmt.Sprintf("person mira key %s\n", ssh.FingerprintSHA256(s.Signer.PublicKey()))
	p := open(b, known+"allow mira to *\n", "", nil)
	p.join("reef", s.Address)
	programs := remote.New(remote.Config{})
	for _, perSecond := range []int{0, 50e6} {
		direct, through := s.Way(1), s.Way(1)
		direct.Hops[0].Dial = slow(b, s.Address, perSecond)
		through.Hops[0].Host, through.Hops[0].Dial = "reef", ""
		through.Hops[0].Port = 22
		at := slow(b, strings.TrimPrefix(p.url, "wss://"), perSecond)
		through.Hops = append([]route.Hop{{Name: "bay", Destination: route.Destination{Host: "127.0.0.1", Port: 1, Gateway: &route.Gateway{URLs: []string{"wss://" + at}, HostKeys: []string{p.hostKey}}}, Credentials: route.Credentials{User: "meatus", Keys: []string{s.Key}}}}, through.Hops...)
		w := s.Walker(b)
		ways := map[*walk.Passage]bool{}
		walked := func(r route.Route) *walk.Passage {
			passage, err := w.Walk(b.Context(), r)
			if err != nil {
				b.Fatal(err)
			}
			ways[passage] = true
			return passage
		}
		bare, ours := walked(direct), walked(through)
		for _, streams := range []int{1, 16} {
			load := (64 << 20) / streams
			carry := func(passage *walk.Passage) func() time.Duration {
				return func() time.Duration {
					began := time.Now()
					var all sync.WaitGroup
					for range streams {
						all.Go(func() {
							g, err := programs.Start(b.Context(), passage, fmt.Sprintf("head -c %d /dev/zero", load), nil)
							if err != nil {
								b.Error(err)
								return
							}
							if n, _ := io.Copy(io.Discard, g.Out); n != int64(load) {
								b.Errorf("%d bytes", n)
							}
							g.Wait()
							g.Close()
						})
					}
					all.Wait()
					return time.Since(began)
				}
			}
			b.Run(fmt.Sprintf("line_%d/streams_%d", perSecond, streams), func(b *testing.B) {
				servertest.Compare(b, load*streams, carry(bare), carry(ours))
			})
		}
		b.Run(fmt.Sprintf("line_%d/request", perSecond), func(b *testing.B) {
			echoed := answering(b, echo)
			ask := func(passage *walk.Passage) func() time.Duration {
				stream, err := passage.Dial(b.Context(), "tcp", echoed)
				if err != nil {
					b.Fatal(err)
				}
				return func() time.Duration {
					piece, began := make([]byte, 100), time.Now()
					for range 200 {
						stream.Write(piece)
						io.ReadFull(stream, piece)
					}
					return time.Since(began) / 200
				}
			}
			servertest.Compare(b, 100, ask(bare), ask(ours))
		})
		for passage := range ways {
			passage.Close()
		}
	}
}

// serveVariable has the test's own program be a gateway by itself, whose memory is measured.
const serveVariable = "MEATUS_BENCH_GATEWAY"

func TestMain(m *testing.M) {
	if dir := os.Getenv(serveVariable); dir != "" {
		beGateway(dir)
		return
	}
	os.Exit(m.Run())
}

func beGateway(dir string) {
	fail := func(err error) {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	gateway.CollectEarly()
	s, err := store.OpenMachines(context.Background(), filepath.Join(dir, "gateway.db"))
	fail(err)
	own := filepath.Join(dir, "gateway.pem")
	cert := &service.Certificate{CertFile: own, KeyFile: own}
	fail(cert.Make("gateway"))
	rules, err := service.OpenPolicy(policy.Gateway, filepath.Join(dir, "gateway.policy"), nil)
	fail(err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	fail(err)
	fail(os.WriteFile(filepath.Join(dir, "address"), []byte(l.Addr().String()), 0o600))
	fail(gateway.NewServer(gateway.Options{Options: service.Options{Policy: rules, Certificate: cert}, Store: s}).Serve(l))
}

// BenchmarkJoined has many machines join a gateway of its own process, and tells what that costs. It is to be run
// once (-benchtime 1x).
func BenchmarkJoined(b *testing.B) {
	const machines = 5000
	dir := b.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "gateway.policy"), nil, 0o600); err != nil {
		b.Fatal(err)
	}
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), serveVariable+"="+dir)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	var address []byte
	await.Until(b, "the gateway to serve", func() bool {
		address, _ = os.ReadFile(filepath.Join(dir, "address"))
		return len(address) > 0
	})
	s, err := store.OpenMachines(b.Context(), filepath.Join(dir, "gateway.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	certs := make([]*tls.Certificate, machines)
	for i := range certs {
		certs[i] = certificate(b)
		token, err := s.NewToken(b.Context(), store.Token{Machine: fmt.Sprint("m", i)}, time.Hour)
		if err == nil {
			_, err = s.Enrol(b.Context(), token, line.FingerprintOf(certs[i]))
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	own, err := tls.LoadX509KeyPair(filepath.Join(dir, "gateway.pem"), filepath.Join(dir, "gateway.pem"))
	if err != nil {
		b.Fatal(err)
	}
	hostKey := line.FingerprintOf(&own)
	empty := resident(b, cmd.Process.Pid)
	for range b.N {
		began := time.Now()
		sessions := make([]*yamux.Session, machines)
		var all sync.WaitGroup
		room := make(chan struct{}, 32)
		for i := range certs {
			room <- struct{}{}
			all.Go(func() {
				defer func() { <-room }()
				conn, err := line.Connect(b.Context(), line.Target{URL: "wss://" + string(address), Path: line.ForMachines, HostKeys: []string{hostKey}, Present: certs[i]})
				if err == nil {
					sessions[i], err = line.Mux(conn, true)
				}
				if err != nil {
					b.Error(err)
				}
			})
		}
		all.Wait()
		b.ReportMetric(machines/time.Since(began).Seconds(), "joins/s")
		const idle = 60 * time.Second // the pings of some rounds
		before := busy(b, cmd.Process.Pid)
		time.Sleep(idle)
		b.ReportMetric(100*(busy(b, cmd.Process.Pid)-before).Seconds()/idle.Seconds(), "%core-idle")
		b.ReportMetric(resident(b, cmd.Process.Pid)-empty, "MB")
		for _, s := range sessions {
			s.Close()
		}
	}
	b.ReportMetric(0, "ns/op")
}

// certificate is a machine's.
func certificate(b *testing.B) *tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		b.Fatal(err)
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// resident is the memory of a process, in MB.
func resident(b *testing.B, pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		b.Fatal(err)
	}
	pages, _ := strconv.Atoi(strings.Fields(string(text))[1])
	return float64(pages*os.Getpagesize()) / 1e6
}

// busy is how long a process has kept cores busy.
func busy(b *testing.B, pid int) time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		b.Fatal(err)
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}
