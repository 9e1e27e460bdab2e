package traces

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/slim/otlp/collector/trace/v1"
	otlp "go.opentelemetry.io/proto/slim/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"nightjar/wire"
)

var noon = time.Unix(1_800_000_000, 0)

// spans of one request through two proxies, the workload's own first.
func spans(trace string, us int64, outcome string) []wire.Span {
	return []wire.Span{
		{Trace: trace, ID: "03", Parent: "02", Kind: "workload", BeganUS: us + 100, TookUS: 800, Proxy: "kiosk-a", Caller: "door", Service: "kiosk", Version: "v1", Instance: "kiosk-a", Status: 200, Outcome: "ok"},
		{Trace: trace, ID: "01", Parent: "ff", Kind: "request", BeganUS: us, TookUS: 1000, Proxy: "door-a", Edge: true, Caller: "door", Service: "kiosk", Method: "GET", Path: "/x", Status: 200, Outcome: outcome, Reason: "timeout", Detail: "why"},
		{Trace: trace, ID: "02", Parent: "01", Kind: "attempt", BeganUS: us, TookUS: 990, Proxy: "door-a", Caller: "door", Service: "kiosk", Instance: "kiosk-a", Status: 200, Outcome: "ok"},
	}
}

func TestTracesAreKeptAndFound(t *testing.T) {
	s := New()
	s.Add(spans("aaaa1", 5_000_000, "ok"), 2, noon)
	s.Add(spans("aaaa2", 6_000_000, "failed"), 0, noon.Add(time.Minute))
	s.Add([]wire.Span{{Trace: "aaaa2", ID: "01", Parent: "01", Kind: "attempt", Service: "loop", BeganUS: 6_000_500, Outcome: "failed"}}, 0, noon.Add(2*time.Minute)) // hangs on itself
	for _, c := range []struct {
		f    Filter
		want []string
	}{{Filter{}, []string{"aaaa2", "aaaa1"}}, {Filter{Service: "loop"}, []string{"aaaa2"}}, {Filter{Outcome: "ok"}, []string{"aaaa1"}}, {Filter{Outcome: wire.NotOK}, []string{"aaaa2"}},
		{Filter{Path: "/y"}, nil}, {Filter{Slower: 999 * time.Microsecond}, []string{"aaaa2", "aaaa1"}}, {Filter{Slower: time.Millisecond}, nil}, {Filter{Since: noon.Add(time.Second)}, []string{"aaaa2"}}} {
		var got []string
		list, lost := s.List(c.f, 10)
		for _, one := range list {
			got = append(got, one.ID)
		}
		if !slices.Equal(got, c.want) || lost != 2 {
			t.Errorf("%+v: %v, want %v (lost %d)", c.f, got, c.want, lost)
		}
	}
	tr, ok := s.Get("aaaa1")
	if !ok || tr.MS != 1 || tr.Caller != "door" || tr.Attempts != 1 || tr.Failed != 0 {
		t.Errorf("%+v", tr.Summary)
	}
	var rows []string
	for _, r := range tr.Rows {
		rows = append(rows, fmt.Sprint(r.Depth, r.Kind, r.FromMS))
	}
	if !slices.Equal(rows, []string{"0request0", "1attempt0", "2workload0.1"}) {
		t.Errorf("rows %v", rows)
	}
	if _, ok := s.Get("aaaa"); ok {
		t.Error("a beginning that two have means one")
	}
	if tr, ok := s.Get("aaaa2"); !ok || len(tr.Rows) != 4 {
		t.Errorf("a span that hangs on itself: %+v", tr.Rows)
	}
	s.Add(spans("bbbb", 7_000_000, "ok"), 0, noon.Add(keptTime+time.Second))
	if list, _ := s.List(Filter{}, 10); len(list) != 2 || s.spans != 7 {
		t.Errorf("after an hour: %d traces, %d spans", len(list), s.spans)
	}
	for i := range maxSpans/3 + 10 {
		s.Add(spans(fmt.Sprint("c", i), 8_000_000, "ok"), 0, noon.Add(keptTime+time.Minute))
	}
	if s.spans > maxSpans || len(s.byID) != len(s.order) {
		t.Errorf("%d spans of %d traces in %d places", s.spans, len(s.byID), len(s.order))
	}
}

// TestExport: a receiver of the open protocol gets every span once, under the
// service that it is of; what it does not take for now comes again.
func TestExport(t *testing.T) {
	var mu sync.Mutex
	refusals := 2
	got := map[string]*otlp.Span{}
	services := map[string]string{} // by span
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		body, _ := io.ReadAll(r.Body)
		var in collector.ExportTraceServiceRequest
		if r.URL.Path != "/v1/traces" || r.Header.Get("Content-Type") != "application/x-protobuf" || proto.Unmarshal(body, &in) != nil {
			t.Errorf("%s %s", r.URL.Path, r.Header)
		}
		if refusals--; refusals >= 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		for _, rs := range in.ResourceSpans {
			for _, s := range rs.ScopeSpans[0].Spans {
				id := fmt.Sprintf("%x", s.SpanId)
				if got[id] != nil {
					t.Errorf("span %s came twice", id)
				}
				got[id], services[id] = s, rs.Resource.Attributes[0].Value.GetStringValue()
			}
		}
		out, _ := proto.Marshal(&collector.ExportTraceServiceResponse{})
		w.Write(out)
	}))
	defer receiver.Close()
	e, err := NewExporter(receiver.URL, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	s := New()
	s.Exporter = e
	s.Add(spans("4bf92f3577b34da6a3ce929d0e0e4736", 5_000_000, "failed"), 0, noon)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { e.Run(ctx); close(ended) }()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if sent, dropped := e.State(); sent == 3 && dropped == 0 {
			break
		} else if time.Now().After(end) {
			t.Fatalf("%d sent, %d dropped", sent, dropped)
		}
	}
	mu.Lock()
	request, app := got["01"], got["03"]
	if request == nil || app == nil || services["01"] != "door" || services["03"] != "kiosk" || len(got) != 3 {
		t.Fatalf("%v of %v", got, services)
	}
	if request.Kind != otlp.Span_SPAN_KIND_SERVER || got["02"].Kind != otlp.Span_SPAN_KIND_CLIENT || app.Kind != otlp.Span_SPAN_KIND_SERVER || request.Status.GetCode() != otlp.Status_STATUS_CODE_ERROR ||
		request.StartTimeUnixNano != 5_000_000_000 || request.EndTimeUnixNano != 5_001_000_000 || fmt.Sprintf("%x", app.ParentSpanId) != "02" || fmt.Sprintf("%x", app.TraceId) != "4bf92f3577b34da6a3ce929d0e0e4736" {
		t.Errorf("%v\n%v", request, app)
	}
	attributes := map[string]string{}
	for _, a := range request.Attributes {
		attributes[a.Key] = a.Value.GetStringValue() + fmt.Sprint(a.Value.GetIntValue())
	}
	if attributes["http.request.method"] != "GET0" || attributes["http.response.status_code"] != "200" || attributes["error.type"] != "timeout0" {
		t.Errorf("%v", attributes)
	}
	mu.Unlock()
	stop()
	<-ended
	for range maxQueue/3 + 1 { // nobody takes them any more
		e.Add(spans("aa", 1, "ok"))
	}
	if _, dropped := e.State(); dropped != 3*(maxQueue/3+1)-maxQueue {
		t.Errorf("%d spans dropped", dropped)
	}
	for _, bad := range []string{"", "localhost:4318", "ftp://x", "http://"} {
		if _, err := NewExporter(bad, nil); err == nil {
			t.Errorf("%q was taken for a receiver", bad)
		}
	}
}
