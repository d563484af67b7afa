package tunnel

import (
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"meatus/core/book"
	"meatus/core/localaddr"
)

// Wish is what a person wants to reach, in their own terms.
type Wish struct {
	Kind     string // "bring", "lend" or "roam"
	What     string // "db.internal postgres", "10.61.4.20:5432", "web"; "" for roam
	Listener string // a port, ADDRESS:PORT or a path; "" where one is to be proposed
}

// Usual are the services that go by a name, and the ports they usually listen at
// (the service names registry of IANA, RFC 6335).
var usual = map[string]int{
	"ssh": 22, "smtp": 25, "dns": 53, "http": 80, "web": 80, "imap": 143, "ldap": 389, "https": 443, "submission": 587,
	"ldaps": 636, "desktop": 3389, "remote-desktop": 3389, "mssql": 1433, "elasticsearch": 9200, "winrm": 5985, "nfs": 2049, "imaps": 993, "mqtt": 1883, "mysql": 3306, "mariadb": 3306, "rdp": 3389, "postgres": 5432, "postgresql": 5432,
	"amqp": 5672, "vnc": 5900, "redis": 6379, "http-alt": 8080, "memcached": 11211, "mongodb": 27017, "mongo": 27017,
}

// Services are the names of services that a wish can use.
func Services() []string {
	var names []string
	for name := range usual {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Composed is the tunnel that a wish comes to.
type Composed struct {
	Spec  book.Tunnel
	Notes []string // what was taken for granted, or is off
	Err   error    // why it is none yet
}

// Compose makes a tunnel of a wish. Listeners here are tried; where one is taken, its
// holder is told and another proposed.
func Compose(w Wish) (c Composed) {
	w = w.proxy()
	reach, port := "", 0
	if w.Kind != "roam" {
		var note string
		if reach, port, note, c.Err = place(w.What); c.Err != nil {
			return c
		}
		if note != "" {
			c.Notes = append(c.Notes, note)
		}
	}
	at := strings.TrimSpace(w.Listener)
	proposed := at == ""
	if proposed {
		at = propose(w.Kind, port)
	}
	if c.Spec, _, c.Err = book.NewTunnel(w.Kind, at, reach); c.Err != nil {
		return c
	}
	if c.Spec.Beyond() {
		c.Notes = append(c.Notes, "it listens for OTHER MACHINES: anyone who reaches it can use it")
	}
	if w.Kind == "lend" {
		c.Notes = append(c.Notes, "the listener is on the remote machine; its server decides whether it may listen, and for whom")
		return c
	}
	_, full := c.Spec.Kind()
	err := localaddr.Try(full)
	if err == nil {
		return c
	}
	host, wanted, _ := net.SplitHostPort(full)
	n, _ := strconv.Atoi(wanted)
	free := localaddr.Free(host, n)
	switch {
	case proposed && free > 0:
		c.Spec, _, c.Err = book.NewTunnel(w.Kind, net.JoinHostPort(host, strconv.Itoa(free)), reach)
		c.Notes = append(c.Notes, fmt.Sprintf("%v, so port %d is used", err, free))
	case free > 0:
		c.Notes = append(c.Notes, fmt.Sprintf("%v; port %d is free", err, free))
		c.Err = err
	default:
		c.Err = err
	}
	return c
}

// proxy reads a proxy that is asked for by its name in place of a service: "roam 1080", "socks", "proxy 1080".
func (w Wish) proxy() Wish {
	words := strings.Fields(strings.ToLower(w.What))
	if w.Kind != "bring" || len(words) == 0 || len(words) > 2 || !slices.Contains([]string{"roam", "socks", "socks5", "proxy", "dynamic"}, words[0]) {
		return w
	}
	p := Wish{Kind: "roam", Listener: w.Listener}
	if len(words) == 2 {
		p.Listener = words[1]
	}
	return p
}

// place reads where a service is: HOST:PORT, HOST and a service's name or port, or a
// name or port alone, which means the machine itself.
func place(what string) (reach string, port int, note string, err error) {
	if what = strings.TrimSpace(what); strings.HasPrefix(what, "/") {
		return what, 0, "", nil
	}
	words := strings.Fields(what)
	host, service := "127.0.0.1", ""
	switch len(words) {
	case 0:
		return "", 0, "", fmt.Errorf("name a service: HOST:PORT, or a host and what it is, as db.internal postgres")
	case 1:
		if h, p, serr := net.SplitHostPort(words[0]); serr == nil {
			host, service = h, p
		} else if _, known := usual[strings.ToLower(words[0])]; known || isPort(words[0]) {
			service = words[0]
			note = words[0] + " of the machine itself"
		} else {
			return "", 0, "", fmt.Errorf("which service of %s? a port, or one of %s …", words[0], strings.Join([]string{"postgres", "mysql", "web", "https", "redis"}, ", "))
		}
	case 2:
		host, service = words[0], words[1]
		if _, known := usual[strings.ToLower(host)]; known && !isPort(service) { // "postgres db.internal"
			host, service = service, host
		}
	default:
		return "", 0, "", fmt.Errorf("a host and a service are wanted, not %d words", len(words))
	}
	if n, known := usual[strings.ToLower(service)]; known {
		port = n
		note = strings.TrimPrefix(note+fmt.Sprintf("; %s usually listens at port %d", service, n), "; ")
	} else if isPort(service) {
		port, _ = strconv.Atoi(service)
	} else {
		return "", 0, "", fmt.Errorf("%q is no port and no service that is known by name", service)
	}
	if !book.ValidHost(host) {
		return "", 0, "", fmt.Errorf("%q is no host", host)
	}
	return net.JoinHostPort(host, strconv.Itoa(port)), port, note, nil
}

func isPort(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && n > 0 && n < 65536
}

// propose is a listener for a service: near its own port, where no privilege is needed.
func propose(kind string, port int) string {
	switch {
	case kind == "roam":
		return "1080"
	case port == 0:
		return "0"
	case port == 80 || port == 443:
		return strconv.Itoa(8000 + port)
	case port < 1024:
		return strconv.Itoa(2000 + port)
	case port < 55536:
		return strconv.Itoa(10000 + port)
	}
	return strconv.Itoa(port)
}
