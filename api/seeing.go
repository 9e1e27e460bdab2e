package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/control"
	"nightjar/metrics"
	"nightjar/store"
	"nightjar/traces"
	"nightjar/wire"
)

// liveWindow is how many seconds the figures of the live stream cover.
const liveWindow = 10

var (
	windowParam  = param{"window", "integer", "seconds that the figures cover; 10 when absent, at most 14 days"}
	atParam      = param{"at", "integer", "end of the window in seconds since 1970; now when absent"}
	filterParams = []param{{"from", "string", "calling service or gateway"}, {"to", "string", "called service"}, {"version", "string", "version that it went to"},
		{"instance", "string", "instance that answered, or was tried last"}, {"route", "string", "route of the service or of the gateway"}, {"method", "string", ""},
		{"path", "string", "what the path begins with"}, {"status", "string", "a status such as 503, or a class such as 5xx"}, {"reason", "string", "why the mesh answered"},
		{"outcome", "string", "ok, failed, refused, abandoned, caller-fault, or trouble: all but ok"}, {"header", "string", "NAME that is there, or NAME=VALUE"}, {"request", "string", "id that a gateway's refusal told its caller"},
		{"tries", "integer", "was sent so often at least"}, {"slowerMS", "integer", "took longer than so many milliseconds"}}
	limitParam = param{"limit", "integer", "1 to 1000; 100 when absent"}
)

// seeing are the operations that show what happens.
func (s *Server) seeing() []operation {
	return []operation{
		{method: "GET", path: "/mesh", id: "mesh", summary: "All that runs, with the figures of some seconds", out: control.Mesh{}, query: []param{windowParam, atParam}, handle: s.mesh},
		{method: "GET", path: "/live", id: "live", summary: "The mesh every second, as Server-Sent Events named mesh", out: control.Mesh{}, media: "text/event-stream", handle: s.live},
		{method: "GET", path: "/timeline", id: "timeline", summary: "The figures of a group of requests over time, with revisions and drills", out: control.Timeline{},
			query: []param{{"from", "integer", "seconds since 1970; 15 minutes before to when absent"}, {"to", "integer", "now when absent"},
				{"step", "integer", "seconds of each point; such that there are about a hundred when absent"}, {"caller", "string", "calling service or gateway"}, {"service", "string", "called service"},
				{"version", "string", ""}, {"instance", "string", ""}, {"ladder", "string", "service or gateway of the route"}, {"route", "string", "with ladder"}}, handle: s.timeline},
		{method: "GET", path: "/requests", id: "requests", summary: "Requests as they end, as lines of JSON, until the client leaves", out: dto.FeedLine{}, media: "application/x-ndjson", query: filterParams, handle: s.requests},
		{method: "GET", path: "/requests/trouble", id: "trouble", summary: "Some of the latest requests that did not succeed, newest first", out: dto.Trouble{},
			query: append(slices.DeleteFunc(slices.Clone(filterParams), func(p param) bool { return p.name == "header" }), param{"before", "integer", "only what came before, in seconds since 1970"}, limitParam), handle: s.trouble},
		{method: "GET", path: "/traces", id: "traces", summary: "Traces of the last hour, newest first", out: dto.Traces{},
			query: []param{{"service", "string", "that took part"}, {"outcome", "string", "of the first request: ok, failed, refused, abandoned, caller-fault; or trouble: any but ok, also of a try"},
				{"path", "string", "what the first path begins with"}, {"slowerMS", "integer", "took longer than so many milliseconds"}, limitParam}, handle: s.traces},
		{method: "GET", path: "/traces/:trace", id: "trace", summary: "One trace, by the begin of its id", out: traces.Trace{}, handle: s.trace},
	}
}

func (s *Server) mesh(c *echo.Context) error {
	seconds, err := number(c, "window", liveWindow, 1, store.CoarseTime)
	if err != nil {
		return err
	}
	at, err := number(c, "at", 0, 0, 1<<40)
	if err != nil {
		return err
	}
	m, err := s.control.View(c.Request().Context(), int64(seconds), int64(at))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, m)
}

// shared is the mesh as text, worked out once for all who look at it.
type shared struct {
	mu   sync.Mutex
	at   time.Time
	id   int64
	text []byte
}

// freshness is how long the same text is handed out.
const freshness = 500 * time.Millisecond

func (l *shared) mesh(ctx context.Context, c *control.Control) (id int64, text []byte, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if time.Since(l.at) < freshness {
		return l.id, l.text, nil
	}
	m, err := c.View(context.WithoutCancel(ctx), liveWindow, 0)
	if err != nil {
		return 0, nil, err
	}
	if l.text, err = json.Marshal(m); err != nil {
		return 0, nil, err
	}
	l.id, l.at = m.At.UnixMilli(), time.Now()
	return l.id, l.text, nil
}

// live sends the mesh at once and then every second, until the client leaves
// or the service ends. An event is the whole state, so one that was missed
// needs no second sending.
func (s *Server) live(c *echo.Context) error {
	end, err := s.stream()
	if err != nil {
		return err
	}
	defer end()
	ctx, w := c.Request().Context(), c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		id, data, err := s.shared.mesh(ctx, s.control)
		if err != nil {
			return err
		}
		out.SetWriteDeadline(time.Now().Add(10 * time.Second))
		if _, err := fmt.Fprintf(w, "id: %d\nevent: mesh\ndata: %s\n\n", id, data); err != nil {
			return nil
		}
		if out.Flush() != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

func (s *Server) timeline(c *echo.Context) error {
	q := control.TimelineAsk{Caller: c.QueryParam("caller"), Service: c.QueryParam("service"), Version: c.QueryParam("version"), Instance: c.QueryParam("instance"),
		Ladder: c.QueryParam("ladder"), Route: c.QueryParam("route")}
	for name, to := range map[string]*int64{"from": &q.From, "to": &q.To, "step": &q.Step} {
		n, err := number(c, name, 0, 0, 1<<40)
		if err != nil {
			return err
		}
		*to = int64(n)
	}
	out, err := s.control.Timeline(c.Request().Context(), q)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func filterOf(c *echo.Context) (wire.Filter, error) {
	slower, err := number(c, "slowerMS", 0, 0, 1<<31)
	if err != nil {
		return wire.Filter{}, err
	}
	tries, err := number(c, "tries", 0, 0, 100)
	p := c.QueryParam
	return wire.Filter{From: p("from"), To: p("to"), Version: p("version"), Instance: p("instance"), Route: p("route"), Method: p("method"), Path: p("path"),
		Status: p("status"), Reason: p("reason"), Outcome: p("outcome"), Header: p("header"), Request: p("request"), Tries: tries, SlowerMS: int64(slower)}, err
}

// requests streams the requests that a filter takes. A line without a request
// is a sign of life, and tells how many found no room.
func (s *Server) requests(c *echo.Context) error {
	filter, err := filterOf(c)
	if err != nil {
		return err
	}
	end, err := s.stream()
	if err != nil {
		return err
	}
	defer end()
	watching, err := s.control.Watch(filter)
	if err != nil {
		return err
	}
	defer watching.End()
	ctx, w := c.Request().Context(), c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	var text bytes.Buffer
	lines := json.NewEncoder(&text)
	send := func() bool {
		out.SetWriteDeadline(time.Now().Add(10 * time.Second))
		_, err := w.Write(text.Bytes())
		text.Reset()
		return err == nil && out.Flush() == nil
	}
	lines.Encode(dto.FeedLine{})
	alive := time.NewTicker(time.Second)
	defer alive.Stop()
	for send() {
		select {
		case <-ctx.Done():
			return nil
		case r := <-watching.Records:
			lines.Encode(dto.FeedLine{Request: &r})
			for more := min(len(watching.Records), 500); more > 0; more-- {
				r := <-watching.Records
				lines.Encode(dto.FeedLine{Request: &r})
			}
		case <-alive.C:
			lines.Encode(dto.FeedLine{Dropped: watching.Dropped()})
		}
	}
	return nil
}

func (s *Server) trouble(c *echo.Context) error {
	limit, err := number(c, "limit", 100, 1, 1000)
	if err != nil {
		return err
	}
	filter, err := filterOf(c)
	if err != nil {
		return err
	}
	if err := filter.Check(); err != nil {
		return problem(http.StatusUnprocessableEntity, "unusable", "%s", err.Error())
	}
	if filter.Header != "" {
		return problem(http.StatusUnprocessableEntity, "unusable", "headers are not remembered: leave header out, or follow requests as they end")
	}
	at, err := number(c, "before", 0, 0, 1<<40)
	if err != nil {
		return err
	}
	var before time.Time
	if at > 0 {
		before = time.Unix(int64(at), 0)
	}
	return c.JSON(http.StatusOK, dto.Trouble{Requests: s.control.Trouble(filter, before, limit)})
}

func (s *Server) traces(c *echo.Context) error {
	limit, err := number(c, "limit", 100, 1, 1000)
	if err != nil {
		return err
	}
	slower, err := number(c, "slowerMS", 0, 0, 1<<31)
	if err != nil {
		return err
	}
	list, lost := s.control.Traces.List(traces.Filter{Service: c.QueryParam("service"), Outcome: c.QueryParam("outcome"), Path: c.QueryParam("path"),
		Slower: time.Duration(slower) * time.Millisecond}, limit)
	return c.JSON(http.StatusOK, dto.Traces{Traces: list, Share: s.control.Traced(), Lost: lost})
}

func (s *Server) trace(c *echo.Context) error {
	t, ok := s.control.Traces.Get(c.Param("trace"))
	if !ok {
		return problem(http.StatusNotFound, "not-found", "no trace, or more than one, has an id that begins with %s: nightjar traces lists those of the last hour", c.Param("trace"))
	}
	return c.JSON(http.StatusOK, t)
}

// metrics is what the service counted, in the OpenMetrics format.
func (s *Server) metrics() http.Handler {
	if s.control.Totals == nil {
		s.control.Totals = &metrics.Totals{}
	}
	value := func(name, help string, counter bool, read func() float64) metrics.Value {
		return metrics.Value{Name: name, Help: help, Counter: counter, Read: read}
	}
	return metrics.Handler(s.control.Totals, s.control.Program(),
		value("nightjar_revision", "Number of the revision in force.", false, func() float64 { return float64(s.control.InForce().Revision.Number) }),
		value("nightjar_proxies_connected", "Proxies that hold a stream to the service.", false, func() float64 {
			n := 0
			for _, m := range s.control.Fleet() {
				if m.Connected {
					n++
				}
			}
			return float64(n)
		}),
		value("nightjar_series", "Sets of names with requests in the last 15 minutes.", false, func() float64 {
			n, _ := s.control.Telemetry()
			return float64(n)
		}),
		value("nightjar_nameless_requests_total", "Requests that were counted without names, since there were too many names.", true, func() float64 {
			_, n := s.control.Telemetry()
			return float64(n)
		}),
		value("nightjar_spans_sent_total", "Spans of traces that were sent on.", true, func() float64 {
			n, _ := s.control.Traces.Exporter.State()
			return float64(n)
		}),
		value("nightjar_spans_dropped_total", "Spans of traces that could not be sent on.", true, func() float64 {
			_, n := s.control.Traces.Exporter.State()
			return float64(n)
		}))
}
