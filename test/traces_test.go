package test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/standin"
)

// isWhole tells whether every span of a trace hangs on another that is there, or on
// the caller's: each proxy sends its own by itself.
func isWhole(tr model.Trace) bool {
	for _, r := range tr.Spans {
		isChild := slices.ContainsFunc(tr.Spans, func(o model.TraceSpan) bool { return o.ID == r.Parent })
		if !isChild && r.Parent != "00f067aa0ba902b7" {
			return false
		}
	}
	return slices.ContainsFunc(tr.Spans, func(r model.TraceSpan) bool { return r.Parent == "00f067aa0ba902b7" })
}

// TestTraces: a request that crosses the mesh is one trace, whose spans hang
// together; a member's own context goes on, and its choice holds.
func TestTraces(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic", "--trace-share", "0%")
	gateway, _, err := standin.Ports(m.addr)
	if err != nil {
		t.Fatal(err)
	}
	m.change("    - {name: tides, from", "    - {name: tour, from: [tides], to: [kiosk], allow: all}\n    - {name: tides, from")
	fleet, err := m.api.Fleet(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	member := fleet.Proxies[slices.IndexFunc(fleet.Proxies, func(p model.Proxy) bool { return p.Service == "tides" })].Outbound
	ask := func(at, host, traceparent string) {
		t.Helper()
		req, _ := http.NewRequest("GET", "http://"+at+"/", nil)
		req.Host = host
		req.Header.Set("Traceparent", traceparent)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
	}
	const rest = "77b34da6a3ce929d0e0e4736"
	ask(member, "kiosk", "00-00000000000000000000000000000aa1-00f067aa0ba902b7-00")
	ask(member, "kiosk", "nonsense")
	ask(gateway, "tickets.ferry.example", "00-00000000000000000000000000000aa2-00f067aa0ba902b7-01") // an outsider decides nothing
	// Spans that a busy service does not take in time are lost, by design: then another request is traced.
	wanted, asked := "", 0
	var began time.Time
	eventually(t, "a whole trace", func() bool {
		if time.Since(began) > 6*time.Second {
			wanted, began = fmt.Sprintf("%08x%s", 0x4bf92f35+asked, rest), time.Now()
			asked++
			ask(member, "kiosk", "00-"+wanted+"-00f067aa0ba902b7-01")
		}
		tr, err := m.api.Trace(t.Context(), wanted)
		return err == nil && slices.Contains(tr.Services, "berths") && slices.Contains(tr.Services, "fares") && isWhole(tr)
	})
	tr, err := m.api.Trace(t.Context(), wanted[:8])
	if err != nil {
		t.Fatal(err)
	}
	ids := map[string]model.TraceSpan{}
	for _, r := range tr.Spans {
		ids[r.ID] = r
	}
	roots := 0
	for i, r := range tr.Spans {
		if r.Parent == "00f067aa0ba902b7" {
			roots++
			continue
		}
		parent, ok := ids[r.Parent]
		child := map[string][]string{"request": {"workload"}, "attempt": {"request"}, "workload": {"attempt"}}[r.Kind]
		if !ok || !slices.Contains(child, parent.Kind) || r.Depth != tr.Spans[slices.IndexFunc(tr.Spans, func(o model.TraceSpan) bool { return o.ID == r.Parent })].Depth+1 {
			t.Errorf("span %d, %s %s, hangs on %q", i, r.Kind, r.Service, parent.Kind)
		}
	}
	if roots != 1 || tr.Spans[0].Kind != "request" || tr.Spans[0].Caller != "tides" || tr.Spans[0].Service != "kiosk" {
		t.Errorf("%d spans begin it, the first is %+v", roots, tr.Spans[0])
	}
	list, _ := m.api.Traces(t.Context(), model.TraceFilter{}, 10)
	if n := len(list.Traces); n < 1 || n > asked || slices.ContainsFunc(list.Traces, func(tr model.TraceSummary) bool { return !strings.HasSuffix(tr.ID, rest) }) {
		t.Errorf("traces: %+v; a caller that wants none, or says it wrongly, gets none", list.Traces)
	}
	if out := m.must(0, "traces", wanted[:8]); !strings.Contains(out, "tides → kiosk /") || !strings.Contains(out, "workload kiosk-v1-a") {
		t.Errorf("the waterfall:\n%s", out)
	}
	for _, site := range []string{"south-quay", "north-quay"} {
		if out := m.must(0, "traces", "--site", site, "-o", "wide"); !strings.Contains(out, wanted) || !strings.Contains(out, "south-quay, north-quay") {
			t.Errorf("traces at %s:\n%s", site, out)
		}
		m.must(0, "activity", "--site", site, "--what", "joined")
	}
	for _, command := range []string{"traces", "activity", "effect"} {
		m.must(2, command, "--site", "upriver")
	}
	if out := m.must(0, "effect", "--site", "south-quay", "--settle", "0s"); !strings.Contains(out, "at site south-quay") {
		t.Errorf("the effect at a site:\n%s", out)
	}
	m.must(2, "traces", "ffff")
	b := openTab(t, m)
	b.visit("/traces")
	b.until(fmt.Sprintf("document.querySelectorAll('[data-test=table-traces] .MuiDataGrid-row').length === %d", len(list.Traces)))
	b.do(chromedp.Click(chromedp.CSS("[data-test=table-traces] .MuiDataGrid-row .MuiDataGrid-cell")))
	b.says("[data-test=waterfall]", "workload berths-v")
	b.visit("/requests?to=tides")
	b.says("[data-test=received]", "0 requests")
	m.call(3, "http://tides/tides/next")
	b.says("[data-test=received]", "3 requests so far")
}
