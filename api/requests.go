package api

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/traces"
	"nightjar/wire"
)

// maxBatch is how many lines of the feed are written at once.
const maxBatch = 500

// filterParams are those of model.RequestFilter.
var filterParams = []Param{
	{"from", "string", "calling service or gateway"},
	{"to", "string", "called service"},
	{"version", "string", "version that got the request"},
	{"instance", "string", "instance that answered, or got the last attempt"},
	{"route", "string", "route of the service or of the gateway"},
	{"method", "string", "method of the request"},
	{"path", "string", "prefix of the path"},
	{"status", "string", "a status such as 503, or a class such as 5xx"},
	{"reason", "string", "why it failed or was refused"},
	{"outcome", "string", "ok, failed, refused, abandoned, caller-fault, or not-ok: any but ok"},
	{"header", "string", "NAME that is present, or NAME=VALUE"},
	{"request", "string", "id on a gateway's refusal"},
	{"site", "string", "of the caller or of the instance"},
	{"attempts", "integer", "at least this many attempts"},
	{"slowerThanMS", "integer", "took longer than this many milliseconds"},
}

// requestOperations are about single requests.
func (s *Server) requestOperations() []Operation {
	noHeader := slices.DeleteFunc(slices.Clone(filterParams), func(p Param) bool { return p.Name == "header" })
	return []Operation{
		{
			Method:  http.MethodGet,
			Path:    "/requests",
			ID:      "requests",
			Summary: "Requests as they end, as lines of JSON, until the client leaves",
			Params:  filterParams,
			Out:     model.FeedLine{},
			Media:   "application/x-ndjson",
			Status:  http.StatusOK,
			Needs:   people.Viewer,
			handle:  s.requests,

			IsForTeams: true,
		},
		get(
			"/requests/failures",
			"failures",
			"Some of the latest requests that did not succeed, newest first",
			s.failures,
			append(
				noHeader,
				Param{"before", "integer", "only requests before this time, in seconds since 1970"},
				limitParam,
			)...).forTeams(),
		get(
			"/traces",
			"traces",
			"Traces of the last hour, newest first",
			s.traces,
			Param{"service", "string", "service that took part"},
			Param{"site", "string", "site where a part of it took place"},
			Param{
				"outcome",
				"string",
				"of the first request: ok, failed, refused, abandoned or caller-fault; not-ok: any but ok, " +
					"of an attempt too",
			},
			Param{"path", "string", "prefix of the first request's path"},
			Param{"slowerThanMS", "integer", "took longer than this many milliseconds"},
			limitParam,
		).forTeams(),
		get("/traces/:trace", "trace", "One trace, by the beginning of its id", s.trace).forTeams(),
		send(http.MethodPost, "/explain", "explain", "Which routes a request takes, and why not others",
			func(c *echo.Context, in model.RequestSpec) (model.Explanation, error) {
				if err := s.mayAsk(c, &in); err != nil {
					return model.Explanation{}, err
				}
				e, err := s.control.Calls.Explain(in)
				return explanationFor(e, s.scopeOf(c)), err
			}).needing(people.Viewer).forTeams(),
		{
			Method:  http.MethodPost,
			Path:    "/calls",
			ID:      "call",
			Summary: "Send a request through the mesh a number of times; answers lines of JSON, the last one final",
			In:      model.CallRequest{},
			Out:     model.CallResult{},
			Media:   "application/x-ndjson",
			Status:  http.StatusOK,
			Needs:   people.Editor,
			handle:  s.call,

			IsForTeams: true,
		},
	}
}

// filterOf reads a filter of requests.
func filterOf(c *echo.Context) (wire.Filter, error) {
	q := model.RequestFilter{
		From:     c.QueryParam("from"),
		To:       c.QueryParam("to"),
		Version:  c.QueryParam("version"),
		Instance: c.QueryParam("instance"),
		Route:    c.QueryParam("route"),
		Method:   c.QueryParam("method"),
		Path:     c.QueryParam("path"),
		Status:   c.QueryParam("status"),
		Reason:   c.QueryParam("reason"),
		Outcome:  c.QueryParam("outcome"),
		Header:   c.QueryParam("header"),
		Request:  c.QueryParam("request"),
		Site:     c.QueryParam("site"),
	}
	attempts, err := number(c, "attempts", 0, 0, 1000)
	if err != nil {
		return wire.Filter{}, err
	}
	slower, err := number(c, "slowerThanMS", 0, 0, 1<<31)
	q.Attempts, q.SlowerThan = attempts, int64(slower)
	return from.ToFilter(q), err
}

// requests streams requests as they end.
func (s *Server) requests(c *echo.Context) error {
	filter, err := filterOf(c)
	if err != nil {
		return err
	}
	ctx, end, err := s.stream(c, &s.people)
	if err != nil {
		return err
	}
	defer end()
	leave, err := s.watches.take(clientOf(c.Request()))
	if err != nil {
		return err
	}
	defer leave()
	watch, err := s.control.Feed.Watch(filter)
	if err != nil {
		return err
	}
	defer watch.End()
	w := c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	var text bytes.Buffer
	lines := json.NewEncoder(&text)
	write := func() bool {
		out.SetWriteDeadline(time.Now().Add(writeTime))
		_, err := w.Write(text.Bytes())
		text.Reset()
		return err == nil && out.Flush() == nil
	}
	scope := s.scopesOf(c)
	add := func(r wire.Record) {
		one := from.Request(r)
		if !seesRequest(&one, scope()) {
			return
		}
		lines.Encode(model.FeedLine{Request: &one})
	}
	lines.Encode(model.FeedLine{}) // the stream is open
	alive := time.NewTicker(time.Second)
	defer alive.Stop()
	for write() {
		select {
		case <-ctx.Done():
			return nil
		case r := <-watch.Records:
			add(r)
			for range min(len(watch.Records), maxBatch) {
				add(<-watch.Records)
			}
		case <-alive.C:
			lines.Encode(model.FeedLine{Dropped: watch.Dropped()})
		}
	}
	return nil
}

func (s *Server) failures(c *echo.Context) (model.RecentFailures, error) {
	var out model.RecentFailures
	limit, err := number(c, "limit", 100, 1, 1000)
	if err != nil {
		return out, err
	}
	filter, err := filterOf(c)
	if err != nil {
		return out, err
	}
	if err := filter.Check(); err != nil {
		return out, failed(http.StatusUnprocessableEntity, "invalid", "%s", err.Error())
	}
	if filter.Header != "" {
		return out, failed(
			http.StatusUnprocessableEntity,
			"invalid",
			"header: headers are not remembered: leave it out, or watch requests as they end",
		)
	}
	at, err := number(c, "before", 0, 0, 1<<40)
	if err != nil {
		return out, err
	}
	var before time.Time
	if at > 0 {
		before = time.Unix(int64(at), 0)
	}
	sc := s.scopeOf(c)
	out.Requests = keep(from.Requests(s.control.Feed.Failures(filter, before, limit)),
		func(r *model.RequestRecord) bool { return seesRequest(r, sc) })
	return out, nil
}

func (s *Server) traces(c *echo.Context) (model.TraceList, error) {
	limit, err := number(c, "limit", 100, 1, 1000)
	if err != nil {
		return model.TraceList{}, err
	}
	slower, err := number(c, "slowerThanMS", 0, 0, 1<<31)
	if err != nil {
		return model.TraceList{}, err
	}
	list, lost := s.control.Traces.List(
		traces.Filter{Service: c.QueryParam("service"), Site: c.QueryParam("site"), Outcome: c.QueryParam("outcome"),
			Path: c.QueryParam("path"), Slower: time.Duration(slower) * time.Millisecond},
		limit,
	)
	sc := s.scopeOf(c)
	shown := keep(from.TraceSummaries(list), func(t *model.TraceSummary) bool { return seesTrace(t, sc) })
	return model.TraceList{Traces: shown, Share: s.control.Fleet.Traced(), Lost: lost}, nil
}

func (s *Server) trace(c *echo.Context) (model.Trace, error) {
	t, ok := s.control.Traces.Get(c.Param("trace"))
	if !ok {
		return model.Trace{}, failed(
			http.StatusNotFound,
			"not-found",
			"no trace, or more than one, has an id that begins with %s: \"nightjar traces\" lists those of "+
				"the last hour",
			c.Param("trace"),
		)
	}
	out, sc := from.Trace(t), s.scopeOf(c)
	if !seesTrace(&out.TraceSummary, sc) {
		return model.Trace{}, s.notTheirs(c, "this trace")
	}
	if sc.IsLimited() {
		out.Spans = keep(out.Spans, func(p *model.TraceSpan) bool {
			return sc.SeesLink(p.Caller, p.Service) || sc.Owns(p.Service)
		})
	}
	return out, nil
}

// call streams results as lines of JSON while requests are on their way.
func (s *Server) call(c *echo.Context) error {
	var in model.CallRequest
	if err := body(c, &in); err != nil {
		return err
	}
	if err := s.mayAsk(c, &in.RequestSpec); err != nil {
		return err
	}
	ctx, end, err := s.stream(c, &s.people)
	if err != nil {
		return err
	}
	defer end()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	w := c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := http.NewResponseController(w)
	var line bytes.Buffer
	err = s.control.Calls.Send(ctx, in, func(r model.CallResult) {
		line.Reset()
		if json.NewEncoder(&line).Encode(r) == nil {
			out.SetWriteDeadline(time.Now().Add(writeTime))
			_, err := w.Write(line.Bytes())
			if err != nil || out.Flush() != nil {
				stop() // nobody reads it
			}
		}
	})
	if ctx.Err() != nil {
		return nil // the client has left, or the service ends
	}
	return err
}
