package main

import (
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"meatus/core/engine"
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
	links       = desc("links", "links to a machine that are up", "hop")
	payload     = desc("link_payload_bytes_total", "bytes of the channels of a link, without what wraps them", "hop", "direction")
	resent      = desc("link_packets_resent_total", "packets that the system sent again to a first hop", "hop")
	tunnelUp    = desc("tunnel_up", "1 where the way of a tunnel is there", "session", "kind", "door")
	tunnelFlows = desc("tunnel_flows_total", "flows through a tunnel", "session", "kind", "door")
	tunnelLive  = desc("tunnel_flows_live", "flows through a tunnel that live", "session", "kind", "door")
	tunnelBytes = desc("tunnel_bytes_total", "bytes through a tunnel", "session", "kind", "door", "direction")
	reconnects  = desc("reconnects_total", "how often a session's way came back", "session")
	gates       = desc("tunnel_gates", "gates of tunnels by verdict: the door, the service behind it, its first bytes", "gate", "verdict")
)

func (m metrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{linkUp, linkBytes, linkTrip, linkFrozen, links, payload, resent, tunnelUp, tunnelFlows, tunnelLive, tunnelBytes, reconnects, gates} {
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
	// Several links to one machine are told as one: their counts together, the best of
	// their ages, the worst of the rest.
	type hop struct {
		n     int
		state walk.LinkState
	}
	hops := map[string]hop{}
	for _, l := range m.walker.Links() {
		h := hops[l.Hop]
		if h.n++; h.n == 1 {
			h.state = l
		} else {
			h.state.In, h.state.Out = h.state.In+l.In, h.state.Out+l.Out
			h.state.PayIn, h.state.PayOut = h.state.PayIn+l.PayIn, h.state.PayOut+l.PayOut
			h.state.Packets.Resent += l.Packets.Resent
			h.state.RoundTrip = max(h.state.RoundTrip, l.RoundTrip)
			if l.Since.Before(h.state.Since) {
				h.state.Since = l.Since
			}
		}
		h.state.Frozen = h.state.Frozen || l.Frozen
		hops[l.Hop] = h
	}
	for name, h := range hops {
		l := h.state
		gauge(links, float64(h.n), name)
		gauge(linkUp, time.Since(l.Since).Seconds(), name)
		counter(linkBytes, float64(l.In), name, "in")
		counter(linkBytes, float64(l.Out), name, "out")
		counter(payload, float64(l.PayIn), name, "in")
		counter(payload, float64(l.PayOut), name, "out")
		counter(resent, float64(l.Packets.Resent), name)
		gauge(linkTrip, l.RoundTrip.Seconds(), name)
		gauge(linkFrozen, one(l.Frozen), name)
	}
	again, verdicts := map[string]int{}, map[[2]string]int{}
	for _, l := range m.set.Lines() {
		gauge(tunnelUp, one(l.Up), l.Session, l.Kind, l.Door)
		gauge(tunnelLive, float64(l.Live), l.Session, l.Kind, l.Door)
		counter(tunnelFlows, float64(l.Flows), l.Session, l.Kind, l.Door)
		counter(tunnelBytes, float64(l.In), l.Session, l.Kind, l.Door, "in")
		counter(tunnelBytes, float64(l.Out), l.Session, l.Kind, l.Door, "out")
		again[l.Session] = l.Again
		for _, g := range l.Gates() {
			verdicts[[2]string{g.Name, g.Verdict.String()}]++
		}
	}
	for session, n := range again {
		counter(reconnects, float64(n), session)
	}
	for g, n := range verdicts {
		gauge(gates, float64(n), g[0], g[1])
	}
}

func one(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// serveMetrics serves the metrics at an address of this machine.
func serveMetrics(address string, e *engine.Engine) (stop func(), err error) {
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, &statusError{statusWrongUse, fmt.Errorf("%q is no loopback address with a port: metrics name sessions and machines, and are for this machine alone", address)}
	}
	registry := prometheus.NewPedanticRegistry()
	if err := registry.Register(metrics{e.Walker, e.Tunnels}); err != nil {
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
