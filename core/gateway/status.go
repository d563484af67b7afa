package gateway

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"time"

	"github.com/VictoriaMetrics/metrics"
)

// Status answers how the gateway is: /health where it runs, /ready where it lets somebody through, /metrics in the
// open text format that collectors read; docs/gateway.md lists the names. It is for this machine alone.
func (s *Server) Status() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /health", func(w http.ResponseWriter, r *http.Request) { fmt.Fprintln(w, "it runs") })
	mux.HandleFunc("GET /ready", func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), storeTime)
		defer cancel()
		switch err := s.Store.Ping(ctx); {
		case s.ending.Load():
			http.Error(w, errEnding.Error(), http.StatusServiceUnavailable)
		case err != nil:
			http.Error(w, "the store does not answer", http.StatusServiceUnavailable)
		default:
			fmt.Fprintln(w, "it lets through")
		}
	})
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		s.metrics().WritePrometheus(w)
	})
	return mux
}

func (s *Server) metrics() *metrics.Set {
	set := metrics.NewSet()
	gauge := func(name string, v float64) { set.NewGauge("meatus_gateway_"+name, nil).Set(v) }
	counter := func(name string, v int64) { set.NewCounter("meatus_gateway_" + name).Set(uint64(v)) }
	is := func(holds bool) float64 {
		if holds {
			return 1
		}
		return 0
	}
	s.mu.Lock()
	gauge("machines_joined", float64(len(s.joined)))
	gauge("person_connections", float64(len(s.visitors)))
	gauge("streams", float64(len(s.streams)))
	gauge("gateway_connections", float64(len(s.peers)))
	s.mu.Unlock()
	counter("streams_total", s.counted.streams.Load())
	counter("refused_total", s.counted.refused.Load())
	counter("joins_total", s.counted.joins.Load())
	counter(`bytes_total{direction="in"}`, s.counted.in.Load())
	counter(`bytes_total{direction="out"}`, s.counted.out.Load())
	gauge("store_up", is(!s.stale.Load()))
	gauge("policy_current", is(s.Policy.Wrong() == nil))
	gauge("certificate_current", is(s.Certificate.Wrong() == nil))
	if cert, err := s.Certificate.Get(); err == nil {
		if leaf, err := x509.ParseCertificate(cert.Certificate[0]); err == nil {
			gauge("certificate_expires_seconds", time.Until(leaf.NotAfter).Seconds())
		}
	}
	return set
}
