package proxy

import (
	"context"
	"io"
	"log/slog"
	"math/rand/v2"
	"sync/atomic"

	"nightjar/core/engine"
)

// maxLines bounds the lines that wait to be written. When the reader of the log
// does not keep up, requests do not wait for it: lines are left out and counted.
const maxLines = 4096

// requestLog writes a line of JSON about some requests. A nil one writes
// nothing and costs nothing.
type requestLog struct {
	share   float64 // of requests, 0 to 1
	trouble bool    // all that did not succeed
	out     *slog.Logger
	lines   chan []byte
	missing atomic.Uint64
}

func newRequestLog(w io.Writer, share float64, trouble bool) *requestLog {
	if w == nil || share <= 0 && !trouble {
		return nil
	}
	l := &requestLog{share: share, trouble: trouble, lines: make(chan []byte, maxLines)}
	l.out = slog.New(slog.NewJSONHandler(l, &slog.HandlerOptions{ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
		if len(groups) == 0 && a.Key == slog.LevelKey {
			return slog.Attr{}
		}
		return a
	}}))
	return l
}

// lost is how many lines were left out.
func (l *requestLog) lost() uint64 {
	if l == nil {
		return 0
	}
	return l.missing.Load()
}

// Write takes one line to be written.
func (l *requestLog) Write(line []byte) (int, error) {
	select {
	case l.lines <- append([]byte(nil), line...):
	default:
		l.missing.Add(1)
	}
	return len(line), nil
}

// run writes lines until ctx is done, and then those that are left.
func (l *requestLog) run(ctx context.Context, w io.Writer) {
	if l == nil {
		return
	}
	told := uint64(0)
	write := func(line []byte) {
		w.Write(line)
		if n := l.missing.Load(); n > told {
			l.out.LogAttrs(ctx, slog.LevelWarn, "lines are missing, since nobody read them in time", slog.Uint64("lines", n-told))
			told = n
		}
	}
	for {
		select {
		case line := <-l.lines:
			write(line)
		case <-ctx.Done():
			for {
				select {
				case line := <-l.lines:
					write(line)
				default:
					return
				}
			}
		}
	}
}

// note writes the line, if the request is one of those wanted. The path is
// without its query, where secrets may be.
func (l *requestLog) note(c *carrier, t *tracing, b engine.View, x *engine.Exchange, revision uint, r *result) {
	if l == nil || !(l.trouble && r.class != engine.OK) && (l.share < 1 && rand.Float64() >= l.share) {
		return
	}
	attrs := []slog.Attr{slog.String("proxy", c.name), slog.String("caller", c.caller), slog.String("outcome", r.class.String()), slog.Int("status", r.status),
		slog.String("method", b.Method()), slog.String("host", b.Host()), slog.String("path", b.Path()), slog.String("service", x.Service()), slog.String("version", x.Version()),
		slog.Float64("ms", float64(r.took.Microseconds())/1000), slog.Int("tries", x.Tries()), slog.Uint64("sent", r.sent), slog.Uint64("received", r.received), slog.Uint64("revision", uint64(revision))}
	add := func(name, value string) {
		if value != "" {
			attrs = append(attrs, slog.String(name, value))
		}
	}
	add("reason", string(r.reason))
	add("detail", r.detail)
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
	add("trace", t.name())
	l.out.LogAttrs(context.Background(), slog.LevelInfo, "request", attrs...)
}
