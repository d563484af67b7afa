package login

import (
	"context"
	"io"
	"meatus/core/dial"
	"meatus/core/gate"
)

// introduction reads as much as it takes to know what answers: a server speaks
// first (RFC 4253 section 4.2).
func (h *handshake) introduction() error {
	stop := context.AfterFunc(h.p.Ctx, func() { h.conn.Close() })
	defer stop()
	buf := make([]byte, 256)
	var err error
	for err == nil && !introduced(h.conn.Greeting()) && len(h.conn.Greeting()) < dial.MaxGreeting {
		_, err = h.conn.Read(buf)
	}
	if !introduced(h.conn.Greeting()) {
		if err == nil {
			err = io.EOF
		}
		return h.classify(err)
	}
	h.Passed(gate.Port, h.answers())
	return nil
}
