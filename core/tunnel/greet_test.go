package tunnel

import (
	"bufio"
	"io"
	"meatus/core/book"
	"net"
	"net/http"
	"strings"
	"testing"
)

// FuzzGreet throws bytes at a roaming listener, open and guarded.
func FuzzGreet(f *testing.F) {
	for _, s := range []string{
		"\x05\x01\x00\x05\x01\x00\x01\x0a\x3d\x04\x32\x00\x07", "\x05\x02\x02\x00\x01\x01u\x01p\x05\x01\x00\x03\x01a\x00\x07",
		"\x05\x01\x00\x05\x01\x00\x04" + strings.Repeat("\x01", 16) + "\x00\x07", "\x04\x01\x00\x07\x0a\x3d\x04\x32me\x00",
		"\x04\x01\x00\x07\x00\x00\x00\x01\x00archive\x00", "CONNECT a:7 HTTP/1.1\r\nHost: a:7\r\n\r\n", "GET / HTTP/1.1\r\n\r\n", "",
		"\x04\x0100\x00\x00\x000\x00[\x00",
	} {
		f.Add([]byte(s), false)
		f.Add([]byte(s), true)
	}
	f.Fuzz(func(t *testing.T, data []byte, guarded bool) {
		listener := &Tunnel{}
		if guarded {
			listener.o.User, listener.o.Password = "u", "p"
		}
		near, far := net.Pipe()
		go io.Copy(io.Discard, far)
		go func() { far.Write(data); far.Close() }()
		reach, answer, err := listener.greet(near)
		near.Close()
		if err == nil {
			host, port, serr := net.SplitHostPort(reach)
			if serr != nil || host == "" || port == "" || answer == nil || strings.ContainsAny(reach, "\x00\x1b\r\n /@") {
				t.Errorf("%q leads to %q", data, reach)
			}
			answer(nil)
		}
	})
}

// A program that takes the proxy for a web server is told what it is.
func TestAPageAskedOfTheProxyIsAnsweredWithWhatItIs(t *testing.T) {
	for _, ask := range []string{"GET / HTTP/1.1\r\nHost: a\r\n\r\n", "POST http://a.internal/ HTTP/1.1\r\n\r\n"} {
		near, far := net.Pipe()
		said := make(chan string, 1)
		go func() {
			far.Write([]byte(ask)[:1])
			text, _ := io.ReadAll(far)
			said <- string(text)
		}()
		if _, _, err := (&Tunnel{Spec: book.Tunnel{Roam: "127.0.0.1:1080"}}).greet(near); err == nil {
			t.Errorf("%q leads somewhere", ask)
		}
		near.Close()
		r, err := http.ReadResponse(bufio.NewReader(strings.NewReader(<-said)), nil)
		if err != nil || r.StatusCode != http.StatusMethodNotAllowed || r.Header.Get("Allow") != "CONNECT" {
			t.Fatalf("%+v, %v", r, err)
		}
		if text, err := io.ReadAll(r.Body); err != nil || !strings.Contains(string(text), "is a proxy") || !strings.Contains(string(text), "socks5h://127.0.0.1:1080") {
			t.Errorf("%s, %v", text, err)
		}
	}
}
