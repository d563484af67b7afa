// Package traffic keeps the demo busy: it holds tunnels into the bay beside the
// program's own, as another Meatus would, and has made-up programs use them, so that
// Watch has something to show from its first second. All of it is called demo traffic,
// and none of it leaves this machine.
package traffic

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
	"time"

	"meatus/core/book"
	"meatus/core/dial"
	"meatus/core/engine"
	"meatus/core/step"
	"meatus/core/tunnel"
	"meatus/core/workspace"
)

// Name is what all of it goes by.
const Name = "demo traffic"

// use is a tunnel and what uses it.
type use struct {
	session string
	spec    book.Tunnel
	by      func(ctx context.Context, listener string)
}

var uses = []use{
	{"quay", book.Tunnel{Bring: "127.0.0.1:0", Reach: "gauge-1.internal:7000"}, listen},
	{"quay", book.Tunnel{Bring: "127.0.0.1:0", Reach: "tide-db.internal:5432"}, question},
	{"quay", book.Tunnel{Bring: "127.0.0.1:0", Reach: "survey-web.internal:80"}, leaf},
	{"quay", book.Tunnel{Bring: "127.0.0.1:0", Reach: "archive.internal:19"}, haul},
}

// beside is a command that runs beside them, at a machine behind the bastion.
const besideAt, beside = "gauge-1", "stream 300ms"

// Start begins the traffic in a workspace of the lab; stop ends it, and waits for that.
// Only machines that are vouched for already are visited.
func Start(w *workspace.Workspace, dialer dial.Network) (stop func(), err error) {
	e, err := engine.Open(context.Background(), engine.Options{Workspace: w, Asker: nobody{}, Dialer: dialer, Name: Name, Apart: true})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	end := func() {
		cancel()
		e.Close()
		wg.Wait()
	}
	for _, u := range uses {
		r, err := w.Planner().Plan(u.session)
		if err == nil {
			err = e.Tunnels.Open(r, []book.Tunnel{u.spec}, tunnel.Options{}, false)
		}
		if err != nil {
			end()
			return nil, fmt.Errorf("%s: %w", Name, err)
		}
		open := e.Tunnels.Of(u.session)
		at := open[len(open)-1].Address()
		wg.Go(func() {
			for ctx.Err() == nil {
				u.by(ctx, at)
				pause(ctx, time.Second)
			}
		})
	}
	wg.Go(func() {
		for ctx.Err() == nil {
			run(ctx, w, e)
			pause(ctx, 5*time.Second)
		}
	})
	return end, nil
}

// run runs the command beside the tunnels, to its end.
func run(ctx context.Context, w *workspace.Workspace, e *engine.Engine) {
	r, err := w.Planner().Plan(besideAt)
	if err != nil {
		return
	}
	passage, err := e.Walker.Walk(ctx, r)
	if err != nil {
		return
	}
	defer passage.Close()
	program, err := e.Programs.Start(ctx, passage, beside, nil)
	if err != nil {
		return
	}
	defer context.AfterFunc(ctx, program.Close)()
	go io.Copy(io.Discard, program.Err)
	io.Copy(io.Discard, program.Out)
	program.Wait()
}

// nobody answers no question.
type nobody struct{}

func (nobody) Identity(context.Context, step.IdentityQuestion) error {
	return fmt.Errorf("%s visits no machine that is not vouched for", Name)
}

func (nobody) Passphrase(context.Context, step.PassphraseQuestion) ([]byte, error) {
	return nil, fmt.Errorf("%s unlocks no key", Name)
}

func (nobody) Answers(context.Context, step.ServerQuestions) ([]string, error) {
	return nil, fmt.Errorf("%s answers no question", Name)
}

func (nobody) Lend(context.Context, step.LendQuestion) error {
	return fmt.Errorf("%s lends no key", Name)
}

// pause waits so long, give or take a half.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d/2 + rand.N(d)):
	case <-ctx.Done():
	}
}

// connect connects to a listener for as long as the context lasts.
func connect(ctx context.Context, listener string) (net.Conn, func(), error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", listener)
	if err != nil {
		return nil, nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	return conn, func() { stop(); conn.Close() }, nil
}

// listen reads a gauge's feed.
func listen(ctx context.Context, listener string) {
	if conn, done, err := connect(ctx, listener); err == nil {
		defer done()
		io.Copy(io.Discard, conn)
	}
}

// question asks the tide tables for an hour, again and again.
func question(ctx context.Context, listener string) {
	conn, done, err := connect(ctx, listener)
	if err != nil {
		return
	}
	defer done()
	lines := bufio.NewScanner(conn)
	for n := 0; n < 40 && lines.Scan(); n++ {
		fmt.Fprintf(conn, "level %d\n", rand.N(24))
		pause(ctx, 400*time.Millisecond)
	}
}

// leaf reads the survey's page and what belongs to it.
func leaf(ctx context.Context, listener string) {
	client := &http.Client{Transport: &http.Transport{}}
	defer client.CloseIdleConnections()
	for _, path := range []string{"/", "/tides.css", "/tides.svg"} {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+listener+path, nil)
		if err != nil {
			return
		}
		answer, err := client.Do(request)
		if err != nil {
			return
		}
		io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
		pause(ctx, 300*time.Millisecond)
	}
}

// haul fetches from the archive, in stretches of its own pace.
func haul(ctx context.Context, listener string) {
	conn, done, err := connect(ctx, listener)
	if err != nil {
		return
	}
	defer done()
	conn.(*net.TCPConn).SetReadBuffer(64 << 10) // so that little waits on the way
	for range 200 {
		if _, err := io.CopyN(io.Discard, conn, 4<<10+rand.N[int64](40<<10)); err != nil {
			return
		}
		pause(ctx, 150*time.Millisecond)
	}
}
