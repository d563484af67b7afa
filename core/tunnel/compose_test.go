package tunnel

import (
	"net"
	"strconv"
	"strings"
	"testing"
)

func TestWishesBecomeTunnels(t *testing.T) {
	for _, c := range []struct{ kind, what, listener, want, note string }{
		{"bring", "tide-db.internal postgres", "", "bring 15432 from tide-db.internal:5432", "postgres usually listens at port 5432"},
		{"bring", "postgres tide-db.internal", "", "bring 15432 from tide-db.internal:5432", ""},
		{"bring", "10.61.4.20:5432", "7777", "bring 7777 from 10.61.4.20:5432", ""},
		{"bring", "web", "", "bring 8080 from 127.0.0.1:80", "web of the machine itself"},
		{"bring", "[fe80::1]:25", "", "bring 2025 from [fe80::1]:25", ""},
		{"bring", "/run/db.sock", "0", "bring 0 from /run/db.sock", ""},
		{"bring", "x 443", "0.0.0.0:0", "bring 0.0.0.0:0 from x:443", "OTHER MACHINES"},
		{"lend", "3000", "9000", "lend 9000 from 127.0.0.1:3000", "its server decides"},
		{"roam", "", "", "roam 1080", ""},
		{"bring", "roam 1081", "", "roam 1081", ""},
		{"bring", "SOCKS", "1082", "roam 1082", ""},
		{"bring", "socks one two", "", "!not 3 words", ""},
		{"bring", "10.61.4.20 desktop", "", "bring 13389 from 10.61.4.20:3389", "desktop usually listens at port 3389"},
		{"bring", "", "", "!name a service", ""},
		{"bring", "db.internal", "", "!which service of db.internal?", ""},
		{"bring", "db.internal teapot", "", "!\"teapot\" is no port", ""},
		{"bring", "a b c", "", "!not 3 words", ""},
		{"bring", "a_/b 80", "", "!is no host", ""},
		{"bring", "x 80", "no port", "!a door is a port", ""},
	} {
		got := Compose(Wish{c.kind, c.what, c.listener})
		if want, wrong := strings.CutPrefix(c.want, "!"); wrong {
			if got.Err == nil || !strings.Contains(got.Err.Error(), want) {
				t.Errorf("%+v: %v", c, got.Err)
			}
			continue
		}
		if got.Err != nil || got.Spec.String() != c.want || !strings.Contains(strings.Join(got.Notes, "; "), c.note) {
			t.Errorf("%+v: %s, %q, %v", c, got.Spec, got.Notes, got.Err)
		}
	}
}

func TestATakenDoorIsToldAndAnotherProposed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	if c := Compose(Wish{"bring", "x 80", strconv.Itoa(port)}); c.Err == nil || !strings.Contains(strings.Join(c.Notes, ""), "is free") {
		t.Errorf("%+v", c)
	}
	if port < 10000 {
		return // no service's usual listener is there
	}
	c := Compose(Wish{"bring", "x " + strconv.Itoa(port-10000), ""})
	if port-10000 >= 1024 && (c.Err != nil || !strings.Contains(strings.Join(c.Notes, ""), "so port")) {
		t.Errorf("%+v", c)
	}
}
