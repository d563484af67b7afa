package tunnel

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/VictoriaMetrics/metrics"

	"meatus/cmd/meatus/command"
	"meatus/core/engine"
	"meatus/core/link"
	"meatus/core/loopback"
)

// gauges collects what is held in the open text format that collectors of metrics read;
// docs/holding.md lists the names.
type gauges struct{ *metrics.Set }

// name writes a metric's name with labels, given as pairs in the order of the alphabet.
func name(metric string, labels ...string) string {
	var b strings.Builder
	for i := 0; i+1 < len(labels); i += 2 {
		if i > 0 {
			b.WriteByte(',')
		}
		value := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(labels[i+1])
		fmt.Fprintf(&b, `%s="%s"`, labels[i], value)
	}
	return "meatus_" + metric + "{" + b.String() + "}"
}

func (g gauges) gauge(v float64, metric string, labels ...string) {
	g.GetOrCreateGauge(name(metric, labels...), nil).Set(v)
}

func (g gauges) counter(v float64, metric string, labels ...string) {
	g.GetOrCreateFloatCounter(name(metric, labels...)).Set(v)
}

// hopLinks are the links to one machine, told as one: their counts together, the best of
// their ages, the worst of the rest.
type hopLinks struct {
	n     int
	state link.State
}

func byHop(links []link.State) map[string]hopLinks {
	hops := map[string]hopLinks{}
	for _, l := range links {
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
	return hops
}

// collect takes everything as it is now.
func collect(e *engine.Engine) *metrics.Set {
	g := gauges{metrics.NewSet()}
	for hop, h := range byHop(e.Walker.Links()) {
		l := h.state
		g.gauge(float64(h.n), "links", "hop", hop)
		g.gauge(time.Since(l.Since).Seconds(), "link_up_seconds", "hop", hop)
		g.counter(float64(l.In), "link_bytes_total", "direction", "in", "hop", hop)
		g.counter(float64(l.Out), "link_bytes_total", "direction", "out", "hop", hop)
		g.counter(float64(l.PayIn), "link_payload_bytes_total", "direction", "in", "hop", hop)
		g.counter(float64(l.PayOut), "link_payload_bytes_total", "direction", "out", "hop", hop)
		g.counter(float64(l.Packets.Resent), "link_packets_resent_total", "hop", hop)
		g.gauge(l.RoundTrip.Seconds(), "link_round_trip_seconds", "hop", hop)
		g.gauge(one(l.Frozen), "link_frozen", "hop", hop)
	}
	verdicts := map[[2]string]int{}
	for _, l := range e.Tunnels.Lines() {
		of := []string{"door", l.Listener, "kind", l.Kind, "session", l.Session}
		g.gauge(one(l.Up), "tunnel_up", of...)
		g.gauge(float64(l.Live), "tunnel_flows_live", of...)
		g.counter(float64(l.Flows), "tunnel_flows_total", of...)
		g.counter(float64(l.In), "tunnel_bytes_total", append([]string{"direction", "in"}, of...)...)
		g.counter(float64(l.Out), "tunnel_bytes_total", append([]string{"direction", "out"}, of...)...)
		g.counter(float64(l.Again), "reconnects_total", "session", l.Session)
		for _, gate := range l.Gates() {
			verdicts[[2]string{gate.Name, gate.Verdict.String()}]++
		}
	}
	for v, n := range verdicts {
		g.gauge(float64(n), "tunnel_gates", "gate", v[0], "verdict", v[1])
	}
	return g.Set
}

func one(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// serveMetrics serves the metrics at an address of this machine: they name sessions and machines.
func serveMetrics(address string, e *engine.Engine) (stop func(), err error) {
	l, err := loopback.Listen(address)
	if err != nil {
		return nil, command.Fail(command.WrongUse, fmt.Errorf("--metrics: %w", err))
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		metrics.ExposeMetadata(true)
		collect(e).WritePrometheus(w)
	})
	server := &http.Server{Handler: loopback.Only(mux), ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	return func() { server.Close() }, nil
}
