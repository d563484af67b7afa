package tunnel

import (
	"bufio"
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"meatus/core/book"
	"meatus/core/link"
)

// The protocols that a roaming listener speaks, told apart by their first byte.
const (
	socks5   = 5
	socks4   = 4
	connect  = 1 // the one command that is served (RFC 1928 section 4)
	noLogin  = 0
	byLogin  = 2 // RFC 1929
	noMethod = 0xff
)

// maxName is how long a name may be in version 4a, and a header of HTTP.
const maxName, maxHeader = 255, 16 << 10

// errGreeting says that what came was no greeting that is understood.
type errGreeting string

func (e errGreeting) Error() string { return "not understood at the door: " + string(e) }

// greet reads where a connection at a roaming listener wants to go. answer tells it how
// that went, and is called before anything else is sent. Names are not resolved
// here: the far side does that.
func (t *Tunnel) greet(conn net.Conn) (reach string, answer func(error) error, err error) {
	conn.SetDeadline(time.Now().Add(handshake))
	defer func() {
		if err != nil {
			conn.SetDeadline(time.Time{})
		}
	}()
	var first [1]byte
	if _, err := io.ReadFull(conn, first[:]); err != nil {
		return "", nil, err
	}
	switch first[0] {
	case socks5:
		reach, answer, err = t.greet5(conn)
	case socks4:
		reach, answer, err = t.greet4(conn)
	case 'C':
		reach, answer, err = t.greetHTTP(conn)
	default:
		if first[0] >= 'A' && first[0] <= 'Z' {
			io.WriteString(conn, t.notAPage())
		}
		err = errGreeting(fmt.Sprintf("it begins with byte %d; this door speaks SOCKS 5, 4 and 4a, and HTTP CONNECT", first[0]))
	}
	if err != nil {
		return "", nil, err
	}
	say := answer
	return reach, func(err error) error {
		conn.SetDeadline(time.Now().Add(handshake))
		aerr := say(err)
		conn.SetDeadline(time.Time{})
		return aerr
	}, nil
}

// notAPage answers a program that takes the proxy for a server, or asks it for pages as a proxy of HTTP without CONNECT
// (RFC 9110 section 9.3.6): with what it is, and how it is used.
func (t *Tunnel) notAPage() string {
	at := t.Address()
	if at == "" {
		_, at = t.Spec.Kind()
	}
	text := "This port is a proxy, not a web server.\n\n" +
		"It speaks SOCKS 5, 4 and 4a, and HTTP CONNECT (for https addresses). Set it as the SOCKS5 proxy of a program,\n" +
		"with names resolved by the proxy: socks5h://" + at + "\n"
	return fmt.Sprintf("HTTP/1.1 405 Method Not Allowed\r\nAllow: CONNECT\r\nConnection: close\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: %d\r\n\r\n%s", len(text), text)
}

// greet5 is SOCKS version 5 (RFC 1928), behind its first byte.
func (t *Tunnel) greet5(conn net.Conn) (reach string, answer func(error) error, err error) {
	var count [1]byte
	if _, err := io.ReadFull(conn, count[:]); err != nil {
		return "", nil, err
	}
	methods := make([]byte, count[0])
	if _, err := io.ReadFull(conn, methods); err != nil {
		return "", nil, err
	}
	want := byte(noLogin)
	if t.o.User != "" {
		want = byLogin
	}
	offered := false
	for _, m := range methods {
		offered = offered || m == want
	}
	if !offered {
		conn.Write([]byte{socks5, noMethod})
		return "", nil, errGreeting("no way to log in that this door takes")
	}
	if _, err := conn.Write([]byte{socks5, want}); err != nil {
		return "", nil, err
	}
	if want == byLogin {
		if err := t.login5(conn); err != nil {
			return "", nil, err
		}
	}
	var head [4]byte // version, command, reserved, kind of address
	if _, err := io.ReadFull(conn, head[:]); err != nil {
		return "", nil, err
	}
	if head[0] != socks5 {
		return "", nil, errGreeting("a request of another version")
	}
	host, code, err := address5(conn, head[3])
	if err != nil {
		if code != 0 {
			reply5(conn, code)
		}
		return "", nil, err
	}
	var port [2]byte
	if _, err := io.ReadFull(conn, port[:]); err != nil {
		return "", nil, err
	}
	if head[1] != connect {
		reply5(conn, 7)
		return "", nil, errGreeting(fmt.Sprintf("command %d, and only connecting is served", head[1]))
	}
	reach = net.JoinHostPort(host, strconv.Itoa(int(binary.BigEndian.Uint16(port[:]))))
	return reach, func(err error) error { return reply5(conn, code5(err)) }, nil
}

// login5 asks for user and password (RFC 1929).
func (t *Tunnel) login5(conn net.Conn) error {
	var version [1]byte
	if _, err := io.ReadFull(conn, version[:]); err != nil {
		return err
	}
	var words [2][]byte
	for i := range words {
		var n [1]byte
		if _, err := io.ReadFull(conn, n[:]); err != nil {
			return err
		}
		words[i] = make([]byte, n[0])
		if _, err := io.ReadFull(conn, words[i]); err != nil {
			return err
		}
	}
	user := subtle.ConstantTimeCompare(words[0], []byte(t.o.User))
	pass := subtle.ConstantTimeCompare(words[1], []byte(t.o.Password))
	if version[0] != 1 || user&pass != 1 {
		conn.Write([]byte{1, 1})
		return errGreeting("a wrong user or password")
	}
	_, err := conn.Write([]byte{1, 0})
	return err
}

// address5 reads an address of a kind (RFC 1928 section 5). code is what to answer
// where it is not understood.
func address5(conn net.Conn, kind byte) (host string, code byte, err error) {
	size := 0
	switch kind {
	case 1:
		size = net.IPv4len
	case 4:
		size = net.IPv6len
	case 3:
		var n [1]byte
		if _, err := io.ReadFull(conn, n[:]); err != nil {
			return "", 0, err
		}
		size = int(n[0])
	default:
		return "", 8, errGreeting(fmt.Sprintf("an address of kind %d", kind))
	}
	raw := make([]byte, size)
	if _, err := io.ReadFull(conn, raw); err != nil {
		return "", 0, err
	}
	if kind != 3 {
		ip, _ := netip.AddrFromSlice(raw)
		return ip.String(), 0, nil
	}
	if host = name(raw); host == "" {
		return "", 1, errGreeting("a name that is none")
	}
	return host, 0, nil
}

// name is a host's name as it came, or an address written as one; "" where it is neither.
func name(raw []byte) string {
	if s := string(raw); book.ValidHost(s) {
		return s
	}
	return ""
}

// code5 is the answer for how connecting went (RFC 1928 section 6).
func code5(err error) byte {
	var refused *link.Refused
	var notAllowed errNotAllowed
	switch {
	case err == nil:
		return 0
	case errors.As(err, &notAllowed):
		return 2
	case errors.As(err, &refused) && refused.Reason == 1: // prohibited
		return 2
	case errors.As(err, &refused):
		return 5
	case errors.Is(err, context.DeadlineExceeded):
		return 3
	}
	return 1
}

// reply5 answers a request. The address it is bound to is the far side's own and is
// not told.
func reply5(conn net.Conn, code byte) error {
	_, err := conn.Write([]byte{socks5, code, 0, 1, 0, 0, 0, 0, 0, 0})
	return err
}

// greet4 is SOCKS version 4, and 4a where the address is 0.0.0.x and a name
// follows, behind its first byte.
func (t *Tunnel) greet4(conn net.Conn) (reach string, answer func(error) error, err error) {
	reply := func(err error) error {
		code := byte(90)
		if err != nil {
			code = 91
		}
		_, werr := conn.Write([]byte{0, code, 0, 0, 0, 0, 0, 0})
		return werr
	}
	var head [7]byte // command, port, address
	if _, err := io.ReadFull(conn, head[:]); err != nil {
		return "", nil, err
	}
	user, err := word4(conn)
	if err != nil {
		return "", nil, err
	}
	ip := netip.AddrFrom4([4]byte(head[3:7]))
	host := ip.String()
	if head[3] == 0 && head[4] == 0 && head[5] == 0 && head[6] != 0 {
		text, err := word4(conn)
		if err != nil {
			return "", nil, err
		}
		if host = name(text); host == "" {
			reply(io.EOF)
			return "", nil, errGreeting("a name that is none")
		}
	}
	_ = user // version 4 names a user, and proves nothing by it
	if t.o.User != "" || head[0] != connect {
		reply(io.EOF)
		return "", nil, errGreeting("version 4 knows no password, or a command that is not connecting")
	}
	return net.JoinHostPort(host, strconv.Itoa(int(binary.BigEndian.Uint16(head[1:3])))), reply, nil
}

// word4 reads a text that ends with a zero.
func word4(conn net.Conn) ([]byte, error) {
	var text []byte
	var b [1]byte
	for len(text) <= maxName {
		if _, err := io.ReadFull(conn, b[:]); err != nil {
			return nil, err
		}
		if b[0] == 0 {
			return text, nil
		}
		text = append(text, b[0])
	}
	return nil, errGreeting("a text without end")
}

// oneByte reads byte by byte, so that nothing is taken that belongs to the flow.
type oneByte struct{ io.Reader }

func (o oneByte) Read(p []byte) (int, error) { return o.Reader.Read(p[:min(len(p), 1)]) }

// greetHTTP is the method CONNECT (RFC 9110 section 9.3.6), behind its "C".
func (t *Tunnel) greetHTTP(conn net.Conn) (reach string, answer func(error) error, err error) {
	var head []byte
	limited := io.LimitReader(oneByte{conn}, maxHeader)
	head = append(head, 'C')
	for b := make([]byte, 1); ; {
		if _, err := io.ReadFull(limited, b); err != nil {
			return "", nil, errGreeting("an HTTP request that does not end")
		}
		if head = append(head, b[0]); len(head) > 3 && string(head[len(head)-4:]) == "\r\n\r\n" {
			break
		}
	}
	say := func(status string) error {
		_, err := io.WriteString(conn, "HTTP/1.1 "+status+"\r\n\r\n")
		return err
	}
	request, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(head)))
	if err != nil || request.Method != http.MethodConnect {
		say("400 Bad Request")
		return "", nil, errGreeting("no HTTP CONNECT")
	}
	host, port, err := net.SplitHostPort(request.Host)
	if n, perr := strconv.Atoi(port); err != nil || perr != nil || n < 1 || n > 65535 || name([]byte(host)) == "" {
		say("400 Bad Request")
		return "", nil, errGreeting("CONNECT to what is no host and port")
	}
	if t.o.User != "" {
		user, pass, ok := proxyLogin(request)
		if !ok || subtle.ConstantTimeCompare([]byte(user), []byte(t.o.User))&subtle.ConstantTimeCompare([]byte(pass), []byte(t.o.Password)) != 1 {
			say("407 Proxy Authentication Required\r\nProxy-Authenticate: Basic realm=\"door\"")
			return "", nil, errGreeting("a wrong user or password")
		}
	}
	return net.JoinHostPort(host, port), func(err error) error {
		var notAllowed errNotAllowed
		switch {
		case errors.As(err, &notAllowed):
			return say("403 Forbidden")
		case err != nil:
			return say("502 Bad Gateway")
		}
		return say("200 Connection established")
	}, nil
}

// proxyLogin reads the login of a proxy's request.
func proxyLogin(r *http.Request) (user, pass string, ok bool) {
	again := http.Request{Header: http.Header{"Authorization": r.Header["Proxy-Authorization"]}}
	return again.BasicAuth()
}
