package gateway

import (
	"net/http"

	"meatus/core/service"
)

// Status answers how the gateway is, with metrics of its own (docs/gateway.md lists the names). It is for this machine
// alone.
func (s *Server) Status() http.Handler {
	return s.Service.Status(s.Store.Ping, func(m service.Metrics) {
		s.mu.Lock()
		m.Gauge("machines_joined", float64(len(s.joined)))
		m.Gauge("streams", float64(len(s.streams)))
		m.Gauge("gateway_connections", float64(len(s.peers)))
		s.mu.Unlock()
		m.Counter("streams_total", s.counted.streams.Load())
		m.Counter("joins_total", s.counted.joins.Load())
		m.Counter(`bytes_total{direction="in"}`, s.counted.in.Load())
		m.Counter(`bytes_total{direction="out"}`, s.counted.out.Load())
		m.Is("store_up", !s.stale.Load())
	})
}

// Streams returns the number of open streams, including those being opened.
func (s *Server) Streams() int { return s.count(func() int { return len(s.streams) }) }

// Joined returns the number of machines joined at this gateway.
func (s *Server) Joined() int { return s.count(func() int { return len(s.joined) }) }
