package metrics

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"nightjar/core/stats"
	"nightjar/wire"
)

func series(service string, n uint64) wire.Series {
	return wire.Series{Service: service, Version: "v1", Route: "r", Counts: stats.Counts{OK: n, Refused: 1, Tries: n, FirstOK: n, Sent: 7, Status: [6]uint64{2: n}, Reasons: [16]uint64{6: 1},
		Latency: []stats.Bin{{Bucket: uint16(stats.Bucket(30 * time.Millisecond)), N: n}, {Bucket: uint16(stats.Bucket(20 * time.Second)), N: 1}}}}
}

// TestMetrics: the page keeps the conventions of its format, by the public
// checker and the public parser, and says what was counted.
func TestMetrics(t *testing.T) {
	var totals Totals
	copied, app := series("s", 100), series("s", 9)
	copied.App, copied.Copy, app.App, app.Caller = true, true, true, "kiosk"
	totals.Add("kiosk", []wire.Series{series("s", 3), copied, app})
	totals.Add("kiosk", []wire.Series{series("s", 2)})
	h := Handler(&totals, "test", Value{Name: "nightjar_thing_total", Help: "Things.", Counter: true, Read: func() float64 { return 4 }}, Value{Name: "nightjar_wait_seconds", Unit: "seconds", Help: "A wait.", Read: func() float64 { return 1 }})
	read := func(accept string) (string, string) {
		r, w := httptest.NewRequest("GET", "/metrics", nil), httptest.NewRecorder()
		r.Header.Set("Accept", accept)
		h.ServeHTTP(w, r)
		return w.Body.String(), w.Header().Get("Content-Type")
	}
	text, _ := read("text/plain")
	problems, err := promlint.New(strings.NewReader(text)).Lint()
	if err != nil || len(problems) > 0 {
		t.Errorf("%v %v", problems, err)
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	took := families["nightjar_request_duration_seconds"].Metric[0].Histogram
	if took.GetSampleCount() != 7 || took.Bucket[4].GetCumulativeCount() != 0 || took.Bucket[5].GetCumulativeCount() != 5 || took.GetSampleSum() < 39 || took.GetSampleSum() > 41 {
		t.Errorf("%v", took)
	}
	open, media := read("*/*")
	for _, line := range []string{`nightjar_requests_total{caller="kiosk",gateway_route="",outcome="ok",route="r",service="s",version="v1"} 5.0`,
		`nightjar_mesh_responses_total{caller="kiosk",gateway_route="",reason="limited",route="r",service="s",version="v1"} 2.0`, `nightjar_request_body_bytes_total{caller="kiosk",gateway_route="",route="r",service="s",version="v1"} 14.0`,
		`nightjar_workload_requests_total{caller="kiosk",outcome="ok",service="s",version="v1"} 9.0`, "# UNIT nightjar_request_duration_seconds seconds", "# UNIT nightjar_wait_seconds seconds", "nightjar_thing_total 4.0", "# EOF"} {
		if !strings.Contains(open, line+"\n") {
			t.Errorf("lacks %s", line)
		}
	}
	if !strings.HasPrefix(media, "application/openmetrics-text; version=1.0.0") {
		t.Errorf("is %s", media)
	}
	for i := range maxSeries + 20 {
		totals.Add("kiosk", []wire.Series{series(fmt.Sprint("t", i), 1)})
	}
	if n := len(totals.series); n > maxSeries+2 {
		t.Errorf("%d sets of labels", n)
	}
	// Names that nobody uses any more make room, after an hour; those in use stay.
	later := time.Now().Add(idleTime - time.Minute)
	totals.now = func() time.Time { return later }
	totals.Add("kiosk", []wire.Series{series("t1", 1)})
	later = later.Add(2 * time.Minute)
	totals.Add("kiosk", []wire.Series{series("new\xff", 1), series("new", 1)})
	open, _ = read("*/*")
	for service, want := range map[string]bool{"t1": true, "new": true, wire.Other: true, "t2": false} {
		if has := strings.Contains(open, `service="`+service+`"`); has != want {
			t.Errorf("an hour later, %s: %v, want %v", service, has, want)
		}
	}
	(*Totals)(nil).Add("kiosk", []wire.Series{series("s", 1)}) // nobody reads them
	var _ prometheus.Collector = &totals
}
