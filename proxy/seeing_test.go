package proxy

import (
	"encoding/hex"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

func TestReadTraceparent(t *testing.T) {
	const id, parent = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
	good := "00-" + id + "-" + parent + "-01"
	for text, ok := range map[string]bool{good: true, "00-" + id + "-" + parent + "-00": true, "cc-" + id + "-" + parent + "-01-what-comes-later": true, "cc-" + id + "-" + parent + "-01": true,
		"": false, good[:54]: false, good + "-x": false, good + "0": false, "ff-" + id + "-" + parent + "-01": false, strings.ToUpper(good): false, "cc-" + id + "-" + parent + "-01.x": false,
		"00-" + strings.Repeat("0", 32) + "-" + parent + "-01": false, "00-" + id + "-" + strings.Repeat("0", 16) + "-01": false, "00-" + id[:31] + "g-" + parent + "-01": false, "0x-" + id + "-" + parent + "-01": false} {
		gotID, gotParent, flags, got := readTraceparent(text)
		if got != ok || ok && (hex.EncodeToString(gotID[:]) != id || hex.EncodeToString(gotParent[:]) != parent || flags > 1) {
			t.Errorf("%q: %v, %x %x %x", text, got, gotID, gotParent, flags)
		}
	}
}

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
		f := h.carrier.feed
		f.set([]wire.Watch{{ID: "all"}, {ID: "posts", Filter: wire.Filter{Method: "post", Header: "x-k=v", Path: "/p"}}, {ID: "elsewhere", Filter: wire.Filter{From: "kiosk"}},
			{ID: "slow", Filter: wire.Filter{SlowerMS: 100, Route: "late", Tries: 1}}, {ID: "retried", Filter: wire.Filter{Tries: 2}}, {ID: "limited", Filter: wire.Filter{Status: "4xx", Reason: "limited", Outcome: wire.Trouble}}}, "caller")
		list := *f.watches.Load()
		if len(list) != 5 {
			t.Fatalf("%d watches; one is of another caller", len(list))
		}
		list[0].room.Store(3)
		for _, path := range []string{"/aaaa", "/late", "/bbbb"} {
			h.raw(t, get(path))
		}
		h.raw(t, "POST /pppp?secret HTTP/1.1\r\nHost: s\r\nX-K: v\r\nContent-Length: 5\r\nConnection: close\r\n\r\nhello")
		for range 2 {
			h.raw(t, get("/limited", "x-k: 1"))
		}
		got := map[string][]wire.Record{}
		dropped := map[string]uint64{}
		take := func() {
			batches, trouble := f.take()
			for _, b := range batches {
				got[b.Watch] = append(got[b.Watch], b.Records...)
				dropped[b.Watch] += b.Dropped
			}
			got["trouble"] = append(got["trouble"], trouble...)
		}
		waitFor(t, func() bool { take(); return len(got["all"])+int(dropped["all"]) == 6 })
		if len(got["all"]) < 3 || len(got["posts"]) != 1 || len(got["slow"]) != 1 || len(got["limited"]) != 1 || len(got["trouble"]) != 1 || len(got["retried"]) != 0 {
			t.Fatalf("%+v", got)
		}
		if r := got["all"][0]; r.Path != "/aaaa" || r.Status != 200 || r.Outcome != "ok" || r.Instance != "s-v1-a" || r.Route != "rest" || r.Revision != 7 || len(r.Tries) != 1 || r.Tries[0].MS > r.MS || time.Since(r.At) > time.Minute || len(r.Trace) != 32 {
			t.Errorf("%+v", r)
		}
		if r := got["posts"][0]; r.Method != "POST" || r.Path != "/pppp" || r.Sent != 5 || r.Received == 0 {
			t.Errorf("%+v", r)
		}
		if r := got["slow"][0]; len(r.Tries) != 2 || r.Tries[0].Kind != "delay" || r.Tries[0].MS < 150 || r.Tries[1].FromMS < 150 {
			t.Errorf("%+v", r)
		}
		if r := got["limited"][0]; r.Status != 429 || r.Outcome != "refused" || len(r.Tries) != 0 || !strings.Contains(r.Detail, "1/h") || !strings.Contains(r.Written, "hop.yaml:") {
			t.Errorf("%+v", r)
		}
		f.set([]wire.Watch{{ID: "all"}}, "caller")
		if now := *f.watches.Load(); len(now) != 1 || now[0] != list[0] {
			t.Error("a watch that goes on began anew")
		}
		f.set(nil, "")
		if f.watches.Load() != nil {
			t.Error("nobody watches, and requests still look")
		}
	})
}

// TestSpans: a traced request with a retry has a span for each try and each
// wait, and the workload's hangs on the try that it answered.
func TestSpans(t *testing.T) {
	var s spans
	c := carrier{name: "door-a", caller: "door", epoch: time.Now(), spans: &s}
	x := retriedExchange(t)
	tr := tracing{id: traceID{1}, parent: spanID{2}, span: spanID{3}, sampled: true, on: true}
	second := tr.field(1) // the first try was not sent: a drill let it fail
	c.keep(&tr, view{}, x, 0, &result{status: 200, took: 100 * time.Millisecond})
	list, lost := s.take()
	if len(list) != 4 || lost != 0 {
		t.Fatalf("%+v", list)
	}
	var kinds []string
	for _, sp := range list {
		kinds = append(kinds, sp.Kind)
	}
	if got := strings.Join(kinds, " "); got != "request try back-off try" || list[0].Parent != "0200000000000000" || list[1].Parent != list[0].ID || strings.Contains(string(second[:]), list[1].ID) || list[1].ID == "0000000000000000" || !strings.Contains(string(second[:]), list[3].ID) {
		t.Errorf("%s: %+v", got, list)
	}
	if list[1].Outcome != "failed" || list[1].Status != 503 || list[3].Outcome != "ok" || list[0].Outcome != "ok" {
		t.Errorf("%+v", list)
	}
	for range maxSpans {
		s.add(list[0], list[1])
	}
	if list, lost := s.take(); len(list) != maxSpans || lost != maxSpans {
		t.Errorf("%d spans kept, %d lost", len(list), lost)
	}
}

// view is a request without anything.
type view struct{}

func (view) Method() string         { return "GET" }
func (view) Host() string           { return "s" }
func (view) Path() string           { return "/" }
func (view) Query() string          { return "" }
func (view) Header(string) []string { return nil }
func (view) Caller() string         { return "door" }
func (view) Site() string           { return "" }

// retriedExchange is a request whose first try failed and whose second did not.
func retriedExchange(t *testing.T) *engine.Exchange {
	t.Helper()
	rs, _ := rules.Check([]rules.File{{Name: "f.yaml", Text: "services: {s: {versions: [v1], retry: {times: 1, budget: 100%}}}"}}, rules.Live{})
	table, err := engine.Compile(rs, []engine.Instance{{ID: "a", Service: "s", Version: "v1"}}, engine.Options{})
	if err != nil {
		t.Fatal(err)
	}
	x := &engine.Exchange{}
	now := time.Duration(0)
	step := x.Begin(table, engine.Entry{}, view{}, now)
	for status := 503; step.Kind != engine.Done; now += time.Millisecond {
		switch step.Kind {
		case engine.Attempt:
			step = x.Next(engine.Outcome{Status: status}, now)
			status = 200
		case engine.Wait:
			now = step.Deadline
			step = x.Next(engine.Outcome{}, now)
		default:
			t.Fatalf("%+v", step)
		}
	}
	return x
}
