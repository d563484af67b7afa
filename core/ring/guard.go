package ring

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

const (
	// maxMessage is how long a message of the agent protocol may be, in bytes.
	maxMessage = 256 << 10
	// messageTime is how long a message may take to come in once it has begun.
	messageTime = 10 * time.Second
	// maxClients is how many lines are served at once.
	maxClients = 64
)

// guard lets messages of the agent protocol through (its IETF draft, section 3: a
// length in four bytes, then as much) that are not too long and come in whole in
// time; else it ends the line.
type guard struct {
	io.ReadWriteCloser
	failed func(message []byte) // told the beginning of each message whose answer is a failure; may be nil
	head   []byte               // of the length, not passed on yet
	body   int                  // of the message, not read yet
	first  []byte               // of the message
	answer []byte               // its beginning: the length, and what it is
	stall  *time.Timer
}

// What a message of the agent protocol is (its IETF draft, section 5.1): those that put
// keys into the agent, and a failure.
const (
	failure             = 5
	addKey              = 17
	addToken            = 20
	addKeyConstrained   = 25
	addTokenConstrained = 26
)

// maxFirst is how much of a message is kept for whoever is told of its failure, in bytes: its
// kind and that of a key, and nothing that is secret.
const maxFirst = 48

// Write passes an answer on, after telling of a failure.
func (g *guard) Write(p []byte) (int, error) {
	if need := 5 - len(g.answer); need > 0 {
		g.answer = append(g.answer, p[:min(len(p), need)]...)
		if len(g.answer) == 5 && g.answer[4] == failure && g.failed != nil && len(g.first) > 0 {
			g.failed(g.first)
		}
	}
	return g.ReadWriteCloser.Write(p)
}

var errEmpty = errors.New("an empty message")

func (g *guard) Read(p []byte) (int, error) {
	if len(g.head) == 0 && g.body == 0 {
		var head [4]byte
		if _, err := io.ReadFull(g.ReadWriteCloser, head[:1]); err != nil {
			return 0, err
		}
		g.stall = time.AfterFunc(messageTime, func() { g.Close() })
		if _, err := io.ReadFull(g.ReadWriteCloser, head[1:]); err != nil {
			return 0, err
		}
		n := binary.BigEndian.Uint32(head[:])
		switch {
		case n == 0:
			return 0, errEmpty
		case n > maxMessage:
			return 0, fmt.Errorf("a message of %d bytes", n)
		}
		g.head, g.body, g.first, g.answer = head[:], int(n), nil, nil
	}
	if len(g.head) > 0 {
		n := copy(p, g.head)
		g.head = g.head[n:]
		return n, nil
	}
	n, err := g.ReadWriteCloser.Read(p[:min(len(p), g.body)])
	g.first = append(g.first, p[:min(n, maxFirst-len(g.first))]...)
	if g.body -= n; g.body == 0 || err != nil {
		g.stall.Stop()
	}
	return n, err
}
