package feed

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/traces"
	"nightjar/wire"
)

// proxies remembers the watches that it was given last.
type proxies struct{ watches []wire.Watch }

func (p *proxies) SetWatches(list []wire.Watch)  { p.watches = list }
func (p *proxies) AddSpanSites(list []wire.Span) {}

// TestWatching: proxies get the filter, records go to whoever watches, and those
// that find no room are counted; at the end proxies get an empty list.
func TestWatching(t *testing.T) {
	fleet := &proxies{}
	f := New(fleet, traces.New(), time.Now)
	w, err := f.Watch(wire.Filter{To: "berths"})
	if err != nil {
		t.Fatal(err)
	}
	if len(fleet.watches) != 1 || fleet.watches[0].To != "berths" {
		t.Fatalf("%+v", fleet.watches)
	}
	var many []wire.Record
	for i := range maxQueued + 5 {
		many = append(many, wire.Record{Path: fmt.Sprint("/", i)})
	}
	f.Report(wire.Seen{Watches: []wire.Batch{{Watch: fleet.watches[0].ID, Records: many, Dropped: 2}, {Watch: "ghost", Records: many}}})
	if n := len(w.Records); n != maxQueued || (<-w.Records).Path != "/0" || w.Dropped() != 7 || w.Dropped() != 0 {
		t.Errorf("%d records wait", n)
	}
	w.End()
	w.End()
	if fleet.watches == nil || len(fleet.watches) != 0 {
		t.Errorf("after the end proxies have %+v, want an empty list", fleet.watches)
	}
	if _, err := f.Watch(wire.Filter{Status: "900"}); err == nil || !strings.Contains(err.Error(), "such as 503") {
		t.Errorf("a filter that matches nothing: %v", err)
	}
	for range maxWatches {
		if _, err := f.Watch(wire.Filter{}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.Watch(wire.Filter{}); err == nil {
		t.Error("any number of people can watch")
	}
}

// TestFailures: the latest failures are kept, newest first.
func TestFailures(t *testing.T) {
	now := time.Now()
	f := New(&proxies{}, traces.New(), time.Now)
	for i := range keptFailures + 10 {
		f.Report(wire.Seen{Failures: []wire.Record{{At: now.Add(time.Duration(i) * time.Second), Caller: "kiosk", Service: "berths", Version: "v1", Path: fmt.Sprint("/", i)}}})
	}
	if got := f.Failures(wire.Filter{From: "kiosk", To: "berths"}, time.Time{}, 3); len(got) != 3 || got[0].Path != fmt.Sprint("/", keptFailures+9) || got[2].Path != fmt.Sprint("/", keptFailures+7) {
		t.Errorf("%+v", got)
	}
	if got := f.Failures(wire.Filter{}, now.Add(100*time.Second), 3); len(got) != 3 || got[0].Path != "/99" {
		t.Errorf("%+v", got)
	}
	if got := f.Failures(wire.Filter{Version: "v2"}, time.Time{}, 3); len(got) != 0 || len(f.failures.list) != keptFailures {
		t.Errorf("%+v", got)
	}
}
