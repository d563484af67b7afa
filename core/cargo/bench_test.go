package cargo_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/route"
	"meatus/core/walk"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// memory is a folder in memory, so that no disk is measured.
func memory(b testing.TB) string {
	b.Helper()
	dir, err := os.MkdirTemp("/dev/shm", "cargo")
	if err != nil {
		return b.TempDir()
	}
	b.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// there opens a tree of a server at the end of some hops.
func there(b testing.TB, s servertest.Server, hops int, dir string, lane ...int) *ends.There {
	b.Helper()
	w := s.Walker(b)
	lanes := 1
	if len(lane) > 0 {
		lanes = lane[0]
	}
	t, err := ends.OpenThere(context.Background(), ends.Options{Session: "bench", Lanes: lanes, Walk: func(ctx context.Context, lane int, _ bool) (*walk.Passage, error) {
		return w.Walk(ctx, s.Way(hops).AtEnd(func(last *route.Hop) { last.Lane = lane }))
	}}, dir)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { t.Close() })
	return t
}

// bareSend sends bytes through a bare channel of the protocol library to a command.
func bareSend(b testing.TB, client *ssh.Client, from io.Reader, command string) time.Duration {
	session, err := client.NewSession()
	if err != nil {
		b.Fatal(err)
	}
	defer session.Close()
	in, err := session.StdinPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := session.Start(command); err != nil {
		b.Fatal(err)
	}
	began := time.Now()
	if _, err := io.CopyBuffer(struct{ io.Writer }{in}, struct{ io.Reader }{from}, make([]byte, 256<<10)); err != nil {
		b.Fatal(err)
	}
	in.Close()
	if err := session.Wait(); err != nil {
		b.Fatal(err)
	}
	return time.Since(began)
}

// nought is as many null bytes as are wanted, from memory.
type nought struct{}

func (nought) Read(p []byte) (int, error) { return len(p), nil }

// bareFile sends a file through a bare channel to a command that writes it.
func bareFile(b testing.TB, client *ssh.Client, from, to string) time.Duration {
	f, err := os.Open(from)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	return bareSend(b, client, f, "cat > "+to)
}

// libraryFile sends a file by the file-transfer library used plainly, or a share of it behind a long line, where
// it would take hours, and returns how long all of it takes.
func libraryFile(b testing.TB, files *sftp.Client, from, to string, share int64) time.Duration {
	began := time.Now()
	f, err := os.Open(from)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	w, err := files.Create(to)
	if err != nil {
		b.Fatal(err)
	}
	info, err := f.Stat()
	if err == nil {
		_, err = io.Copy(w, io.LimitReader(f, info.Size()/share))
	}
	if err = errors.Join(err, w.Close()); err != nil {
		b.Fatal(err)
	}
	return time.Since(began) * time.Duration(share)
}

// BenchmarkLargeFile sends one large file, against a bare channel of the protocol library whose bytes come from
// memory and are dropped over there, against one that carries the file, and against the file-transfer library
// used plainly.
func BenchmarkLargeFile(b *testing.B) {
	for _, trip := range []time.Duration{0, 20 * time.Millisecond, 100 * time.Millisecond} {
		for hops := 1; hops <= 2; hops++ {
			b.Run(fmt.Sprintf("%v/%d hops", trip, hops), func(b *testing.B) {
				s := servertest.Start(b)
				if trip > 0 {
					s = s.Far(b, trip)
				}
				size := 1 << 30
				share := int64(1)
				if trip > 0 {
					share = 128
					size = 384 << 20 / (2*hops - 1) // a bare channel over two hops takes long
				}
				from, to := memory(b), memory(b)
				random(b, filepath.Join(from, "file"), size)
				here, far := here(b, from), there(b, s, hops, to, lanesOf(hops))
				client := s.Bare(b, hops)
				files, err := sftp.NewClient(client)
				if err != nil {
					b.Fatal(err)
				}
				ours := func() time.Duration {
					os.RemoveAll(filepath.Join(to, "file"))
					p := planned(b, here, far, cargo.Rules{})
					began := time.Now()
					r, err := cargo.NewCarry(p, here, far, cargo.Options{Proof: cargo.ProveNought}).Run(context.Background())
					if err != nil || r.Failed > 0 {
						b.Fatal(err, r)
					}
					return time.Since(began)
				}
				file, other := filepath.Join(from, "file"), filepath.Join(memory(b), "file")
				for _, bare := range []struct {
					name string
					send func() time.Duration
				}{
					{"dropped", func() time.Duration {
						return bareSend(b, client, io.LimitReader(nought{}, int64(size)), "cat > /dev/null")
					}},
					{"file", func() time.Duration { return bareFile(b, client, file, other) }},
					{"library", func() time.Duration { return libraryFile(b, files, file, other, share) }},
				} {
					b.Run(bare.name, func(b *testing.B) {
						servertest.Compare(b, size, func() time.Duration {
							os.Remove(other)
							return bare.send()
						}, ours)
					})
				}
			})
		}
	}
}

// BenchmarkGigabyte sends a file of 1 GB behind long lines, and tells how many windows of 2 MiB went each
// round trip: what a channel of the protocol library carries is one.
func BenchmarkGigabyte(b *testing.B) {
	const size = 1 << 30
	for _, trip := range []time.Duration{20 * time.Millisecond, 100 * time.Millisecond} {
		for hops := 1; hops <= 2; hops++ {
			b.Run(fmt.Sprintf("%v/%d hops", trip, hops), func(b *testing.B) {
				s := servertest.Start(b).Far(b, trip)
				from := memory(b)
				random(b, filepath.Join(from, "file"), size)
				here, far := here(b, from), there(b, s, hops, memory(b), lanesOf(hops))
				for b.Loop() {
					p := planned(b, here, far, cargo.Rules{})
					began := time.Now()
					if r, err := cargo.NewCarry(p, here, far, cargo.Options{Proof: cargo.ProveNought}).Run(context.Background()); err != nil || r.Failed > 0 {
						b.Fatal(err, r)
					}
					took := time.Since(began)
					b.ReportMetric(size/1e6/took.Seconds(), "MB/s")
					b.ReportMetric(size/took.Seconds()*trip.Seconds()/(2<<20), "windows")
				}
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}

func random(b testing.TB, name string, size int) {
	b.Helper()
	f, err := os.Create(name)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	if _, err := io.CopyN(f, rand.Reader, int64(size)); err != nil {
		b.Fatal(err)
	}
}

// small makes a tree of many small files.
func small(b testing.TB, n, size int) string {
	dir := memory(b)
	text := make([]byte, size)
	for i := range n {
		folder := filepath.Join(dir, fmt.Sprintf("d%02d", i/100))
		if i%100 == 0 {
			os.Mkdir(folder, 0o755)
		}
		rand.Read(text[:16])
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%05d", i)), text, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return dir
}

// BenchmarkSmallFiles sends and fetches 10,000 files of 4 kB, against the file-transfer library used plainly, one
// by one (of which fewer are sent, behind a long line).
func BenchmarkSmallFiles(b *testing.B) {
	const n, size = 10_000, 4 << 10
	for _, trip := range []time.Duration{0, 50 * time.Millisecond} {
		b.Run(trip.String(), func(b *testing.B) {
			s := servertest.Start(b)
			if trip > 0 {
				s = s.Far(b, trip)
			}
			from := small(b, n, size)
			plainN := n
			if trip > 0 {
				plainN = 100
			}
			client, err := sftp.NewClient(s.Bare(b, 1))
			if err != nil {
				b.Fatal(err)
			}
			tree := here(b, from)
			for b.Loop() {
				to := memory(b)
				began := time.Now()
				plainly(b, client, from, to, plainN)
				plain := time.Since(began) * time.Duration(n/plainN)
				to = memory(b)
				far := there(b, s, 1, to)
				began = time.Now()
				p := planned(b, tree, far, cargo.Rules{})
				r, err := cargo.NewCarry(p, tree, far, cargo.Options{}).Run(context.Background())
				if err != nil || r.Failed > 0 {
					b.Fatal(err, r)
				}
				ours := time.Since(began)
				b.ReportMetric(plain.Seconds(), "plain-s")
				b.ReportMetric(ours.Seconds(), "ours-s")
				b.ReportMetric(plain.Seconds()/ours.Seconds(), "ratio")
				b.ReportMetric(float64(far.Requests()), "requests")

				began = time.Now()
				plainlyBack(b, client, to, plainN)
				plain = time.Since(began) * time.Duration(n/plainN)
				back := here(b, memory(b))
				began = time.Now()
				p = planned(b, far, back, cargo.Rules{})
				if r, err = cargo.NewCarry(p, far, back, cargo.Options{}).Run(context.Background()); err != nil || r.Failed > 0 {
					b.Fatal(err, r)
				}
				b.ReportMetric(plain.Seconds(), "plain-back-s")
				b.ReportMetric(time.Since(began).Seconds(), "ours-back-s")
				b.ReportMetric(plain.Seconds()/time.Since(began).Seconds(), "ratio-back")
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

// plainlyBack fetches files one by one.
func plainlyBack(b testing.TB, client *sftp.Client, from string, n int) {
	to := memory(b)
	folders, err := client.ReadDir(from)
	if err != nil {
		b.Fatal(err)
	}
	got := 0
	for _, d := range folders {
		files, _ := client.ReadDir(filepath.Join(from, d.Name()))
		for _, f := range files {
			if got++; got > n {
				return
			}
			in, err := client.Open(filepath.Join(from, d.Name(), f.Name()))
			if err != nil {
				b.Fatal(err)
			}
			text, err := io.ReadAll(in)
			in.Close()
			if err = errors.Join(err, os.WriteFile(filepath.Join(to, fmt.Sprint(got)), text, 0o600)); err != nil {
				b.Fatal(err)
			}
		}
	}
}

// plainly sends files one by one.
func plainly(b testing.TB, client *sftp.Client, from, to string, n int) {
	sent := 0
	folders, _ := os.ReadDir(from)
	for _, d := range folders {
		client.Mkdir(filepath.Join(to, d.Name()))
		files, _ := os.ReadDir(filepath.Join(from, d.Name()))
		for _, f := range files {
			if sent++; sent > n {
				return
			}
			text, err := os.ReadFile(filepath.Join(from, d.Name(), f.Name()))
			if err != nil {
				b.Fatal(err)
			}
			out, err := client.Create(filepath.Join(to, d.Name(), f.Name()))
			if err != nil {
				b.Fatal(err)
			}
			if _, err := out.Write(text); err != nil {
				b.Fatal(err)
			}
			out.Close()
		}
	}
}

// BenchmarkCompareTrees compares two trees of 100,000 files that are the same.
func BenchmarkCompareTrees(b *testing.B) {
	for _, trip := range []time.Duration{0, 50 * time.Millisecond} {
		b.Run(trip.String(), func(b *testing.B) {
			s := servertest.Start(b)
			if trip > 0 {
				s = s.Far(b, trip)
			}
			dir := small(b, 100_000, 16)
			from, to := here(b, dir), there(b, s, 1, dir)
			for b.Loop() {
				before := to.Requests()
				if p := planned(b, from, to, cargo.Rules{}); p.Acts() || p.Same < 100_000 {
					b.Fatal(acts(p))
				}
				b.ReportMetric(float64(to.Requests()-before), "requests")
			}
		})
	}
}

// lanesOf is how many links the way has: behind a hop all channels of one link share a window of the
// hop before, so a session over a long line says "links".
func lanesOf(hops int) int {
	if hops > 1 {
		return 4
	}
	return 1
}
