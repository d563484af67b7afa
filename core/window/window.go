// Package window lets graphical programs at a far side draw on the X display of this
// machine (RFC 4254 section 6.3).
//
// It promises that the display's own cookie never leaves this machine: each shell is
// given a fresh one, good for that shell alone and until it ends, and what connects
// without it is turned away before the display sees a byte. It cannot promise more: a
// program that is let in sees every window of the display and every key typed into one.
package window

import (
	"bytes"
	"crypto/rand"
	"crypto/subtle"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// protocol is the one way of proving oneself to a display that is spoken: a cookie of
// 16 bytes.
const protocol = "MIT-MAGIC-COOKIE-1"

const cookieSize = 16

// Display is an X display of this machine.
type Display struct {
	Name             string // as the environment has it: ":0"
	network, address string
	screen           uint32
	cookie           []byte // its own, nil where it asks for none
}

// ErrNone says that no display is named here.
var ErrNone = errors.New("DISPLAY names no X display here; run Meatus from a graphical session")

// Local is the display that DISPLAY names, with the cookie that XAUTHORITY, or
// .Xauthority in the home, holds for it. It has to be of this machine. It fails with
// [ErrNone] where none is named.
func Local(env func(string) string) (*Display, error) {
	name := env("DISPLAY")
	if name == "" {
		return nil, ErrNone
	}
	wrong := fmt.Errorf("DISPLAY is %q, and ought to be like :0 or localhost:10.0", name)
	at := strings.LastIndexByte(name, ':')
	if at < 0 {
		return nil, wrong
	}
	number, screen, _ := strings.Cut(name[at+1:], ".")
	n, err := strconv.ParseUint(number, 10, 16)
	if err != nil || n > 59535 {
		return nil, wrong
	}
	d := &Display{Name: name, network: "unix", address: "/tmp/.X11-unix/X" + number}
	if screen != "" {
		s, err := strconv.ParseUint(screen, 10, 16)
		if err != nil {
			return nil, wrong
		}
		d.screen = uint32(s)
	}
	switch host := strings.TrimSuffix(strings.TrimPrefix(name[:at], "unix"), "/"); host {
	case "":
	case "localhost", "127.0.0.1", "[::1]":
		d.network, d.address = "tcp", net.JoinHostPort(strings.Trim(host, "[]"), strconv.Itoa(6000+int(n)))
	default:
		return nil, fmt.Errorf("DISPLAY is %q, a display of another machine: only one of this machine is drawn on", name)
	}
	file := env("XAUTHORITY")
	if file == "" {
		file = filepath.Join(env("HOME"), ".Xauthority")
	}
	text, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("the display's cookie cannot be read: %w", err)
	}
	host, _ := os.Hostname()
	d.cookie = cookie(text, number, host)
	return d, nil
}

// The families of addresses that a cookie can be for, of those that a display here has.
const (
	familyLocal = 256
	familyWild  = 65535
)

// cookie finds a display's in the text of an authority file: entries of a family and
// four counted fields, big-endian: address, number, protocol, data.
func cookie(text []byte, number, host string) []byte {
	var wild []byte
	for len(text) >= 2 {
		family := binary.BigEndian.Uint16(text)
		text = text[2:]
		var fields [4][]byte
		for i := range fields {
			if len(text) < 2 {
				return wild
			}
			n := int(binary.BigEndian.Uint16(text))
			if len(text) < 2+n {
				return wild
			}
			fields[i], text = text[2:2+n], text[2+n:]
		}
		if string(fields[2]) != protocol || len(fields[3]) != cookieSize || len(fields[1]) > 0 && string(fields[1]) != number {
			continue
		}
		switch {
		case family == familyLocal && string(fields[0]) == host:
			return fields[3]
		case family == familyWild, family == familyLocal && wild == nil:
			wild = fields[3]
		}
	}
	return wild
}

// Grant lets one shell draw on a display, until End.
type Grant struct {
	display *Display
	fresh   []byte

	mu    sync.Mutex
	ended bool
	drawn map[io.Closer]struct{}
	count int
}

// Grant lets a shell draw.
func (d *Display) Grant() *Grant {
	l := &Grant{display: d, fresh: make([]byte, cookieSize), drawn: map[io.Closer]struct{}{}}
	rand.Read(l.fresh)
	return l
}

// Request is the payload of the request "x11-req".
func (l *Grant) Request() []byte {
	return ssh.Marshal(struct {
		Single   bool
		Protocol string
		Cookie   string
		Screen   uint32
	}{false, protocol, hex.EncodeToString(l.fresh), l.display.screen})
}

// End takes the grant back and closes what is drawn under it.
func (l *Grant) End() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ended = true
	for c := range l.drawn {
		c.Close()
	}
	clear(l.fresh)
}

// Count is how many programs draw now, and how many did at all.
func (l *Grant) Count() (now, all int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.drawn), l.count
}

// holds tells whether a cookie is the grant's own.
func (l *Grant) holds(cookie []byte) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.ended && subtle.ConstantTimeCompare(cookie, l.fresh) == 1
}

// opening is how a program introduces itself to a display (the X Window System
// Protocol, section 8).
type opening struct {
	order    byte // 'B' or 'l'
	major    uint16
	minor    uint16
	protocol []byte
	cookie   []byte
}

// errOpening says that what came is not how a program introduces itself to a display.
var errOpening = errors.New("it does not begin as a program of the X Window System does")

// maxField bounds what a program says of itself, in bytes.
const maxField = 64

func padded(n int) int { return (n + 3) &^ 3 }

// readOpening reads no byte more than the opening.
func readOpening(r io.Reader) (o opening, err error) {
	var head [12]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return o, err
	}
	var order binary.ByteOrder = binary.BigEndian
	switch o.order = head[0]; o.order {
	case 'B':
	case 'l':
		order = binary.LittleEndian
	default:
		return o, errOpening
	}
	o.major, o.minor = order.Uint16(head[2:]), order.Uint16(head[4:])
	name, data := int(order.Uint16(head[6:])), int(order.Uint16(head[8:]))
	if name > maxField || data > maxField {
		return o, errOpening
	}
	rest := make([]byte, padded(name)+padded(data))
	if _, err := io.ReadFull(r, rest); err != nil {
		return o, err
	}
	o.protocol, o.cookie = rest[:name], rest[padded(name):padded(name)+data]
	return o, nil
}

// bytes is the opening as it is sent.
func (o opening) bytes() []byte {
	var order binary.AppendByteOrder = binary.BigEndian
	if o.order == 'l' {
		order = binary.LittleEndian
	}
	out := []byte{o.order, 0}
	for _, n := range []int{int(o.major), int(o.minor), len(o.protocol), len(o.cookie), 0} {
		out = order.AppendUint16(out, uint16(n))
	}
	out = append(out, o.protocol...)
	out = append(out, make([]byte, padded(len(o.protocol))-len(o.protocol))...)
	out = append(out, o.cookie...)
	return append(out, make([]byte, padded(len(o.cookie))-len(o.cookie))...)
}

// Why something was turned away.
var (
	ErrCookie = errors.New("it does not have the cookie of a shell that may draw here")
	errSlow   = errors.New("it said nothing for too long")
)

// introduceTime is how long a program has to introduce itself.
const introduceTime = 20 * time.Second

// Serve joins a stream from the far side to the display of the grant whose cookie it
// has, until one of them ends. joined is called once it is.
func Serve(stream io.ReadWriteCloser, grants func() []*Grant, joined func(*Grant)) error {
	defer stream.Close()
	late := time.AfterFunc(introduceTime, func() { stream.Close() })
	o, err := readOpening(stream)
	if !late.Stop() {
		return errSlow
	}
	if err != nil {
		return err
	}
	var grant *Grant
	for _, l := range grants() {
		if bytes.Equal(o.protocol, []byte(protocol)) && l.holds(o.cookie) {
			grant = l
		}
	}
	if grant == nil {
		return ErrCookie
	}
	conn, err := net.DialTimeout(grant.display.network, grant.display.address, 10*time.Second)
	if err != nil {
		return fmt.Errorf("the display %s does not answer: %w", grant.display.Name, err)
	}
	defer conn.Close()
	if o.cookie = grant.display.cookie; o.cookie == nil {
		o.protocol = nil
	}
	if _, err := conn.Write(o.bytes()); err != nil {
		return err
	}
	if !grant.draws(stream) {
		return ErrCookie
	}
	defer grant.over(stream)
	joined(grant)
	go func() {
		io.Copy(conn, stream)
		conn.Close()
	}()
	io.Copy(stream, conn)
	return nil
}

func (l *Grant) draws(c io.Closer) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ended {
		return false
	}
	l.drawn[c] = struct{}{}
	l.count++
	return true
}

func (l *Grant) over(c io.Closer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.drawn, c)
}
