package main

import (
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"meatus/core/tunnel"
	"meatus/core/walk"
)

// metrics tells what is held in the open text format that collectors of metrics
// read.
type metrics struct {
	walker *walk.Walker
	set    *tunnel.Set
}

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("meatus_"+name, help, labels, nil)
}

var (
	linkUp      = desc("link_up_seconds", "how long a link is up", "hop")
	linkBytes   = desc("link_bytes_total", "bytes on the wire of a link", "hop", "direction")
	linkTrip    = desc("link_round_trip_seconds", "the round trip of a link's last keepalive", "hop")
	linkFrozen  = desc("link_frozen", "1 where a keepalive of a link is overdue", "hop")
	tunnelUp    = desc("tunnel_up", "1 where the way of a tunnel is there", "session", "kind", "door")
	tunnelFlows = desc("tunnel_flows_total", "flows through a tunnel", "session", "kind", "door")
	tunnelLive  = desc("tunnel_flows_live", "flows through a tunnel that live", "session", "kind", "door")
	tunnelBytes = desc("tunnel_bytes_total", "bytes through a tunnel", "session", "kind", "door", "direction")
	reconnects  = desc("reconnects_total", "how often a session's way came back", "session")
	answers     = desc("tunnel_services", "services behind tunnels, by the verdict of trying them", "verdict")
)

func (m metrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{linkUp, linkBytes, linkTrip, linkFrozen, tunnelUp, tunnelFlows, tunnelLive, tunnelBytes, reconnects, answers} {
		out <- d
	}
}

func (m metrics) Collect(out chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	hops := map[string]int{}
	for _, l := range m.walker.Links() {
		hop := l.Hop // a second link to it has a number behind its name
		if hops[l.Hop]++; hops[l.Hop] > 1 {
			hop = fmt.Sprintf("%s-%d", l.Hop, hops[l.Hop])
		}
		gauge(linkUp, time.Since(l.Since).Seconds(), hop)
		counter(linkBytes, float64(l.In), hop, "in")
		counter(linkBytes, float64(l.Out), hop, "out")
		gauge(linkTrip, l.RoundTrip.Seconds(), hop)
		gauge(linkFrozen, one(l.Frozen), hop)
	}
	again, verdicts := map[string]int{}, map[string]int{}
	for _, l := range m.set.Lines() {
		gauge(tunnelUp, one(l.Up), l.Session, l.Kind, l.Door)
		gauge(tunnelLive, float64(l.Live), l.Session, l.Kind, l.Door)
		counter(tunnelFlows, float64(l.Flows), l.Session, l.Kind, l.Door)
		counter(tunnelBytes, float64(l.In), l.Session, l.Kind, l.Door, "in")
		counter(tunnelBytes, float64(l.Out), l.Session, l.Kind, l.Door, "out")
		again[l.Session] = l.Again
		verdicts[l.Answers]++
	}
	for session, n := range again {
		counter(reconnects, float64(n), session)
	}
	for verdict, n := range verdicts {
		gauge(answers, float64(n), verdict)
	}
}

func one(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// serveMetrics serves the metrics at an address of this machine.
func serveMetrics(address string, m metrics) (stop func(), err error) {
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, &statusError{statusWrongUse, fmt.Errorf("%q is no loopback address with a port: metrics name sessions and machines, and are for this machine alone", address)}
	}
	registry := prometheus.NewPedanticRegistry()
	if err := registry.Register(m); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	return func() { server.Close() }, nil
}
