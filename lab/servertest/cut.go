package servertest

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"os"
	"strconv"
	"sync/atomic"
)

// Line is a dialer for a walker that cuts the connection to one address after a number of messages either way.
type Line struct {
	To    string // the address
	After int64  // how many messages; 0 never cuts
	Dead  bool   // nobody is connected to the address afterwards, as if the program were killed

	passed atomic.Int64
	killed atomic.Bool
}

// Kill cuts the connection now, for good if Dead is set.
func (l *Line) Kill() { l.killed.Store(true) }

// Passed returns the number of messages so far. A message is one write, or one read.
func (l *Line) Passed() int64 { return l.passed.Load() }

// DialContext dials an address, and counts the messages of the one to be cut.
func (l *Line) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	if address == l.To && l.Dead && (l.killed.Load() || l.After > 0 && l.Passed() >= l.After) {
		return nil, errors.New("this program is killed")
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil || address != l.To {
		return conn, err
	}
	return &cutConn{conn, l}, nil
}

type cutConn struct {
	net.Conn
	l *Line
}

func (c *cutConn) pass() {
	n := c.l.passed.Add(1)
	if c.l.killed.Load() || c.l.After > 0 && (n == c.l.After || c.l.Dead && n > c.l.After) {
		c.Conn.Close()
	}
}

func (c *cutConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.pass()
	return n, err
}

func (c *cutConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.pass()
	return n, err
}

// Moments returns the message numbers, of total, after which a test cuts: few of them at random, or as many as the variable
// MEATUS_CUTS says, or with "all" every one.
func Moments(total int64, few int) []int64 {
	if v := os.Getenv("MEATUS_CUTS"); v == "all" {
		few = int(total)
	} else if n, err := strconv.Atoi(v); err == nil {
		few = n
	}
	few = min(few, int(total))
	var at []int64
	for i := range few { // one in each part of the whole, at random
		from, to := total*int64(i)/int64(few), total*int64(i+1)/int64(few)
		at = append(at, 1+from+rand.Int64N(max(to-from, 1)))
	}
	return at
}
