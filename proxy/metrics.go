package proxy

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"time"

	"nightjar/metrics"
)

// watchers is the listener for those who look after the proxy: /metrics,
// /healthz and /readyz.
type watchers struct {
	listener net.Listener
	server   *http.Server
}

func (p *Proxy) openWatchers(address string) error {
	if address == "" {
		return nil
	}
	l, err := p.cfg.Before.listen("metrics", address)
	if err != nil {
		return fmt.Errorf("metrics: %w", err)
	}
	p.recorder.totals = &metrics.Totals{}
	gauge := func(name, help string, read func() float64) metrics.Value {
		return metrics.Value{Name: name, Help: help, Read: read}
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", metrics.Handler(p.recorder.totals, p.cfg.Program,
		gauge("nightjar_revision", "Number of the revision that this proxy follows.", func() float64 { return float64(p.Revision()) }),
		gauge("nightjar_proxy_connections", "Connections of callers that are open.", func() float64 { return float64(p.vitals().Connections) }),
		metrics.Value{Name: "nightjar_proxy_stale_seconds", Unit: "seconds", Help: "For how long the service has not been heard of; 0 while it is.", Read: func() float64 {
			if at := p.StaleSince(); !at.IsZero() {
				return time.Since(at).Seconds()
			}
			return 0
		}},
		metrics.Value{Name: "nightjar_log_lines_missing_total", Help: "Lines of the request log that nobody read in time.", Counter: true, Read: func() float64 { return float64(p.carrier.requests.lost()) }}))
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") })
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, _ *http.Request) {
		select {
		case <-p.ready:
			fmt.Fprintln(w, "ready")
		default:
			http.Error(w, "there are no rules in force here yet", http.StatusServiceUnavailable)
		}
	})
	p.watchers = &watchers{l, &http.Server{Handler: mux, ReadHeaderTimeout: headerTimeout, IdleTimeout: idleTimeout, WriteTimeout: 30 * time.Second}}
	return nil
}

// Metrics is the address of /metrics; empty without one.
func (p *Proxy) Metrics() string {
	if p.watchers == nil {
		return ""
	}
	return p.watchers.listener.Addr().String()
}

// run serves until ctx is done.
func (w *watchers) run(ctx context.Context) {
	stop := context.AfterFunc(ctx, func() { w.server.Close() })
	defer stop()
	w.server.Serve(w.listener)
}
