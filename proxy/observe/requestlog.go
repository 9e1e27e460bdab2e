package observe

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

// RequestLog writes a line of JSON about some requests. A nil one writes nothing
// and costs nothing.
type RequestLog struct {
	share    float64 // of requests, 0 to 1
	failures bool    // all that did not succeed
	out      *slog.Logger
	lines    chan []byte
	missing  atomic.Uint64
}

// NewRequestLog makes a log that writes a share of the requests, 0 to 1, and with
// failures all that did not succeed. It returns nil when that is none.
func NewRequestLog(w io.Writer, share float64, failures bool) *RequestLog {
	if w == nil || share <= 0 && !failures {
		return nil
	}
	l := &RequestLog{share: share, failures: failures, lines: make(chan []byte, maxLines)}
	l.out = slog.New(
		slog.NewJSONHandler(l, &slog.HandlerOptions{ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
			if len(groups) == 0 && a.Key == slog.LevelKey {
				return slog.Attr{}
			}
			return a
		}}),
	)
	return l
}

// Lost is how many lines were left out.
func (l *RequestLog) Lost() uint64 {
	if l == nil {
		return 0
	}
	return l.missing.Load()
}

// Write takes one line to be written.
func (l *RequestLog) Write(line []byte) (int, error) {
	select {
	case l.lines <- append([]byte(nil), line...):
	default:
		l.missing.Add(1)
	}
	return len(line), nil
}

// Run writes lines until ctx is done, and then those that are left.
func (l *RequestLog) Run(ctx context.Context, w io.Writer) {
	if l == nil {
		return
	}
	told := uint64(0)
	write := func(line []byte) {
		w.Write(line)
		if n := l.missing.Load(); n > told {
			l.out.LogAttrs(
				ctx,
				slog.LevelWarn,
				"lines are missing, since nobody read them in time",
				slog.Uint64("lines", n-told),
			)
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

// write writes the line, if the request is one of those wanted. The path is
// without its query, where secrets may be.
func (l *RequestLog) write(o *Observer, r *Request, t *Trace) {
	if l == nil || !(l.failures && r.Class != engine.OK) && (l.share < 1 && rand.Float64() >= l.share) {
		return
	}
	b, x := r.View, r.Exchange
	attrs := []slog.Attr{
		slog.String("proxy", o.Proxy),
		slog.String("caller", o.Caller),
		slog.String("outcome", r.Class.String()),
		slog.Int("status", r.Status),
		slog.String("method", b.Method()),
		slog.String("host", b.Host()),
		slog.String("path", b.Path()),
		slog.String("service", x.Service()),
		slog.String("version", x.Version()),
		slog.Float64("durationMS", float64(r.Took.Microseconds())/1000),
		slog.Int("attempts", x.Attempts()),
		slog.Uint64("requestBytes", r.Sent),
		slog.Uint64("responseBytes", r.Received),
		slog.Uint64("revision", uint64(r.Revision)),
	}
	add := func(name, value string) {
		if value != "" {
			attrs = append(attrs, slog.String(name, value))
		}
	}
	add("reason", string(r.Reason))
	add("detail", r.Detail)
	if in := x.Instance(); in != nil {
		add("instance", in.ID)
		if in.Mutual && o.Identities != nil {
			own, called := o.Identities(in.Service)
			add("callerIdentity", own)
			add("serviceIdentity", called)
		}
	}
	route, gate := x.Route()
	if route != nil {
		add("route", route.Name())
	}
	if gate != nil {
		add("gate", gate.Name())
	}
	add("trace", t.Name())
	l.out.LogAttrs(context.Background(), slog.LevelInfo, "request", attrs...)
}
