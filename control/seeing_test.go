package control

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/core/stats"
	"nightjar/wire"
)

// TestWatching: proxies are told of a filter, records go to who asked, and what
// finds no room is counted; at the end proxies are told that nobody asks.
func TestWatching(t *testing.T) {
	k := newClock(t)
	k.register("a", "kiosk", "v1")
	news := func(seen uint64) *News { n, _ := k.News("a", seen); return n }
	first := news(0)
	if len(first.snap.Watches) != 0 || first.snap.Traced == nil {
		t.Errorf("%+v", first.snap)
	}
	w, err := k.Watch(wire.Filter{To: "berths"})
	if err != nil {
		t.Fatal(err)
	}
	told := news(first.Sequence)
	if !told.Urgent || len(told.snap.Watches) != 1 || told.snap.Watches[0].To != "berths" || !told.snap.Asides() {
		t.Fatalf("%+v", told.snap)
	}
	var many []wire.Record
	for i := range maxWaiting + 5 {
		many = append(many, wire.Record{Path: fmt.Sprint("/", i)})
	}
	k.Saw(wire.Seen{Watches: []wire.Batch{{Watch: told.snap.Watches[0].ID, Records: many, Dropped: 2}, {Watch: "ghost", Records: many}}})
	if n := len(w.Records); n != maxWaiting || (<-w.Records).Path != "/0" || w.Dropped() != 7 || w.Dropped() != 0 {
		t.Errorf("%d records wait", n)
	}
	w.End()
	w.End()
	if after := news(told.Sequence); after.snap.Watches == nil || len(after.snap.Watches) != 0 {
		t.Errorf("%+v", after.snap)
	}
	if _, err := k.Watch(wire.Filter{Status: "900"}); err == nil || !strings.Contains(err.Error(), "such as 503") {
		t.Errorf("a filter without sense: %v", err)
	}
	for range maxWatches {
		if _, err := k.Watch(wire.Filter{}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := k.Watch(wire.Filter{}); err == nil {
		t.Error("any number of people can watch")
	}
	for i := range keptTrouble + 10 {
		k.Saw(wire.Seen{Trouble: []wire.Record{{At: k.now.Add(time.Duration(i) * time.Second), Caller: "kiosk", Service: "berths", Version: "v1", Path: fmt.Sprint("/", i)}}})
	}
	if got := k.Trouble(wire.Filter{From: "kiosk", To: "berths"}, time.Time{}, 3); len(got) != 3 || got[0].Path != fmt.Sprint("/", keptTrouble+9) || got[2].Path != fmt.Sprint("/", keptTrouble+7) {
		t.Errorf("%+v", got)
	}
	if got := k.Trouble(wire.Filter{}, k.now.Add(100*time.Second), 3); len(got) != 3 || got[0].Path != "/99" {
		t.Errorf("%+v", got)
	}
	if got := k.Trouble(wire.Filter{Version: "v2"}, time.Time{}, 3); len(got) != 0 || len(k.feed.trouble.list) != keptTrouble {
		t.Errorf("%+v", got)
	}
}

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
			if err := k.writeTelemetry(t.Context()); err != nil {
				t.Fatal(err)
			}
			k.telemetry.Tidy(k.now)
		}
	}
	k.now = begin.Add(span * time.Second)
	check := func(seconds, end int64, want uint64) {
		t.Helper()
		m, err := k.View(t.Context(), seconds, end)
		if err != nil {
			t.Fatal(err)
		}
		f := m.Services[0].Figures
		if f.Requests != want || f.Sent != 5*want || f.App == nil || f.App.Requests != 2*want || !near(f.App.Success, 0.75) || m.Window != seconds {
			t.Errorf("%d s to %d: %+v, app %+v", seconds, end, f, f.App)
		}
	}
	check(span, 0, 2*span/every)
	check(60, 0, 24)
	check(600, begin.Unix()+1200, 240) // on disk alone
	check(2000, 0, 800)                // both
	line, err := k.Timeline(t.Context(), TimelineAsk{From: begin.Unix(), To: k.now.Unix(), Step: 100, Service: "s", Ladder: "s", Route: "all"})
	if err != nil || len(line.Points) != 36 || len(line.Marks) != 1 || line.Marks[0].Name != "1" {
		t.Fatalf("%d points, %+v, %v", len(line.Points), line.Marks, err)
	}
	for _, p := range line.Points {
		if p.OK != 40 || p.AppAll != 0 || p.P50MS == 0 { // the workload does not know its routes
			t.Errorf("%+v", p)
		}
	}
	if line, _ := k.Timeline(t.Context(), TimelineAsk{Service: "s", Caller: "kiosk"}); line.Step != 10 || line.Points[40].OK != 4 || line.Points[40].AppAll != 8 {
		t.Errorf("by itself: step %d, %+v", line.Step, line.Points[40])
	}
	if _, err := k.Timeline(t.Context(), TimelineAsk{From: 1, To: k.now.Unix(), Step: 1}); err == nil {
		t.Error("any number of points can be had")
	}
}
