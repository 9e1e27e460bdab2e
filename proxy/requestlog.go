package proxy

import (
	"context"
	"io"
	"log/slog"
	"math/rand/v2"
	"time"

	"nightjar/core/engine"
)

// requestLog writes a line of JSON about one request in so many. A nil one
// writes nothing and costs nothing.
type requestLog struct {
	share float64 // of requests, 0 to 1
	out   *slog.Logger
}

func newRequestLog(w io.Writer, share float64) *requestLog {
	if w == nil || share <= 0 {
		return nil
	}
	return &requestLog{share, slog.New(slog.NewJSONHandler(w, &slog.HandlerOptions{ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
		if len(groups) == 0 && a.Key == slog.LevelKey {
			return slog.Attr{}
		}
		return a
	}}))}
}

// note writes the line, if the request is one of the share. The path is without
// its query, where secrets may be.
func (l *requestLog) note(c *carrier, b bearer, x *engine.Exchange, revision uint, class engine.Class, reason engine.Reason, status int, took time.Duration) {
	if l == nil || l.share < 1 && rand.Float64() >= l.share {
		return
	}
	attrs := []slog.Attr{slog.String("proxy", c.name), slog.String("caller", c.caller), slog.String("outcome", class.String()), slog.Int("status", status),
		slog.String("method", b.Method()), slog.String("host", b.Host()), slog.String("path", b.Path()), slog.String("service", x.Service()), slog.String("version", x.Version()),
		slog.Float64("ms", float64(took.Microseconds())/1000), slog.Int("tries", x.Tries()), slog.Uint64("revision", uint64(revision))}
	add := func(name, value string) {
		if value != "" {
			attrs = append(attrs, slog.String(name, value))
		}
	}
	add("reason", string(reason))
	if in := x.Instance(); in != nil {
		add("instance", in.ID)
	}
	route, gate := x.Route()
	if route != nil {
		add("route", route.Name())
	}
	if gate != nil {
		add("gate", gate.Name())
	}
	l.out.LogAttrs(context.Background(), slog.LevelInfo, "request", attrs...)
}
