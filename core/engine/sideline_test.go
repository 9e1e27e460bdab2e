package engine

import (
	"slices"
	"testing"
	"time"
)

// TestSidelineInTheWay: one of three answers 503 and is left alone; the trial
// decides; with most: 100% the last one goes too, and otherwise takes over.
func TestSidelineInTheWay(t *testing.T) {
	table := compile(t, guarded("    guard: {sideline: {after: 2, for: 10s}}\n    routes: [{name: all, send: v1}]\n"), nil, crowd("s/v1", "s/v1", "s/v1")...)
	ill := true
	serve := func(in *Instance, now time.Duration) (Outcome, time.Duration) {
		if ill && in.ID == "s-v1-1" {
			return Outcome{Status: 503}, 0
		}
		return Outcome{Status: 200}, 0
	}
	var failed []time.Duration
	for now := time.Duration(0); now < 170*time.Second; now += 100 * ms {
		if now == 100*time.Second {
			ill = false
		}
		var x Exchange
		if last, _, _ := play(&x, table, Entry{}, get("s", "/"), now, serve); last.Status != 200 {
			failed = append(failed, now)
		}
	}
	if len(failed) != 5 {
		t.Fatalf("failed at %v", failed)
	}
	for i, out := range []time.Duration{10 * time.Second, 20 * time.Second, 40 * time.Second} {
		if gap := failed[i+2] - failed[i+1]; gap < out || gap > out+400*ms {
			t.Errorf("a trial after %v, want after %v", gap, out)
		}
	}
	if c := table.version("s", "v1").peers[1]; c.IsOut() {
		t.Error("it is well again and still out")
	}
	for i := range 30 { // every other request to it fails: never two in a row
		var x Exchange
		play(&x, table, Entry{}, get("s", "/"), 300*time.Second, status(200+i/3%2*303))
	}
	for _, s := range table.Status(300 * time.Second) {
		t.Errorf("sidelined without two failures in a row: %+v", s.Versions)
	}

	// An answer that breaks off counts where the rules count what is reset.
	for counts, out := range map[string]bool{"[5xx]": true, "[reset]": true, "[unreachable]": false} {
		table := compile(t, guarded("    guard: {sideline: {after: 1, most: 100%, counts: "+counts+"}}\n    routes: [{name: all, send: v1}]\n"), nil, crowd("s/v1")...)
		var x Exchange
		x.Begin(table, Entry{}, get("s", "/"), 0)
		x.Next(Outcome{Status: 200}, 0)
		x.End(Broken, 0)
		if table.version("s", "v1").peers[0].IsOut() != out {
			t.Errorf("counts %s: sidelined %t", counts, !out)
		}
	}

	table = compile(t, guarded("    guard: {sideline: {after: 1, for: 10s, most: 100%}}\n    routes: [{name: all, send: v1, otherwise: v2}]\n"), nil, crowd("s/v1", "s/v2")...)
	var x Exchange
	play(&x, table, Entry{}, get("s", "/"), 0, status(500))
	if _, _, tried := play(&x, table, Entry{}, get("s", "/"), time.Second, status(200)); x.Version() != "v2" {
		t.Errorf("without a usable instance it goes to %v", tried)
	}
	if _, _, tried := play(&x, table, Entry{}, get("s", "/"), 11*time.Second, status(200)); x.Version() != "v1" {
		t.Errorf("the trial goes to %v", tried)
	}
}

// TestLetBack: an instance that is sidelined takes requests at once when a person lets it
// back, ramps up like one that recovered, and is sidelined anew when it fails again.
func TestLetBack(t *testing.T) {
	table := compile(t, guarded("    guard: {sideline: {after: 2, for: 10s, most: 100%}}\n    routes: [{name: all, send: v1}]\n"), nil, crowd("s/v1", "s/v1")...)
	ill := true
	serve := func(in *Instance, _ time.Duration) (Outcome, time.Duration) {
		if ill && in.ID == "s-v1-1" {
			return Outcome{Status: 503}, 0
		}
		return Outcome{Status: 200}, 0
	}
	run := func(from, to time.Duration) (n int) {
		for now := from; now < to; now += 10 * ms {
			var x Exchange
			if _, _, in := play(&x, table, Entry{}, get("s", "/"), now, serve); slices.Contains(in, "s-v1-1") {
				n++
			}
		}
		return n
	}
	out := func() bool { return table.version("s", "v1").peers[1].IsOut() }
	if run(0, time.Second); !out() {
		t.Fatal("it is not sidelined")
	}
	ill = false
	if n := run(time.Second, 2*time.Second); n != 0 {
		t.Errorf("%d requests before its time", n)
	}
	table.LetBack("s", "nobody", 2*time.Second)
	table.LetBack("nobody", "s-v1-1", 2*time.Second)
	if !out() {
		t.Error("another one was let back")
	}
	table.LetBack("s", "s-v1-1", 2*time.Second)
	if n := run(2*time.Second, 13*time.Second); out() || n < 100 {
		t.Errorf("let back, it is out: %t, and got %d requests", out(), n)
	}
	ill = true
	if run(13*time.Second, 14*time.Second); !out() {
		t.Error("it fails again, and takes requests")
	}
	var nobody *Table
	nobody.LetBack("s", "s-v1-1", 0)
}
