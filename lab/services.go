package lab

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// InnerAddress is where the bastion's connections come from in the private network.
const InnerAddress = "10.61.4.1"

// service answers one connection; from is the address that it sees.
type service func(ctx context.Context, h *Host, conn net.Conn, from string)

// bayServices are what listens in the bay beside the SSH servers, by host and port.
var bayServices = map[string]map[string]service{
	"tide-db":    {"5432": tideTables},
	"survey-web": {"80": webPage},
	"gauge-1":    {"7000": readings},
	"gauge-2":    {"7000": readings},
	"archive":    {"7": upperCase, "19": floodOut, "8080": slowly, "5433": ledger},
}

// halfCloser is a connection whose directions end apart.
type halfCloser interface{ CloseWrite() error }

func closeWrite(conn net.Conn) {
	if h, ok := conn.(halfCloser); ok {
		h.CloseWrite()
	}
}

// tideTables stands in for a database: it announces itself, takes questions line by
// line, and lets nobody in but from the bastion's private address.
func tideTables(_ context.Context, h *Host, conn net.Conn, from string) {
	if from != InnerAddress {
		fmt.Fprintf(conn, "FATAL no entry in the access list for %s\n", from)
		return
	}
	fmt.Fprintf(conn, "TIDES 1.4 ready, hello %s\n", from)
	lines := bufio.NewScanner(conn)
	for lines.Scan() {
		words := strings.Fields(strings.ToLower(lines.Text()))
		switch {
		case len(words) == 0:
		case words[0] == "level" && len(words) == 2:
			var hour float64
			fmt.Sscan(words[1], &hour)
			fmt.Fprintf(conn, "%s m\n", metres(tideLevel(hour)))
		case words[0] == "all":
			for hour := range 24 {
				fmt.Fprintf(conn, "%02d %s\n", hour, metres(tideLevel(float64(hour))))
			}
		case words[0] == "quit":
			return
		default:
			fmt.Fprintln(conn, "ERROR questions are: level HOUR, all, quit")
		}
	}
}

// ledger lets in nobody who comes through the bastion.
func ledger(_ context.Context, _ *Host, conn net.Conn, from string) {
	fmt.Fprintf(conn, "FATAL no entry in the access list for %s\n", from)
}

// webPage is the survey's private page, with a style and a drawing of its own.
func webPage(_ context.Context, h *Host, conn net.Conn, _ string) {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "<!doctype html>\n<title>Lantern Bay</title><link rel=stylesheet href=/tides.css>\n<h1>Lantern Bay</h1>\n<img src=/tides.svg alt=tides>\n<p>Tide tables of %s.</p>\n", h.Name)
	})
	mux.HandleFunc("GET /tides.css", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/css")
		io.WriteString(w, "body { font-family: serif; margin: 4em }\n")
	})
	mux.HandleFunc("GET /tides.svg", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "image/svg+xml")
		io.WriteString(w, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 240 80"><polyline fill="none" stroke="teal" points="`)
		for hour := range 25 {
			fmt.Fprintf(w, "%d,%.1f ", hour*10, 70-15*tideLevel(float64(hour)))
		}
		io.WriteString(w, `"/></svg>`)
	})
	l := &oneListener{conn: conn, done: make(chan struct{})}
	server := &http.Server{Handler: mux, IdleTimeout: time.Minute, ReadHeaderTimeout: time.Minute, ConnState: func(_ net.Conn, s http.ConnState) {
		if s == http.StateClosed || s == http.StateHijacked {
			l.Close()
		}
	}}
	server.Serve(l)
}

// oneListener gives one connection to a server.
type oneListener struct {
	conn   net.Conn
	given  bool
	done   chan struct{}
	closed bool
}

func (l *oneListener) Accept() (net.Conn, error) {
	if !l.given {
		l.given = true
		return l.conn, nil
	}
	<-l.done
	return nil, net.ErrClosed
}

func (l *oneListener) Close() error {
	if !l.closed {
		l.closed = true
		close(l.done)
	}
	return nil
}

func (l *oneListener) Addr() net.Addr { return l.conn.LocalAddr() }

// readings tells the level, four times a second.
func readings(ctx context.Context, h *Host, conn net.Conn, _ string) {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		if _, err := fmt.Fprintf(conn, "%s %s\n", h.Name, metres(tideLevel(float64(n)/60))); err != nil {
			return
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// upperCase reads to the end, and only then answers: it needs the two directions to
// end apart.
func upperCase(_ context.Context, _ *Host, conn net.Conn, _ string) {
	text, err := io.ReadAll(io.LimitReader(conn, maxFile))
	if err == nil {
		io.WriteString(conn, strings.ToUpper(string(text)))
		closeWrite(conn)
	}
}

// floodOut sends as much as is taken.
func floodOut(_ context.Context, _ *Host, conn net.Conn, _ string) {
	line := []byte(strings.Repeat("the flood rises at the reef. ", 1024))
	for {
		if _, err := conn.Write(line); err != nil {
			return
		}
	}
}

// slowly answers a second after it was asked, and slowly.
func slowly(ctx context.Context, _ *Host, conn net.Conn, _ string) {
	bufio.NewReader(conn).ReadString('\n')
	for _, word := range []string{"the ", "archive ", "takes ", "its ", "time\n"} {
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return
		}
		if _, err := io.WriteString(conn, word); err != nil {
			return
		}
	}
}
