package service

import (
	"context"
	"crypto/x509"
	"fmt"
	"meatus/core/loopback"
	"net/http"
	"time"

	"github.com/VictoriaMetrics/metrics"
)

// Metrics takes values by their names behind "meatus_" and what the service is called.
type Metrics struct {
	set  *metrics.Set
	name string
}

// Gauge is a value that goes up and down.
func (m Metrics) Gauge(name string, v float64) { m.set.NewGauge(m.name+name, nil).Set(v) }

// Is is a gauge of 1 where something holds, 0 where it does not.
func (m Metrics) Is(name string, holds bool) {
	v := 0.0
	if holds {
		v = 1
	}
	m.Gauge(name, v)
}

// Counter is a value that only grows.
func (m Metrics) Counter(name string, v int64) { m.set.NewCounter(m.name + name).Set(uint64(v)) }

// Status answers how the service is: /health where it runs, /ready where it takes somebody, /metrics in the open text
// format that collectors read. Ping tells whether its store answers, and own adds metrics of its own.
func (s *Service) Status(ping func(context.Context) error, own func(Metrics)) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /health", func(w http.ResponseWriter, r *http.Request) { fmt.Fprintln(w, "it runs") })
	mux.HandleFunc("GET /ready", func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), askTime)
		defer cancel()
		switch err := ping(ctx); {
		case s.Ending():
			http.Error(w, "the "+s.Called+" is ending", http.StatusServiceUnavailable)
		case err != nil:
			http.Error(w, "the store does not answer", http.StatusServiceUnavailable)
		default:
			fmt.Fprintln(w, "it lets through")
		}
	})
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		metrics.ExposeMetadata(true)
		m := Metrics{metrics.NewSet(), "meatus_" + s.Called + "_"}
		m.Gauge("person_connections", float64(s.Visitors()))
		m.Counter("refused_total", s.Refused.Load())
		if at := s.strangers.Load(); at != nil {
			m.Counter("strangers_refused_total", at.refused.Load())
		}
		m.Is("policy_current", s.Policy.Wrong() == nil)
		m.Is("certificate_current", s.Certificate.Wrong() == nil)
		if cert, err := s.Certificate.Get(); err == nil {
			if leaf, err := x509.ParseCertificate(cert.Certificate[0]); err == nil {
				m.Gauge("certificate_expires_seconds", time.Until(leaf.NotAfter).Seconds())
			}
		}
		own(m)
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		m.set.WritePrometheus(w)
	})
	return loopback.Only(mux)
}
