package dial

import (
	"meatus/core/sanitize"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Conn is a connection to a server. It counts what passes, and keeps the first bytes that came in, which
// say what answered where it was no SSH server.
type Conn struct {
	net.Conn
	In, Out atomic.Uint64 // bytes
	lastIn  atomic.Int64  // when the last byte came in, in nanoseconds since Epoch
	settled atomic.Bool   // the handshake is over, first is no longer kept
	broken  atomic.Bool   // reading has failed
	gone    chan struct{} // closed when it is
	once    sync.Once

	acknowledge func() // has the system acknowledge received bytes at once; nil without support for it

	mu    sync.Mutex
	first []byte // at most [MaxGreeting]
}

// MaxGreeting is how much of what came first is kept, in bytes.
const MaxGreeting = 512

// fewBytes is below how many bytes what came is a message of its own, behind which another one may wait for its
// acknowledgement. More is a stream, which is acknowledged as it comes.
const fewBytes = 4 << 10

// Epoch is what moments are counted from, so that a wall clock that is set makes
// nothing look frozen, or awake.
var Epoch = time.Now()

func (c *Conn) Close() error {
	c.once.Do(func() { close(c.gone) })
	return c.Conn.Close()
}

func (c *Conn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.In.Add(uint64(n))
	if err != nil {
		c.broken.Store(true)
	}
	if n > 0 {
		c.lastIn.Store(int64(time.Since(Epoch)))
		if c.acknowledge != nil && n < fewBytes {
			c.acknowledge()
		}
	}
	if !c.settled.Load() {
		c.mu.Lock()
		c.first = append(c.first, p[:min(n, MaxGreeting-len(c.first))]...)
		c.mu.Unlock()
	}
	return n, err
}

func (c *Conn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.Out.Add(uint64(n))
	return n, err
}

// NewConn is a connection that is counted. With prompt the system acknowledges small messages at once.
func NewConn(raw net.Conn, prompt bool) *Conn {
	c := &Conn{Conn: raw, gone: make(chan struct{})}
	if prompt {
		c.acknowledge = acker(raw)
	}
	return c
}

// Settle ends the keeping of what came first: the handshake is over.
func (c *Conn) Settle() { c.settled.Store(true) }

// Broken tells whether reading has failed.
func (c *Conn) Broken() bool { return c.broken.Load() }

// Gone is closed when the connection was closed here.
func (c *Conn) Gone() <-chan struct{} { return c.gone }

// LastIn is when the last byte came in, as the time since [Epoch], 0 before the first.
func (c *Conn) LastIn() time.Duration { return time.Duration(c.lastIn.Load()) }

// Greeting returns the first bytes that came in.
func (c *Conn) Greeting() []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]byte(nil), c.first...)
}

// Software is what the server calls itself in its greeting (RFC 4253 section 4.2), cleaned, "SSH" where it says nothing.
func (c *Conn) Software() string {
	for line := range strings.Lines(string(c.Greeting())) {
		if rest, ok := strings.CutPrefix(line, "SSH-"); ok {
			if _, software, ok := strings.Cut(rest, "-"); ok {
				return sanitize.Line(software, 40)
			}
		}
	}
	return "SSH"
}
