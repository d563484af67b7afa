package link

import (
	"context"
	"meatus/core/line"
	"net"
	"strconv"

	"github.com/libp2p/go-yamux/v5"
)

// streamAtGateway opens a stream to a machine that has joined. It fails with a [line.Refusal].
func (l *Link) streamAtGateway(ctx context.Context, addr string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	n, _ := strconv.Atoi(port)
	stream, err := line.Open(ctx, l.gateway.Session, line.Reach{Machine: host, Port: n})
	if err != nil {
		return nil, err
	}
	l.load.channels.Add(1)
	return &loadedStream{Stream: stream, load: &l.load}, nil
}

// Ask asks the gateway that the link leads to something. What it tells follows; the caller closes it. It fails with a
// [line.Refusal].
func (l *Link) Ask(ctx context.Context, ask line.Message) (*yamux.Stream, error) {
	return line.Open(ctx, l.gateway.Session, ask)
}
