package control

import (
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/core/stats"
	"nightjar/wire"
)

// TestFiguresOfThePast: the figures and the timeline of an hour ago come from
// disk, those of now from memory, and none counts in both.
func TestFiguresOfThePast(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	begin, seq := k.now, uint64(0)
	const every, span = 5, 3600
	for at := 0; at < span; at += every {
		seq++
		k.now = begin.Add(time.Duration(at) * time.Second)
		app := wire.Series{App: true, Caller: "kiosk", Service: "s", Version: "v1", Instance: "s-1", Counts: stats.Counts{OK: 3, Failed: 1, Tries: 4}}
		k.Count("p", delta(seq, wire.Series{Revision: 1, Service: "s", Version: "v1", RouteOf: "s", Route: "all", Counts: stats.Counts{OK: 2, Sent: 10, Latency: []stats.Bin{{Bucket: 900, N: 2}}}}, app))
		if at%10 == 5 {
			if err := k.Figures.Write(t.Context()); err != nil {
				t.Fatal(err)
			}
			k.Figures.Tidy(k.now)
		}
	}
	k.now = begin.Add(span * time.Second)
	check := func(seconds, end int64, want uint64) {
		t.Helper()
		m, err := k.Views.Mesh(t.Context(), seconds, end, "")
		if err != nil {
			t.Fatal(err)
		}
		f := m.Services[0].Figures
		if f.Requests != want || f.RequestBytes != 5*want || f.Workload == nil || f.Workload.Requests != 2*want || !near(f.Workload.Success, 0.75) || m.Window != seconds {
			t.Errorf("%d s to %d: %+v, app %+v", seconds, end, f, f.Workload)
		}
	}
	check(span, 0, 2*span/every)
	check(60, 0, 24)
	check(600, begin.Unix()+1200, 240) // on disk alone
	check(2000, 0, 800)                // both
	line, err := k.Views.Timeline(t.Context(), model.TimelineQuery{From: begin.Unix(), To: k.now.Unix(), Step: 100, Service: "s", Parent: "s", Route: "all"})
	if err != nil || len(line.Points) != 36 || len(line.Marks) != 1 || line.Marks[0].Name != "1" {
		t.Fatalf("%d points, %+v, %v", len(line.Points), line.Marks, err)
	}
	for _, p := range line.Points {
		if p.OK != 40 || p.WorkloadRequests != 0 || p.P50MS == 0 { // the workload does not know its routes
			t.Errorf("%+v", p)
		}
	}
	if line, _ := k.Views.Timeline(t.Context(), model.TimelineQuery{Service: "s", Caller: "kiosk"}); line.Step != 10 || line.Points[40].OK != 4 || line.Points[40].WorkloadRequests != 8 {
		t.Errorf("by itself: step %d, %+v", line.Step, line.Points[40])
	}
	if _, err := k.Views.Timeline(t.Context(), model.TimelineQuery{From: 1, To: k.now.Unix(), Step: 1}); err == nil {
		t.Error("any number of points can be had")
	}
	all, err := k.Figures.ServicesOverTime(t.Context(), model.TimelineQuery{From: begin.Unix(), To: k.now.Unix()})
	if err != nil || all.Step != 60 || len(all.Services) != 1 || len(all.Services[0].Success) != 60 {
		t.Fatalf("%+v, %v", all, err)
	}
	for i, success := range all.Services[0].Success { // workloads say otherwise, and are not asked
		if success == nil || *success != 1 {
			t.Errorf("step %d of the service: %v", i, success)
		}
	}
	if _, err := k.Figures.ServicesOverTime(t.Context(), model.TimelineQuery{From: begin.Unix(), To: k.now.Unix(), Step: 10}); err == nil {
		t.Error("any number of values can be had")
	}
	if long, err := k.Figures.ServicesOverTime(t.Context(), model.TimelineQuery{From: k.now.Unix() - 14*86_400, To: k.now.Unix()}); err != nil || long.Step != 3*3600 {
		t.Errorf("of fourteen days: step %d, %v", long.Step, err)
	}
}
