package control

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/store"
	"nightjar/wire"
)

func (k *clock) kinds(service string) string {
	k.t.Helper()
	list, err := k.Activity(k.t.Context(), service, 0, 50)
	if err != nil {
		k.t.Fatal(err)
	}
	var out []string
	for _, a := range list {
		out = append(out, a.Who+" "+a.Kind)
	}
	return strings.Join(out, ", ")
}

func TestDrills(t *testing.T) {
	dir := t.TempDir()
	k := reopen(t, dir)
	k.now = time.Now()
	k.mustPublish(two)
	if _, err := k.Register(wire.Registration{ID: "s-1", Nonce: "n", Service: "s", Version: "v1", Site: "north", Inbound: "127.0.0.1:1"}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		ask  DrillAsk
		want string
	}{
		{DrillAsk{Service: "s", Fail: "30%"}, "for a time from 1s"},
		{DrillAsk{Service: "s", Fail: "30%", For: "2h"}, "for a time from 1s to 1h"},
		{DrillAsk{Service: "s", For: "30s"}, "does nothing"},
		{DrillAsk{Fail: "1%", For: "30s"}, "harm everything"},
		{DrillAsk{Version: "v1", Site: "north", Fail: "1%", For: "30s"}, "of which service"},
		{DrillAsk{Service: "s", Fail: "0%", For: "30s"}, "not a share above 0"},
		{DrillAsk{Service: "s", Fail: "3%", Status: 404, For: "30s"}, "from 500 to 599"},
		{DrillAsk{Service: "s", Delay: "soon", For: "30s"}, "not a time"},
		{DrillAsk{Service: "s", Down: true, Delay: "1s", For: "30s"}, "down alone"},
		{DrillAsk{Service: "s", Down: true, When: "{path: /a}", For: "30s"}, "whole instances"},
		{DrillAsk{Service: "s", Fail: "3%", When: "{paht: /a}", For: "30s"}, "nearest: path"},
		{DrillAsk{Service: "r", Fail: "3%", For: "30s"}, "there is no service r"},
		{DrillAsk{Service: "s", Version: "v9", Fail: "3%", For: "30s"}, "no version v9"},
		{DrillAsk{Service: "s", Instance: "s-9", Fail: "3%", For: "30s"}, "no instance s-9"},
		{DrillAsk{Site: "nort", Down: true, For: "30s"}, "name north"},
	} {
		if _, err := k.StartDrill(t.Context(), c.ask); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %q", c.ask, err, c.want)
		}
	}

	first, err := k.StartDrill(t.Context(), DrillAsk{Service: "s", Version: "v1", Fail: "30%", Delay: "2s", When: "{path: /a}", For: "30s", By: "mate"})
	if err != nil || first.ID != "drill-1" || !first.Running || first.What != "every try is 2s late, and 30% of the tries fail with 503" {
		t.Fatalf("%+v, %v", first, err)
	}
	if _, err := k.StartDrill(t.Context(), DrillAsk{Site: "north", Down: true, For: "1h", By: "mate"}); err != nil {
		t.Fatal(err)
	}
	news, _ := k.News("s-1", k.ledger.sequence-1)
	if d := news.snap.Drills; len(d) != 2 || d[0].Fail != 30_000 || d[0].ForMS != 30_000 || len(d[0].When) != 1 || !news.Urgent {
		t.Errorf("proxies are told %+v", d)
	}

	// The service ends in between: what runs, runs on.
	k.writeJournal(t.Context())
	k.store.Close()
	again := reopen(t, dir)
	again.now = k.now
	if got := again.runningDrills(); len(got) != 2 {
		t.Errorf("after a restart %+v", got)
	}
	if news, _ := again.News("s-1", 0); len(news.snap.Drills) != 2 {
		t.Error("after a restart proxies are not told of the drills")
	}
	again.now = k.now.Add(31 * time.Second)
	again.endDrills(again.now)
	if got := again.runningDrills(); len(got) != 1 || got[0].ID != "drill-2" {
		t.Errorf("after the end of the first %+v", got)
	}
	if _, err := again.StopDrill(t.Context(), "drill-1", "mate"); err == nil {
		t.Error("what is over was stopped")
	}
	if d, err := again.StopDrill(t.Context(), "drill-2", "bosun"); err != nil || d.Running || d.Stopped == nil {
		t.Errorf("%+v, %v", d, err)
	}
	if news, _ := again.News("s-1", again.ledger.sequence-1); news.snap.Drills == nil || len(news.snap.Drills) != 0 {
		t.Errorf("proxies are told %+v, want an empty list", news.snap.Drills)
	}
	if list, err := again.Drills(t.Context(), 10); err != nil || len(list) != 2 || list[0].ID != "drill-2" || list[1].Stopped != nil || list[1].Running {
		t.Errorf("%+v, %v", list, err)
	}
	if got := again.kinds("s"); got != "bosun drill-ended, mate drill-ended, mate drill-began, mate drill-began" {
		t.Errorf("activity of s, with the drill on a site: %s", got)
	}
	if got := again.kinds(""); got != "bosun drill-ended, mate drill-ended, mate drill-began, mate drill-began, mate publish" {
		t.Errorf("activity: %s", got)
	}
}

// TestWhatProxiesSee: the guards of every caller are shown while they are
// fresh, and what they saw is in the log once.
func TestWhatProxiesSee(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	k.register("kiosk-1", "kiosk", "v1")
	d := wire.Delta{Nonce: "n-kiosk-1", Sequence: 1, Caller: "kiosk", AgoMS: 2000,
		Status: []engine.Status{{Service: "s", Versions: []engine.VersionStatus{{Version: "v1", Breaker: &engine.BreakerStatus{State: "open"}}}}},
		Events: []engine.Event{{AgoMS: 500, Service: "s", Version: "v1", Kind: "breaker-open", Detail: "5 of 9"}}}
	k.Count("kiosk-1", d)
	k.Count("kiosk-1", d) // sent again after a lost answer
	callers := func() []Caller {
		m, err := k.View(t.Context(), 10, 0)
		if err != nil {
			t.Fatal(err)
		}
		return m.Services[len(m.Services)-1].Callers
	}
	if c := callers(); len(c) != 1 || c[0].Proxy != "kiosk-1" || c[0].Caller != "kiosk" || c[0].Versions[0].Breaker.State != "open" {
		t.Errorf("callers %+v", c)
	}
	list, err := k.Activity(t.Context(), "s", 0, 10)
	if err != nil || len(list) != 1 || list[0].Who != "kiosk-1" || list[0].Detail != "5 of 9" || !list[0].At.Equal(k.now.Add(-2500*time.Millisecond)) {
		t.Errorf("activity %+v, %v", list, err)
	}
	k.now = k.now.Add(10 * time.Second)
	k.Count("kiosk-1", wire.Delta{Nonce: "n-kiosk-1", Sequence: 2}) // nothing new of the guards
	if len(callers()) != 1 {
		t.Error("what did not change was forgotten")
	}
	k.now = k.now.Add(6 * time.Second)
	if c := callers(); len(c) != 0 {
		t.Errorf("old news are shown: %+v", c)
	}
	// A workload that is unhealthy is told to all, once.
	before := k.ledger.peersSeq
	for range 2 {
		if _, err := k.Register(wire.Registration{ID: "kiosk-1", Nonce: "n-kiosk-1", Service: "kiosk", Version: "v1", Inbound: "127.0.0.1:1", Vitals: wire.Vitals{Down: "/well answered 500"}}); err != nil {
			t.Fatal(err)
		}
	}
	if in := k.instances(); !in[0].Down || k.ledger.peersSeq != before+1 {
		t.Errorf("%+v, %d snapshots", in, k.ledger.peersSeq-before)
	}
	if got := k.kinds("kiosk"); got != "kiosk-1 down" {
		t.Errorf("activity: %s", got)
	}
}

// TestTheLogIsPaged and bounded in what waits to be written.
func TestTheLogIsPaged(t *testing.T) {
	k := newClock(t)
	for i := range maxPending + 10 {
		k.happened(store.Activity{At: k.now, Who: "w", Kind: "k", Service: "s", Detail: fmt.Sprint(i)})
	}
	newest, err := k.Activity(t.Context(), "s", 0, 3)
	if err != nil || len(newest) != 3 || newest[0].Detail != fmt.Sprint(maxPending+9) {
		t.Fatalf("%+v, %v", newest, err)
	}
	next, err := k.Activity(t.Context(), "", newest[2].Number, 3)
	if err != nil || next[0].Detail != fmt.Sprint(maxPending+6) {
		t.Errorf("%+v, %v", next, err)
	}
	if oldest, _ := k.Activity(t.Context(), "", 2, 3); len(oldest) != 1 || oldest[0].Detail != "10" {
		t.Errorf("the oldest is %+v", oldest)
	}
}

// TestExplainedAsTheCallerSeesIt: an explanation knows what the caller's own proxies
// follow: the services that it may call, its site, and the drills that run.
func TestExplainedAsTheCallerSeesIt(t *testing.T) {
	k := newClock(t)
	k.mustPublish(`sites: [north, south]
services:
  kiosk: {versions: [v1], calls: [s]}
  other: {versions: [v1]}
  s:
    versions: [v1, v2]
    routes:
      - {name: near, when: {site: north}, send: v1, otherwise: v2}
      - {name: far, send: v2}
`)
	for i, version := range []string{"v1", "v2"} {
		_, err := k.Register(wire.Registration{ID: "s-" + version, Nonce: "n", Service: "s", Version: version, Site: "north", Inbound: fmt.Sprintf("127.0.0.1:%d", i+1)})
		if err != nil {
			t.Fatal(err)
		}
	}
	_, err := k.Register(wire.Registration{ID: "kiosk-1", Nonce: "n", Service: "kiosk", Version: "v1", Site: "north", Outbound: "127.0.0.1:9"})
	if err != nil {
		t.Fatal(err)
	}
	k.members["kiosk-1"].streams = 1 // its proxy follows, so that it is where requests enter
	explain := func(url, from string) engine.Explanation {
		t.Helper()
		e, err := k.Explain(Ask{URL: url, From: from})
		if err != nil {
			t.Fatal(err)
		}
		return e.Explanation
	}
	if e := explain("http://other/", "kiosk"); e.Refusal == nil || !strings.Contains(e.Refusal.Detail, "not among the services that the caller is declared to call") {
		t.Errorf("what kiosk may not call: %+v", e.Refusal)
	}
	if e := explain("http://other/", "s"); e.Refusal == nil || e.Refusal.Reason != engine.NoInstance {
		t.Errorf("what s may call: %+v", e.Refusal)
	}
	if e := explain("http://s/", "kiosk"); len(e.Odds) != 1 || e.Odds[0].Version != "v1" {
		t.Errorf("from the site of kiosk: %+v", e.Odds)
	}
	if _, err := k.StartDrill(t.Context(), DrillAsk{Service: "s", Version: "v1", Down: true, For: "30s"}); err != nil {
		t.Fatal(err)
	}
	if e := explain("http://s/", "kiosk"); len(e.Odds) != 1 || e.Odds[0].Version != "v2" {
		t.Errorf("while a drill takes v1 down: %+v", e.Odds)
	}
	if _, err := k.StartDrill(t.Context(), DrillAsk{Service: "s", Version: "v2", Fail: "30%", For: "30s"}); err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(explain("http://s/", "kiosk").Settings, func(s engine.Setting) bool { return s.Name == "drill" })
	if i < 0 {
		t.Error("a drill that lets attempts fail is not told of")
	}
	k.now = k.now.Add(31 * time.Second)
	k.members["kiosk-1"].expires = k.now.Add(time.Minute)
	k.endDrills(k.now)
	if e := explain("http://s/", "kiosk"); len(e.Odds) != 1 || e.Odds[0].Version != "v1" {
		t.Errorf("after the drill: %+v", e.Odds)
	}
}
