package control

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/problem"
	"nightjar/core/engine"
	"nightjar/wire"
)

func (k *clock) kinds(service string) string {
	k.t.Helper()
	list, err := k.Journal.List(k.t.Context(), model.ActivityFilter{Service: service, Limit: 50})
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
	if _, err := k.Fleet.Register(wire.Registration{ID: "s-1", Nonce: "n", Service: "s", Version: "v1", Site: "north", Inbound: "127.0.0.1:1"}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		request model.DrillRequest
		want    string
	}{
		{model.DrillRequest{Service: "s", Fail: "30%"}, "takes from 1s to 1h"},
		{model.DrillRequest{Service: "s", Fail: "30%", For: "2h"}, "takes from 1s to 1h"},
		{model.DrillRequest{Service: "s", For: "30s"}, "does nothing"},
		{model.DrillRequest{Fail: "1%", For: "30s"}, "would affect everything"},
		{model.DrillRequest{Version: "v1", Site: "north", Fail: "1%", For: "30s"}, "of which service"},
		{model.DrillRequest{Service: "s", Fail: "0%", For: "30s"}, "not a share above 0"},
		{model.DrillRequest{Service: "s", Fail: "3%", Status: 404, For: "30s"}, "from 500 to 599"},
		{model.DrillRequest{Service: "s", Delay: "soon", For: "30s"}, "is not a duration"},
		{model.DrillRequest{Service: "s", Down: true, Delay: "1s", For: "30s"}, "leave out fail and delay"},
		{model.DrillRequest{Service: "s", Down: true, When: "{path: /a}", For: "30s"}, "affects every request"},
		{model.DrillRequest{Service: "s", Fail: "3%", When: "{paht: /a}", For: "30s"}, "nearest: path"},
		{model.DrillRequest{Service: "r", Fail: "3%", For: "30s"}, "there is no service r"},
		{model.DrillRequest{Service: "s", Version: "v9", Fail: "3%", For: "30s"}, "no version v9"},
		{model.DrillRequest{Service: "s", Instance: "s-9", Fail: "3%", For: "30s"}, "no instance s-9"},
		{model.DrillRequest{Site: "nort", Down: true, For: "30s"}, "name north"},
	} {
		if _, err := k.Drills.Start(t.Context(), c.request); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %q", c.request, err, c.want)
		}
	}

	first, err := k.Drills.Start(as(t, "mate"), model.DrillRequest{Service: "s", Version: "v1", Fail: "30%", Delay: "2s", When: "{path: /a}", For: "30s"})
	if err != nil || first.ID != "drill-1" || !first.IsRunning || first.What != "every attempt is delayed by 2s, and 30% of the attempts fail with 503" {
		t.Fatalf("%+v, %v", first, err)
	}
	if _, err := k.Drills.Start(as(t, "mate"), model.DrillRequest{Site: "north", Down: true, For: "1h"}); err != nil {
		t.Fatal(err)
	}
	news, _ := k.Fleet.Next("s-1", k.Fleet.Sequence()-1)
	if d := snapshot(t, news).Drills; len(d) != 2 || d[0].Fail != 30_000 || d[0].ForMS != 30_000 || len(d[0].When) != 1 || !news.IsUrgent {
		t.Errorf("proxies are told %+v", d)
	}

	// The service ends in between: what runs, runs on.
	k.Journal.Write(t.Context())
	k.store.Close()
	again := reopen(t, dir)
	again.now = k.now
	if got := again.Drills.Running(); len(got) != 2 {
		t.Errorf("after a restart %+v", got)
	}
	if news, _ := again.Fleet.Next("s-1", 0); len(snapshot(t, news).Drills) != 2 {
		t.Error("after a restart proxies are not told of the drills")
	}
	again.now = k.now.Add(31 * time.Second)
	again.Drills.Expire(t.Context(), again.now)
	if got := again.Drills.Running(); len(got) != 1 || got[0].ID != "drill-2" {
		t.Errorf("after the end of the first %+v", got)
	}
	if _, err := again.Drills.Stop(as(t, "mate"), "drill-1"); err == nil {
		t.Error("what is over was stopped")
	}
	if d, err := again.Drills.Stop(as(t, "bosun"), "drill-2"); err != nil || d.IsRunning || d.Stopped == nil {
		t.Errorf("%+v, %v", d, err)
	}
	if news, _ := again.Fleet.Next("s-1", again.Fleet.Sequence()-1); snapshot(t, news).Drills == nil || len(snapshot(t, news).Drills) != 0 {
		t.Errorf("proxies are told %+v, want an empty list", snapshot(t, news).Drills)
	}
	if list, err := again.Drills.List(t.Context(), 10); err != nil || len(list) != 2 || list[0].ID != "drill-2" || list[1].Stopped != nil || list[1].IsRunning {
		t.Errorf("%+v, %v", list, err)
	}
	if got := again.kinds("s"); got != "bosun drill-ended, mate drill-ended, mate drill-started, mate drill-started, s-1 joined, mate publish" {
		t.Errorf("activity of s, with the drill on a site: %s", got)
	}
	if got := again.kinds(""); got != "bosun drill-ended, mate drill-ended, mate drill-started, mate drill-started, s-1 joined, mate publish" {
		t.Errorf("activity: %s", got)
	}
}

// TestReportedGuards: the guards of every caller are shown while they are
// fresh, and each of their events is in the log once.
func TestReportedGuards(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	k.register("kiosk-1", "kiosk", "v1")
	d := wire.Delta{Nonce: "n-kiosk-1", Sequence: 1, Caller: "kiosk", AgoMS: 2000,
		Status: []engine.Status{{Service: "s", Versions: []engine.VersionStatus{{Version: "v1", Breaker: &engine.BreakerStatus{State: "open"}}}}},
		Events: []engine.Event{{AgoMS: 500, Service: "s", Version: "v1", Kind: "breaker-open", Detail: "5 of 9"}}}
	k.Count("kiosk-1", d)
	k.Count("kiosk-1", d) // sent again after a lost answer
	callers := func() []model.GuardState {
		m, err := k.Views.Mesh(t.Context(), 10, 0, "")
		if err != nil {
			t.Fatal(err)
		}
		return m.Services[len(m.Services)-1].Guards
	}
	if c := callers(); len(c) != 1 || c[0].Proxy != "kiosk-1" || c[0].Caller != "kiosk" || c[0].Versions[0].Breaker.State != "open" {
		t.Errorf("callers %+v", c)
	}
	list, err := k.Journal.List(t.Context(), model.ActivityFilter{Service: "s", About: model.AboutGuards, Limit: 10})
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
	_, before := k.Fleet.Versions()
	for range 2 {
		if _, err := k.Fleet.Register(wire.Registration{ID: "kiosk-1", Nonce: "n-kiosk-1", Service: "kiosk", Version: "v1", Inbound: "127.0.0.1:1", Vitals: wire.Vitals{Down: "/well answered 500"}}); err != nil {
			t.Fatal(err)
		}
	}
	if in := k.Fleet.Instances(); !in[0].Down {
		t.Errorf("%+v", in)
	}
	if _, after := k.Fleet.Versions(); after != before+1 {
		t.Errorf("%d snapshots", after-before)
	}
	if got := k.kinds("kiosk"); got != "kiosk-1 down, kiosk-1 joined" {
		t.Errorf("activity: %s", got)
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
		_, err := k.Fleet.Register(wire.Registration{ID: "s-" + version, Nonce: "n", Service: "s", Version: version, Site: "north", Inbound: fmt.Sprintf("127.0.0.1:%d", i+1)})
		if err != nil {
			t.Fatal(err)
		}
	}
	kiosk := wire.Registration{ID: "kiosk-1", Nonce: "n", Service: "kiosk", Version: "v1", Site: "north", Outbound: "127.0.0.1:9"}
	if _, err := k.Fleet.Register(kiosk); err != nil {
		t.Fatal(err)
	}
	if _, _, err := k.Fleet.Attach("kiosk-1", "n"); err != nil { // it is where requests enter
		t.Fatal(err)
	}
	explain := func(url, from string) model.Explanation {
		t.Helper()
		e, err := k.Calls.Explain(model.RequestSpec{URL: url, From: from})
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	if e := explain("http://other/", "kiosk"); e.Refusal == nil || !strings.Contains(e.Refusal.Detail, "not among the services that the caller is declared to call") {
		t.Errorf("what kiosk may not call: %+v", e.Refusal)
	}
	if e := explain("http://other/", "s"); e.Refusal == nil || e.Refusal.Reason != string(engine.NoInstance) {
		t.Errorf("what s may call: %+v", e.Refusal)
	}
	if e := explain("http://s/", "kiosk"); len(e.Odds) != 1 || e.Odds[0].Version != "v1" {
		t.Errorf("from the site of kiosk: %+v", e.Odds)
	}
	if _, err := k.Drills.Start(t.Context(), model.DrillRequest{Service: "s", Version: "v1", Down: true, For: "30s"}); err != nil {
		t.Fatal(err)
	}
	if e := explain("http://s/", "kiosk"); len(e.Odds) != 1 || e.Odds[0].Version != "v2" {
		t.Errorf("while a drill takes v1 down: %+v", e.Odds)
	}
	if _, err := k.Drills.Start(t.Context(), model.DrillRequest{Service: "s", Version: "v2", Fail: "30%", For: "30s"}); err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(explain("http://s/", "kiosk").Settings, func(s model.Setting) bool { return s.Name == "drill" })
	if i < 0 {
		t.Error("a drill that lets attempts fail is not told of")
	}
	k.now = k.now.Add(31 * time.Second)
	if _, err := k.Fleet.Register(kiosk); err != nil {
		t.Fatal(err)
	}
	k.Drills.Expire(t.Context(), k.now)
	if e := explain("http://s/", "kiosk"); len(e.Odds) != 1 || e.Odds[0].Version != "v1" {
		t.Errorf("after the drill: %+v", e.Odds)
	}
}

// TestLetBack: proxies that have sidelined an instance are told to let it back, once, in a
// message of its own.
func TestLetBack(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	k.register("s-1", "s", "v1")
	k.register("kiosk-1", "kiosk", "v1")
	if _, _, err := k.Fleet.Attach("kiosk-1", "n-kiosk-1"); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Fleet.LetBack(as(t, "mate"), "s", "s-1"); !errors.As(err, new(problem.NotFound)) {
		t.Errorf("nobody has sidelined it: %v", err)
	}
	d := delta(1)
	d.Nonce, d.Status = "n-kiosk-1", []engine.Status{{Service: "s", Versions: []engine.VersionStatus{{Version: "v1", Sidelined: []engine.OutStatus{{Instance: "s-1"}}}}}}
	k.Count("kiosk-1", d)
	before := k.Fleet.Sequence()
	if n, err := k.Fleet.LetBack(as(t, "mate"), "s", "s-1"); err != nil || n != 1 {
		t.Fatalf("%d, %v", n, err)
	}
	update, _ := k.Fleet.Next("kiosk-1", before)
	if s := snapshot(t, update); len(s.LetBack) != 1 || s.LetBack[0].Instance != "s-1" || !s.Asides() || !update.IsUrgent {
		t.Errorf("it is told %s", update.Line())
	}
	k.Fleet.SetWatches([]wire.Watch{{ID: "1"}})
	update, _ = k.Fleet.Next("kiosk-1", before+1)
	if s := snapshot(t, update); s.LetBack != nil || !s.Asides() || len(update.Line()) > 200 {
		t.Errorf("then it is told %s", update.Line())
	}
	if update, _ := k.Fleet.Next("kiosk-1", 0); snapshot(t, update).LetBack != nil {
		t.Error("a proxy that begins anew is told too")
	}
	if got := k.kinds("s"); !strings.HasPrefix(got, "mate let-back") {
		t.Errorf("activity: %s", got)
	}
}
