package observe

import (
	"encoding/hex"
	"fmt"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/wire"
	"strings"
	"sync"
	"testing"
	"time"
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

// TestSpans: a traced request with a retry has a span for each try and each
// wait, and the workload's hangs on the try that it answered.
func TestSpans(t *testing.T) {
	var s Spans
	o := Observer{Proxy: "door-a", Caller: "door", Epoch: time.Now(), Spans: &s}
	x := retriedExchange(t)
	tr := Trace{id: traceID{1}, parent: spanID{2}, span: spanID{3}, Sampled: true, Own: true}
	second := tr.Field(1) // the first try was not sent: a drill let it fail
	o.keepSpans(&Request{View: view{}, Exchange: x, Result: Result{Status: 200, Took: 100 * time.Millisecond}}, &tr)
	list, lost := s.Take()
	if len(list) != 4 || lost != 0 {
		t.Fatalf("%+v", list)
	}
	var kinds []string
	for _, sp := range list {
		kinds = append(kinds, sp.Kind)
	}
	if got := strings.Join(kinds, " "); got != "request attempt backoff attempt" || list[0].Parent != "0200000000000000" || list[1].Parent != list[0].ID || strings.Contains(string(second[:]), list[1].ID) || list[1].ID == "0000000000000000" || !strings.Contains(string(second[:]), list[3].ID) {
		t.Errorf("%s: %+v", got, list)
	}
	if list[1].Outcome != "failed" || list[1].Status != 503 || list[3].Outcome != "ok" || list[0].Outcome != "ok" {
		t.Errorf("%+v", list)
	}
	for range maxSpans {
		s.add(list[0], list[1])
	}
	if list, lost := s.Take(); len(list) != maxSpans || lost != maxSpans {
		t.Errorf("%d spans kept, %d lost", len(list), lost)
	}
}

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

// view is a request without anything.
type view struct{ engine.Nobody }

func (view) Method() string { return "GET" }

func (view) Host() string { return "s" }

func (view) Path() string { return "/" }

func (view) Query() string { return "" }

func (view) Header(string) []string { return nil }

func (view) Caller() string { return "door" }

func (view) Site() string { return "" }

// TestRecorderCountsEveryRequestOnce, while the collector is at work.
func TestRecorderCountsEveryRequestOnce(t *testing.T) {
	r := NewRecorder(4, "")
	r.keep = 1 << 30 // the collector runs far faster here than once a second
	const workers, each = 8, 5000
	var work sync.WaitGroup
	for w := range workers {
		shard := r.Assign()
		work.Go(func() {
			for i := range each {
				status := 200 + 300*(i%2)
				shard.Served([]string{"kiosk", "front-door"}[(w+i)%2], false, &Result{Class: engine.Classify("", status), Status: status, Took: time.Millisecond, Received: 10})
			}
		})
	}
	finished := make(chan struct{})
	go func() { work.Wait(); close(finished) }()
	var ok, failed, latency, received uint64
	take := func() {
		list, _ := r.Collect(engine.Instance{ID: "a", Service: "s", Version: "v1"})
		if len(list) > 2 {
			t.Errorf("%d series: those of all shards belong together", len(list))
		}
		for _, s := range list {
			ok += s.Counts.OK
			failed += s.Counts.Failed
			received += s.Counts.Received
			for _, l := range s.Counts.Latency {
				latency += l.N
				if int(l.Bucket) != stats.Bucket(time.Millisecond) {
					t.Errorf("bucket %d", l.Bucket)
				}
			}
		}
	}
	for done := false; !done; {
		select {
		case <-finished:
			done = true
		default:
		}
		take()
	}
	if ok != workers*each/2 || failed != workers*each/2 || latency != workers*each || received != 10*workers*each {
		t.Errorf("ok %d, failed %d, latencies %d of %d", ok, failed, latency, workers*each)
	}
	r.keep = 2
	for range 4 {
		r.Collect(engine.Instance{})
	}
	for i := range r.shards {
		if n := r.shards[i].callers.used; n != 0 {
			t.Errorf("%d idle cells remain", n)
		}
	}
}

// BenchmarkRecord is what counting one request costs.
func BenchmarkRecord(b *testing.B) {
	r := NewRecorder(8, "caller")
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		shard := r.Assign()
		var x engine.Exchange
		r := Result{Class: engine.OK, Status: 200, Took: 1234 * time.Microsecond, Received: 1024}
		for pb.Next() {
			shard.Called(&x, 1, &r)
			shard.Served("kiosk", false, &r)
		}
	})
}

// callOf is a request that one of the instances answered.
func callOf(t *testing.T, table *engine.Table) *engine.Exchange {
	t.Helper()
	x := &engine.Exchange{}
	x.Begin(table, engine.Entry{}, view{}, 0)
	x.Next(engine.Outcome{Status: 200}, 0)
	return x
}

// tableOf is a service of one version with n instances.
func tableOf(t *testing.T, n int, previous *engine.Table) *engine.Table {
	t.Helper()
	rs, _ := rules.Check([]rules.File{{Name: "f.yaml", Text: "services: {s: {versions: [v1], routes: [{name: r, send: v1}]}}"}}, rules.Live{})
	var instances []engine.Instance
	for i := range n {
		instances = append(instances, engine.Instance{ID: fmt.Sprint("i", i), Service: "s", Version: "v1"})
	}
	table, err := engine.Compile(rs, instances, engine.Options{Previous: previous})
	if err != nil {
		t.Fatal(err)
	}
	return table
}

// TestOldRevisionsAreDropped: a publish a second, with 200 instances that are all
// called: what is kept stays that of a few revisions.
func TestOldRevisionsAreDropped(t *testing.T) {
	const instances = 200
	r := NewRecorder(1, "")
	s := r.Assign()
	var table *engine.Table
	most, total := 0, uint64(0)
	for revision := range uint(100) {
		table = tableOf(t, instances, table)
		for range instances {
			s.Called(callOf(t, table), revision+1, &Result{Class: engine.OK, Status: 200, Took: time.Millisecond})
		}
		list, _ := r.Collect(engine.Instance{})
		for _, series := range list {
			total += series.Counts.OK
		}
		most = max(most, s.calls.used)
	}
	if most > 4*instances || total != 100*instances || r.Others() != 0 {
		t.Errorf("%d series at once for %d instances; %d of %d requests counted", most, instances, total, 100*instances)
	}
}

// TestSeriesAreBounded: past the bound requests count by their service, and not one
// is lost.
func TestSeriesAreBounded(t *testing.T) {
	const instances = maxSeries + 500
	r := NewRecorder(1, "")
	s := r.Assign()
	table := tableOf(t, instances, nil)
	for range instances {
		s.Called(callOf(t, table), 1, &Result{Class: engine.OK, Status: 200})
	}
	for i := range 2 * maxCallers {
		s.Served(fmt.Sprint("caller", i), false, &Result{Class: engine.OK})
	}
	var total, other uint64
	list, _ := r.Collect(engine.Instance{})
	for _, series := range list {
		if series.App {
			continue
		}
		if total += series.Counts.OK; series.Version == wire.Other && series.Service == "s" && series.Instance == "" {
			other += series.Counts.OK
		}
	}
	if total != instances || other != 500 || r.Others() != 500+maxCallers || len(list) > maxSeries+1+maxCallers+1 {
		t.Errorf("%d requests counted, %d as other (%d told), in %d series", total, other, r.Others(), len(list))
	}
}

// TestCellsUnderWay: cells are added while others are dropped, and what is found is
// what was added.
func TestCellsUnderWay(t *testing.T) {
	var c cells[callerKey]
	var work sync.WaitGroup
	for w := range 4 {
		work.Go(func() {
			for i := range 2000 {
				k := callerKey{fmt.Sprint(w, "-", i%50), false}
				if c.add(k, 1<<20) == nil {
					t.Error("there is room, and no cell")
				}
			}
		})
	}
	for range 200 {
		c.visit(func(k callerKey, _ *Cell) bool { return !strings.HasPrefix(k.caller, "0-") })
	}
	work.Wait()
	n := 0
	c.visit(func(k callerKey, cell *Cell) bool {
		if n++; c.find(k) != cell {
			t.Errorf("%v is not found", k)
		}
		return true
	})
	if n != c.used || n < 150 {
		t.Errorf("%d cells, %d used", n, c.used)
	}
}
