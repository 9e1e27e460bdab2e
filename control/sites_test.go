package control

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/traces"
	"nightjar/wire"
)

// TestWhatHappensAtASite: each view tells the sites apart, those of callers and those of
// instances, whatever proxies say of other instances' sites.
func TestWhatHappensAtASite(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	for id, site := range map[string]string{"kiosk-1": "south", "s-1": "north", "s-2": "south"} {
		service, _, _ := strings.Cut(id, "-")
		r := wire.Registration{ID: id, Nonce: "n", Service: service, Version: "v1", Site: site, Inbound: "127.0.0.1:1"}
		if _, err := k.Fleet.Register(r); err != nil {
			t.Fatal(err)
		}
	}
	seq := uint64(0)
	count := func(revision uint, instance string, ok, failed uint64, events ...engine.Event) {
		seq++
		version := "v1"
		if instance == "" {
			version = ""
		}
		d := delta(seq, wire.Series{
			Revision: revision, Service: "s", Version: version, Instance: instance, RouteOf: "s", Route: "all", Site: "west",
			Counts: stats.Counts{OK: ok, Failed: failed, Tries: ok + failed},
		})
		d.CallerSite, d.Events = "south", events
		k.Count("kiosk-1", d)
	}
	opened := func(instance string) engine.Event {
		return engine.Event{Kind: "sidelined", Service: "s", Version: "v1", Instance: instance}
	}
	k.now = k.now.Add(2 * time.Second)
	count(1, "s-1", 90, 10, opened("s-1"))
	count(1, "s-2", 50, 0, opened(""))
	count(1, "", 0, 5)
	k.now = k.now.Add(2 * time.Second)

	m, err := k.Views.Mesh(t.Context(), 10, 0, "")
	if err != nil || len(m.Links) != 1 {
		t.Fatalf("%+v, %v", m.Links, err)
	}
	want := []model.LinkSites{
		{From: "south", Requests: 5, Bad: 5},
		{From: "south", To: "north", Version: "v1", Requests: 100, Bad: 10},
		{From: "south", To: "south", Version: "v1", Requests: 50},
	}
	if got := m.Links[0].Sites; !slices.Equal(got, want) {
		t.Errorf("between sites: %+v", got)
	}

	k.now = k.now.Add(10 * time.Second)
	k.mustPublish(strings.Replace(two, "v1: 80, v2: 20", "v1: 100, v2: 0", 1))
	k.now = k.now.Add(2 * time.Second)
	count(2, "s-1", 100, 0)
	k.now = k.now.Add(2 * time.Second)
	for site, change := range map[string]string{"": "155 → 100", "south": "155 → 100", "north": "100 → 100", "west": ""} {
		e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Site: site})
		got := ""
		if whole := e.Whole(); whole != nil {
			got = fmt.Sprintf("%d → %d", whole.Before.Requests, whole.After.Requests)
		}
		if got != change || e.Site != site || err != nil {
			t.Errorf("effect at %q: %q, want %q (%q, %v)", site, got, change, e.Site, err)
		}
	}

	span := func(id, kind, proxy, instance string) wire.Span {
		return wire.Span{Trace: "aa", ID: id, Kind: kind, Proxy: proxy, Service: "s", Instance: instance, Outcome: "ok", Site: "west"}
	}
	k.Feed.Report(wire.Seen{Spans: []wire.Span{
		span("1", model.SpanRequest, "kiosk-1", "s-1"), span("2", model.SegmentAttempt, "kiosk-1", "s-1"), span("3", model.SpanWorkload, "stranger", "s-1"),
	}})
	for site, n := range map[string]int{"": 1, "south": 1, "north": 1, "west": 0} {
		if list, _ := k.Traces.List(traces.Filter{Site: site}, 10); len(list) != n || n > 0 && fmt.Sprint(list[0].Sites) != "[south north]" {
			t.Errorf("traces at %q: %+v", site, list)
		}
	}

	for site, want := range map[string]string{"north": "sidelined s-1, joined s-1", "south": "sidelined , joined kiosk-1, joined s-2", "west": ""} {
		list, err := k.Journal.List(t.Context(), model.ActivityFilter{Site: site, Limit: 20})
		var got []string
		for _, a := range list {
			got = append(got, a.Kind+" "+a.Instance)
		}
		if slices.Sort(got[min(1, len(got)):]); strings.Join(got, ", ") != want || err != nil {
			t.Errorf("activity at %q: %q, want %q, %v", site, got, want, err)
		}
	}
}
