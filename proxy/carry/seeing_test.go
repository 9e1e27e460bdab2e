package carry

import (
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"nightjar/wire"
)

// TestTraceContext: a context goes on with this hop in it when it is traced, as
// it came when it is not, and not at all when it makes no sense; then and when
// none came a new one begins.
func TestTraceContext(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		seen := make(chan http.Header, 1)
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { seen <- r.Header }))
		const id = "4bf92f3577b34da6a3ce929d0e0e4736"
		for _, c := range []struct{ name, came, goes, state string }{
			{"traced", "00-" + id + "-00f067aa0ba902b7-01", "00-" + id + "-[0-9a-f]{16}-01", "a=1"},
			{"not traced", "00-" + id + "-00f067aa0ba902b7-00", "00-" + id + "-00f067aa0ba902b7-00", "a=1"},
			{"senseless", "00-" + id + "-01", "00-[0-9a-f]{32}-[0-9a-f]{16}-00", ""},
			{"twice", "00-" + id + "-00f067aa0ba902b7-01\r\nTraceparent: 00-" + id + "-00f067aa0ba902b8-01", "00-[0-9a-f]{32}-[0-9a-f]{16}-00", ""},
			{"none", "", "00-[0-9a-f]{32}-[0-9a-f]{16}-00", "a=1"},
		} {
			var fields []string
			if c.came != "" {
				fields = append(fields, "traceparent: "+c.came)
			}
			h.raw(t, get("/", append(fields, "Tracestate: a=1")...))
			got := <-seen
			if v := got["Traceparent"]; len(v) != 1 || !regexp.MustCompile("^"+c.goes+"$").MatchString(v[0]) || c.name == "traced" && strings.Contains(v[0], "00f067aa0ba902b7") || c.name == "senseless" && strings.Contains(v[0], id) {
				t.Errorf("%s: %q goes on", c.name, v)
			}
			if got.Get("Tracestate") != c.state {
				t.Errorf("%s: state %q goes on, want %q", c.name, got.Get("Tracestate"), c.state)
			}
		}
	})
}

// TestWatches: a record is made for whoever wants it, within the room of a tick;
// what found none is counted. It stays as it is when its request's buffers are
// used again.
func TestWatches(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(echo))
		f := h.router.Observe.Feed
		f.Set([]wire.Watch{{ID: "all"}, {ID: "posts", Filter: wire.Filter{Method: "post", Header: "x-k=v", Path: "/p"}}, {ID: "elsewhere", Filter: wire.Filter{From: "kiosk"}},
			{ID: "slow", Filter: wire.Filter{SlowerMS: 100, Route: "late", Attempts: 1}}, {ID: "retried", Filter: wire.Filter{Attempts: 2}}, {ID: "limited", Filter: wire.Filter{Status: "4xx", Reason: "limited", Outcome: wire.NotOK}}}, "caller")
		for _, path := range []string{"/aaaa", "/late", "/bbbb"} {
			h.raw(t, get(path))
		}
		h.raw(t, "POST /pppp?secret HTTP/1.1\r\nHost: s\r\nX-K: v\r\nContent-Length: 5\r\nConnection: close\r\n\r\nhello")
		for range 2 {
			h.raw(t, get("/limited", "x-k: 1"))
		}
		got := map[string][]wire.Record{}
		take := func() {
			batches, trouble := f.Take()
			for _, b := range batches {
				got[b.Watch] = append(got[b.Watch], b.Records...)
			}
			got["trouble"] = append(got["trouble"], trouble...)
		}
		waitFor(t, func() bool { take(); return len(got["all"]) == 6 })
		if len(got["posts"]) != 1 || len(got["slow"]) != 1 || len(got["limited"]) != 1 || len(got["trouble"]) != 1 || len(got["retried"]) != 0 {
			t.Fatalf("%+v", got)
		}
		if r := got["all"][0]; r.Path != "/aaaa" || r.Status != 200 || r.Outcome != "ok" || r.Instance != "s-v1-a" || r.Route != "rest" || r.Revision != 7 || len(r.Segments) != 1 || r.Segments[0].MS > r.MS || time.Since(r.At) > time.Minute || len(r.Trace) != 32 {
			t.Errorf("%+v", r)
		}
		if r := got["posts"][0]; r.Method != "POST" || r.Path != "/pppp" || r.Sent != 5 || r.Received == 0 {
			t.Errorf("%+v", r)
		}
		if r := got["slow"][0]; len(r.Segments) != 2 || r.Segments[0].Kind != "delay" || r.Segments[0].MS < 150 || r.Segments[1].FromMS < 150 {
			t.Errorf("%+v", r)
		}
		if r := got["limited"][0]; r.Status != 429 || r.Outcome != "refused" || len(r.Segments) != 0 || !strings.Contains(r.Detail, "1/h") || !strings.Contains(r.Written, "hop.yaml:") {
			t.Errorf("%+v", r)
		}
	})
}

// TestTraceOfAnUnreachableInstance: an attempt that opened no connection and the one
// that went elsewhere are two spans, and the workload hangs on the second.
func TestTraceOfAnUnreachableInstance(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		seen := make(chan string, 1)
		h, c := newGuarded(t, kind, "", "127.0.0.1:1", app(t, func(_ http.ResponseWriter, r *http.Request) { seen <- r.Header.Get("Traceparent") }))
		c.Observe.Spans.SetShare(1)
		for range 2 { // one of them begins at the instance that is not there
			if got := h.raw(t, get("/")); !strings.Contains(got, "200 OK") {
				t.Fatalf("got\n%s", got)
			}
			parent := (<-seen)[36:52]
			spans, _ := c.Observe.Spans.Take()
			tries := 0
			for _, s := range spans {
				if s.Kind != "attempt" {
					continue
				}
				tries++
				if isParent := s.ID == parent; isParent != (s.Status == http.StatusOK) {
					t.Errorf("the try at %s that ended with %d %s is the workload's parent: %t", s.Instance, s.Status, s.Reason, isParent)
				}
			}
			if tries == 2 {
				return
			}
		}
		t.Error("no request began at the instance that is not there")
	})
}
