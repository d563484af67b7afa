package book

import (
	"fmt"
	"net"
	"net/url"
	"strconv"

	"meatus/core/sanitize"
)

// Proxy is what a first hop is connected to through: a server that connects onward for
// whoever asks, by the CONNECT method of HTTP (RFC 9110 section 9.3.6) or by SOCKS 5
// (RFC 1928). The zero value is none.
type Proxy struct {
	Scheme  string // "http", "https" or "socks5"
	Address string // host:port
	User    string // "" where it is not named
}

// String writes it as it stands in the file, "" for none.
func (p Proxy) String() string {
	if p.Scheme == "" {
		return ""
	}
	u := url.URL{Scheme: p.Scheme, Host: p.Address}
	if p.User != "" {
		u.User = url.User(p.User)
	}
	return u.String()
}

const proxyHint = `write it like "http://proxy.lantern.example:3128" or "socks5://keeper@127.0.0.1:1080", or "off"`

// ParseProxy reads a proxy's URI; "off" is none. A password in it is refused.
func ParseProxy(s string) (Proxy, error) {
	if s == "" || s == "off" {
		return Proxy{}, nil
	}
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "socks5" {
		return Proxy{}, fmt.Errorf("%q is no proxy", sanitize.Line(s, 60))
	}
	if _, has := u.User.Password(); has {
		return Proxy{}, fmt.Errorf("a password stands in the proxy; it is asked for, or read from the file that proxy_login names")
	}
	port, perr := strconv.Atoi(u.Port())
	if perr != nil || port < 1 || port > 65535 || !ValidHost(u.Hostname()) || u.Path != "" && u.Path != "/" || u.RawQuery != "" || u.Fragment != "" {
		return Proxy{}, fmt.Errorf("%q is no proxy: a host and a port are wanted, and nothing behind them", sanitize.Line(s, 60))
	}
	user := u.User.Username()
	if user != "" && sanitize.Line(user, len(user)+1) != user {
		return Proxy{}, fmt.Errorf("the login of the proxy holds what no login can")
	}
	return Proxy{Scheme: u.Scheme, Address: net.JoinHostPort(u.Hostname(), u.Port()), User: user}, nil
}

func checkProxy(s string) (string, string) {
	if _, err := ParseProxy(s); err != nil {
		return err.Error(), proxyHint
	}
	return "", ""
}
