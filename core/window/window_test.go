package window

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// authority is an authority file's entry.
func authority(family uint16, fields ...string) string {
	out := binary.BigEndian.AppendUint16(nil, family)
	for _, f := range fields {
		out = append(binary.BigEndian.AppendUint16(out, uint16(len(f))), f...)
	}
	return string(out)
}

const theReal = "sixteen bytes ok"

func TestTheDisplayIsThisMachinesOwn(t *testing.T) {
	file := filepath.Join(t.TempDir(), "auth")
	host, _ := os.Hostname()
	os.WriteFile(file, []byte(authority(familyLocal, host, "1", protocol, "another display!")+authority(familyLocal, host, "7", "OTHER", theReal)+authority(familyLocal, host, "7", protocol, theReal)), 0o600)
	for display, want := range map[string]string{":7": "/tmp/.X11-unix/X7", "unix:7.2": "/tmp/.X11-unix/X7", "localhost:7.0": "localhost:6007", "[::1]:7": "[::1]:6007"} {
		d, err := Local(func(name string) string { return map[string]string{"DISPLAY": display, "XAUTHORITY": file}[name] })
		if err != nil || d.address != want || string(d.cookie) != theReal {
			t.Errorf("%s: %+v, %v", display, d, err)
		}
	}
	for _, display := range []string{"", "7", ":", ":x", ":7.x", ":99999", "203.0.113.9:0", "quay:0"} {
		if d, err := Local(func(name string) string { return map[string]string{"DISPLAY": display, "XAUTHORITY": file}[name] }); err == nil {
			t.Errorf("%q is taken: %+v", display, d)
		}
	}
	if _, err := Local(func(string) string { return "" }); !errors.Is(err, ErrNone) {
		t.Errorf("%v", err)
	}
}

// screen is a display that takes one program and says what it introduced itself with.
func screen(t *testing.T) (*Display, <-chan opening) {
	t.Helper()
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "x"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	seen := make(chan opening, 8)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			o, err := readOpening(conn)
			if err == nil {
				seen <- o
				io.Copy(conn, conn)
			}
			conn.Close()
		}
	}()
	return &Display{Name: ":7", network: "unix", address: l.Addr().String(), cookie: []byte(theReal)}, seen
}

func TestOnlyTheFreshCookieOpensTheDisplayAndTheRealOneStaysHere(t *testing.T) {
	d, seen := screen(t)
	grant, other := d.Grant(), d.Grant()
	if bytes.Equal(grant.fresh, other.fresh) {
		t.Fatal("two grants have one cookie")
	}
	var asked struct {
		Single           bool
		Protocol, Cookie string
		Screen           uint32
	}
	if err := ssh.Unmarshal(grant.Request(), &asked); err != nil || asked.Protocol != protocol || asked.Cookie != hex.EncodeToString(grant.fresh) {
		t.Errorf("%+v, %v", asked, err)
	}
	if strings.Contains(string(grant.Request()), hex.EncodeToString([]byte(theReal))) {
		t.Error("the real cookie is sent")
	}
	try := func(o opening) (back string, err error) {
		near, far := net.Pipe()
		done := make(chan error, 1)
		go func() {
			done <- Serve(far, func() []*Grant { return []*Grant{other, grant} }, func(l *Grant) {
				if l != grant {
					t.Error("another grant")
				}
			})
		}()
		go near.Write(append(o.bytes(), "hello"...))
		buf := make([]byte, 5)
		n, _ := io.ReadFull(near, buf)
		near.Close()
		return string(buf[:n]), <-done
	}
	for _, order := range []byte{'B', 'l'} {
		back, err := try(opening{order: order, major: 11, protocol: []byte(protocol), cookie: grant.fresh})
		if err != nil || back != "hello" {
			t.Errorf("%c: %q, %v", order, back, err)
		}
		if o := <-seen; string(o.cookie) != theReal || string(o.protocol) != protocol || o.major != 11 || o.order != order {
			t.Errorf("the display saw %+v", o)
		}
	}
	for name, o := range map[string]opening{
		"no cookie":        {order: 'l'},
		"the real cookie":  {order: 'l', protocol: []byte(protocol), cookie: []byte(theReal)},
		"another protocol": {order: 'l', protocol: []byte("XDM-AUTHORIZATION-1"), cookie: grant.fresh},
		"half a cookie":    {order: 'l', protocol: []byte(protocol), cookie: grant.fresh[:8]},
		"rubbish":          {order: 'x'},
		"endless":          {order: 'l', protocol: make([]byte, 5000)},
	} {
		if back, err := try(o); err == nil || back != "" {
			t.Errorf("%s: %q, %v", name, back, err)
		}
	}
	used := bytes.Clone(grant.fresh)
	grant.End()
	for _, cookie := range [][]byte{used, make([]byte, cookieSize)} {
		if _, err := try(opening{order: 'l', protocol: []byte(protocol), cookie: cookie}); !errors.Is(err, ErrCookie) {
			t.Errorf("after the end: %v", err)
		}
	}
	if len(seen) > 0 {
		t.Errorf("the display saw %d more", len(seen))
	}
}

func TestWhatIsDrawnEndsWithTheLeave(t *testing.T) {
	d, _ := screen(t)
	grant := d.Grant()
	near, far := net.Pipe()
	joined := make(chan bool, 1)
	done := make(chan error, 1)
	go func() {
		done <- Serve(far, func() []*Grant { return []*Grant{grant} }, func(*Grant) { joined <- true })
	}()
	near.Write(opening{order: 'B', protocol: []byte(protocol), cookie: grant.fresh}.bytes())
	<-joined
	if now, all := grant.Count(); now != 1 || all != 1 {
		t.Errorf("%d of %d", now, all)
	}
	grant.End()
	if _, err := near.Read(make([]byte, 1)); err == nil {
		t.Error("it is still joined")
	}
	if err := <-done; err != nil {
		t.Error(err)
	}
}

func FuzzOpening(f *testing.F) {
	f.Add(opening{order: 'l', major: 11, protocol: []byte(protocol), cookie: []byte(theReal)}.bytes())
	f.Add([]byte("B"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r := bytes.NewReader(text)
		o, err := readOpening(r)
		if err != nil {
			return
		}
		again, err := readOpening(bytes.NewReader(o.bytes()))
		if err != nil || !bytes.Equal(again.cookie, o.cookie) || !bytes.Equal(again.protocol, o.protocol) || len(o.bytes()) != len(text)-r.Len() {
			t.Errorf("%+v became %+v, %v", o, again, err)
		}
	})
}

func FuzzCookie(f *testing.F) {
	f.Add([]byte(authority(familyLocal, "here", "7", protocol, theReal)))
	f.Fuzz(func(t *testing.T, text []byte) {
		if c := cookie(text, "7", "here"); c != nil && len(c) != cookieSize {
			t.Errorf("%q", c)
		}
	})
}
