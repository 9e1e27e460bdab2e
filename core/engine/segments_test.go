package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestTrail: what a request did with its time is there stretch by stretch, and
// the stretches lie one after the other.
func TestTrail(t *testing.T) {
	tell := func(x *Exchange) string {
		var parts []string
		last := time.Duration(0)
		for _, s := range x.Segments() {
			if s.Began < last || s.Ended < s.Began {
				t.Errorf("from %s to %s after %s", s.Began, s.Ended, last)
			}
			last = s.Ended
			part := fmt.Sprintf("%s %s", s.Kind, s.Ended-s.Began)
			switch {
			case s.Kind == SegmentBackOff: // of any length
				part = s.Kind.String()
			case s.Instance != nil:
				part += fmt.Sprintf(" at %s: %d%s", s.Instance.ID, s.Status, s.Reason)
			}
			parts = append(parts, part)
		}
		return strings.Join(parts, ", ")
	}
	two := []Instance{{ID: "a", Service: "s", Version: "v1"}, {ID: "b", Service: "s", Version: "v1"}}
	first := func(in *Instance, _ time.Duration) (Outcome, time.Duration) {
		if in.ID == "a" {
			return Outcome{Status: 503}, 30 * ms
		}
		return Outcome{Status: 200}, 20 * ms
	}
	var x Exchange
	retried := compile(t, guarded("    retry: {times: 2, budget: 100%}\n    routes: [{name: all, fault: {delay: 40ms}, send: v1}]\n"), nil, two...)
	for range 2 { // an exchange that is used again begins anew
		for got := ""; !strings.Contains(got, "at a"); got = tell(&x) {
			play(&x, retried, Entry{}, get("s", "/"), 0, first)
		}
		if got := tell(&x); got != "delay 40ms, attempt 30ms at a: 503, backoff, attempt 20ms at b: 200" {
			t.Errorf("got %s", got)
		}
	}
	play(&x, retried, Entry{}, get("s", "/"), 0, func(*Instance, time.Duration) (Outcome, time.Duration) { return Outcome{}, 10 * time.Second })
	if got := tell(&x); !strings.Contains(got, "attempt 1.96s at ") || !strings.HasSuffix(got, "0timeout") {
		t.Errorf("got %s", got)
	}

	// A second request waits in line until the first one has gone.
	narrow := compile(t, guarded("    guard: {in-flight: 1, waiting: 1, wait-at-most: 500ms}\n    routes: [{name: all, send: v1}]\n"), nil, two[0])
	var y Exchange
	woken := false
	if step := x.Begin(narrow, Entry{}, get("s", "/"), 0); step.Kind != Attempt {
		t.Fatalf("%+v", step)
	}
	if step := y.Begin(narrow, Entry{Wake: func() { woken = true }}, get("s", "/"), 10*ms); step.Kind != Wait {
		t.Fatalf("%+v", step)
	}
	x.Next(Outcome{Status: 200}, 50*ms)
	x.End(Finished, 50*ms)
	if step := y.Next(Outcome{}, 50*ms); !woken || step.Kind != Attempt {
		t.Fatalf("woken %v, then %+v", woken, step)
	}
	if got := y.Segments(); len(got) != 2 || got[1].Ended != 0 {
		t.Errorf("under way: %+v", got)
	}
	y.Next(Outcome{Status: 200}, 70*ms)
	y.End(Finished, 70*ms)
	if got := tell(&y); got != "queue 40ms, attempt 20ms at a: 200" {
		t.Errorf("got %s", got)
	}
}
