package book

import (
	"fmt"
	"net"
	"strconv"
	"strings"

	"meatus/core/plain"
)

// Tunnel is one tunnel as written: exactly one of Bring, Lend and Roam is set, to
// where its door is; Reach is where it leads, and empty for Roam.
type Tunnel struct {
	Bring, Lend, Roam, Reach string
}

// Kind is the tunnel's word, "bring", "lend" or "roam", and Door where it listens.
func (t Tunnel) Kind() (kind, door string) {
	switch {
	case t.Bring != "":
		return "bring", t.Bring
	case t.Lend != "":
		return "lend", t.Lend
	}
	return "roam", t.Roam
}

// Beyond tells whether a tunnel's door listens to more than its machine.
func (t Tunnel) Beyond() bool {
	_, at := t.Kind()
	host, _, err := net.SplitHostPort(at)
	if strings.HasPrefix(at, "/") || err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host != "localhost" && (ip == nil || !ip.IsLoopback())
}

// NewTunnel is a tunnel of a kind, from words as a person writes them: a port
// alone means one on 127.0.0.1. It fails with what is wrong, and with the word,
// door or reach, that it is wrong with.
func NewTunnel(kind, door, reach string) (t Tunnel, word string, err error) {
	full, ok := endpoint(door)
	if !ok {
		return t, door, fmt.Errorf("a door is a port, ADDRESS:PORT or the path of a socket, not %q", plain.Line(door, 40))
	}
	switch kind {
	case "roam":
		return Tunnel{Roam: full}, "", nil
	case "bring":
		t.Bring = full
	case "lend":
		t.Lend = full
	default:
		return t, kind, fmt.Errorf("%q is no tunnel; there are bring, lend and roam", plain.Line(kind, 20))
	}
	if t.Reach, ok = endpoint(reach); !ok {
		return t, reach, fmt.Errorf("a service is HOST:PORT, a port or the path of a socket, not %q", plain.Line(reach, 40))
	}
	return t, "", nil
}

// endpoint completes "5432" and checks HOST:PORT and paths. Port 0 asks the
// system for one.
func endpoint(word string) (string, bool) {
	if strings.HasPrefix(word, "/") {
		return word, !strings.ContainsRune(word, 0)
	}
	if !strings.Contains(word, ":") {
		word = "127.0.0.1:" + word
	}
	host, port, err := net.SplitHostPort(word)
	n, notNumber := strconv.Atoi(port)
	if err != nil || notNumber != nil || n < 0 || n > 65535 || !ValidHost(host) && host != "*" {
		return "", false
	}
	return word, true
}

// wrong says what is wrong with a tunnel, "" where nothing is.
func (t Tunnel) wrong() string {
	kind, door := t.Kind()
	if _, _, err := NewTunnel(kind, door, t.Reach); err != nil {
		return err.Error()
	}
	return ""
}

// String is the tunnel as the route line has it: "bring 15432 from db:5432".
func (t Tunnel) String() string {
	kind, door := t.Kind()
	s := kind + " " + strings.TrimPrefix(door, "127.0.0.1:")
	if t.Reach != "" {
		s += " from " + t.Reach
	}
	return s
}

// TunnelsLine is tunnels in one line, parted by commas.
func TunnelsLine(list []Tunnel) string {
	parts := make([]string, len(list))
	for i, t := range list {
		parts[i] = t.String()
	}
	return strings.Join(parts, ", ")
}

// ParseTunnels reads what [TunnelsLine] writes.
func ParseTunnels(line string) ([]Tunnel, error) {
	var list []Tunnel
	for part := range strings.SplitSeq(line, ",") {
		words := strings.Fields(part)
		if len(words) == 4 && words[2] == "from" && words[0] != "roam" {
			words = []string{words[0], words[1], words[3]}
		} else if len(words) != 2 || words[0] != "roam" {
			return nil, fmt.Errorf(`%q is no tunnel; write them like "bring 15432 from db.internal:5432, roam 1080"`, plain.Line(part, 60))
		} else {
			words = append(words, "")
		}
		t, _, err := NewTunnel(words[0], words[1], words[2])
		if err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	return list, nil
}

// tunnelsText is tunnels as TOML.
func tunnelsText(list []Tunnel) string {
	parts := make([]string, len(list))
	for i, t := range list {
		kind, door := t.Kind()
		parts[i] = fmt.Sprintf("{ %s = %s", kind, quote(door))
		if t.Reach != "" {
			parts[i] += ", reach = " + quote(t.Reach)
		}
		parts[i] += " }"
	}
	if len(parts) == 1 {
		return "[" + parts[0] + "]"
	}
	return "[\n  " + strings.Join(parts, ",\n  ") + ",\n]"
}
