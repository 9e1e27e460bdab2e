package process

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"time"
)

// Status is the listener for those who look after a proxy: /metrics, /healthz and
// /readyz.
type Status struct {
	Listener net.Listener
	server   *http.Server
}

// NewStatus makes a status listener. ready is closed when there are rules in force.
func NewStatus(l net.Listener, metrics http.Handler, ready <-chan struct{}) *Status {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", metrics)
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") })
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, _ *http.Request) {
		select {
		case <-ready:
			fmt.Fprintln(w, "ready")
		default:
			http.Error(w, "there are no rules in force here yet", http.StatusServiceUnavailable)
		}
	})
	return &Status{l, &http.Server{
		Handler:           mux,
		ReadTimeout:       30 * time.Second,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		WriteTimeout:      30 * time.Second,
	}}
}

// Run serves until ctx is done.
func (s *Status) Run(ctx context.Context) {
	stop := context.AfterFunc(ctx, func() { s.server.Close() })
	defer stop()
	s.server.Serve(s.Listener)
}
