package effect

import (
	"math"
	"strings"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/stats"
)

// requests makes a group of requests of which so many are ok, fail, and are refused
// because of a limit, that all took so long.
func requests(ok, failed, limited uint64, took time.Duration) *stats.Counts {
	c := &stats.Counts{OK: ok, Failed: failed, Refused: limited, FirstOK: ok, Tries: ok + failed}
	n, _ := engine.Limited.Number()
	c.Reasons[n] = limited
	for i := range ok + failed + limited { // some spread, as always
		c.Observe(took + time.Duration(i%20)*took/100)
	}
	return c
}

func TestCompare(t *testing.T) {
	var before, after Tally
	before.Seconds, after.Seconds = 10, 20
	names := Names{Caller: "kiosk", RouteOf: "sailings", Route: "timetable", Service: "sailings", Version: "v1"}
	before.Add(names, requests(700, 300, 0, 10*time.Millisecond))
	retried := requests(970, 30, 0, 12*time.Millisecond)
	retried.FirstOK, retried.Tries = 700, 1390
	after.Add(names, retried)
	names.Version = "v2"
	before.Add(names, requests(200, 0, 0, 10*time.Millisecond))
	after.Add(names, requests(150, 0, 50, 10*time.Millisecond))
	quiet := Names{Caller: "door", Gate: "tides", Service: "tides", Version: "v1"}
	before.Add(quiet, requests(10, 0, 0, time.Millisecond))
	after.Add(quiet, requests(0, 10, 0, time.Millisecond))
	gone := Names{Caller: "door", Gate: "old", Service: "berths"}
	before.Add(gone, requests(100, 0, 0, time.Millisecond))

	rows := Compare(&before, &after, func(route string) []Target {
		if route == "sailings/timetable" {
			return []Target{{"sailings/v1", 0.95}, {"sailings/v2", 0.05}}
		}
		return nil
	})
	at := map[string]*Row{}
	for i := range rows {
		at[string(rows[i].Kind)+" "+rows[i].Name] = &rows[i]
	}
	v1, v2, tides := at["version sailings/v1"], at["version sailings/v2"], at["version tides/v1"]
	if v1.Verdict != Better || math.Abs(*v1.Success.Change-0.27) > 1e-9 || *v1.Success.Low < 0.23 || *v1.Success.High > 0.31 || v1.FirstTry.Verdict != NoChange || math.Abs(*v1.Load.After-1.39) > 1e-9 {
		t.Errorf("what a retry does: %+v", v1)
	}
	if v1.P95MS.Verdict != Slower || v1.After.RPS != 50 || v1.Before.RPS != 100 {
		t.Errorf("p95 20%% longer: %+v, %v", v1.P95MS, v1.After)
	}
	if v2.Verdict != Worse || len(v2.Reasons) != 1 || v2.Reasons[0].Reason != "limited" || v2.Reasons[0].After != 50 || v2.Reasons[0].Share.Verdict != Worse {
		t.Errorf("what a limit does: %+v", v2)
	}
	if tides.Verdict != TooFew || tides.P95MS.Verdict != TooFew || tides.Success.Change == nil || *tides.Success.Change != -1 {
		t.Errorf("ten requests: %+v", tides)
	}
	if g := at["link door > berths"]; g.Verdict != TooFew || g.Success.After != nil || g.P50MS.Before == nil || g.P50MS.After != nil {
		t.Errorf("requests that ceased: %+v", g)
	}
	route := at["route sailings/timetable"]
	if len(route.Shares) != 2 || route.Shares[1].Requests != 200 || math.Abs(route.Shares[1].Observed-1.0/6) > 1e-9 || route.ShareP == nil || *route.ShareP > OffShare {
		t.Errorf("one in six where one in twenty was intended: %+v", route)
	}
	if at["route door/tides"] == nil || at["caller kiosk"] == nil || at["service sailings"] == nil || at["route door/tides"].Shares != nil {
		t.Error("a row is missing")
	}
	if rows[0].Kind != Mesh || rows[1].Verdict != Worse || rows[1].Name != "sailings/v2" {
		t.Errorf("the order begins with %s %s, %s %s", rows[0].Kind, rows[0].Name, rows[1].Kind, rows[1].Name)
	}
	for i := 2; i < len(rows); i++ {
		if rows[i].rank() < rows[i-1].rank() {
			t.Errorf("%s %s (%s) comes after %s %s (%s)", rows[i].Kind, rows[i].Name, rows[i].Verdict, rows[i-1].Kind, rows[i-1].Name, rows[i-1].Verdict)
		}
	}
}

func TestJoin(t *testing.T) {
	var a, b, both Tally
	x, y := Names{Caller: "c", RouteOf: "s", Route: "r", Service: "s", Version: "v1"}, Names{Caller: "c", RouteOf: "s", Route: "r", Service: "s", Version: "v2"}
	a.Add(x, requests(5, 1, 0, time.Millisecond))
	b.Add(x, requests(2, 0, 7, time.Millisecond))
	b.Add(y, requests(3, 0, 1, time.Millisecond))
	both.Add(x, requests(5, 1, 0, time.Millisecond))
	both.Add(x, requests(2, 0, 7, time.Millisecond))
	both.Add(y, requests(3, 0, 1, time.Millisecond))
	var joined Tally
	joined.Join(&a)
	joined.Join(&b)
	for k, c := range both.groups {
		if j := joined.groups[k]; j == nil || j.Requests() != c.Requests() || j.Refused != c.Refused || len(j.Latency) != len(c.Latency) {
			t.Errorf("%v: %+v, want %+v", k, j, c)
		}
	}
	if joined.targets["s/r"]["s/v1"] != 15 || joined.targets["s/r"]["s/v2"] != 4 {
		t.Errorf("targets %v", joined.targets)
	}
	if reason, link := joined.MostRefused(); reason != "limited" || link != "c > s" {
		t.Errorf("most refused: %q on %q", reason, link)
	}
	if a.Whole().Requests() != 6 {
		t.Error("joining changed what was joined")
	}
}

// TestTheCulpritIsNamed: a version, route or caller that is new after a change is compared
// with the one that it took its requests from, and comes first when it is to blame.
func TestTheCulpritIsNamed(t *testing.T) {
	var before, after Tally
	v1 := Names{Caller: "kiosk", RouteOf: "sailings", Route: "all", Service: "sailings", Version: "v1"}
	v2, crew, tides := v1, v1, Names{Caller: "kiosk", RouteOf: "tides", Route: "all", Service: "tides", Version: "v1"}
	v2.Version, crew.Route = "v2", "crew"
	before.Add(v1, requests(1998, 2, 0, 10*time.Millisecond))
	before.Add(tides, requests(1900, 100, 0, time.Millisecond)) // bad before and after
	after.Add(v1, requests(998, 2, 0, 10*time.Millisecond))
	after.Add(v2, requests(691, 178, 0, 30*time.Millisecond))
	after.Add(crew, requests(200, 0, 0, 10*time.Millisecond))
	after.Add(tides, requests(1900, 100, 0, time.Millisecond))
	rows := Compare(&before, &after, nil)
	if r := rows[1]; r.Kind != Version || r.Name != "sailings/v2" || r.Against != "sailings/v1" || r.Verdict != Worse || r.Before.Requests != 0 || r.After.Requests != 869 || !r.latencyIs(Slower) {
		t.Errorf("the worst row is %s %s against %q: %s, %+v", r.Kind, r.Name, r.Against, r.Verdict, r.Before)
	}
	for _, r := range rows {
		want := map[string]string{"sailings/v2": "sailings/v1", "sailings/crew": "sailings/all"}[r.Name]
		if r.Against != want {
			t.Errorf("%s %s is compared with %q, want %q", r.Kind, r.Name, r.Against, want)
		}
		if r.Name == "sailings/crew" && r.Verdict != NoChange {
			t.Errorf("a new route that is well: %s", r.Verdict)
		}
	}
	// What nobody lost requests to has nothing to be compared with.
	var quiet Tally
	quiet.Add(tides, requests(100, 0, 0, time.Millisecond))
	for _, r := range Compare(&quiet, &after, nil) {
		if r.Kind == Service && r.Name == "sailings" && (r.Against != "" || r.Verdict != TooFew) {
			t.Errorf("a new service: %+v", r)
		}
	}
}

// TestNewCallersAreNotTheOldOnes: requests that a new caller adds were not taken from
// another one, and are not compared with its; those that moved are.
func TestNewCallersAreNotTheOldOnes(t *testing.T) {
	call := func(caller string) Names {
		return Names{Caller: caller, RouteOf: "berths", Route: "all", Service: "berths", Version: "v1"}
	}
	for _, c := range []struct {
		left    uint64 // requests of the caller that was there before, in ten times the seconds
		had     uint64 // requests of the other one before
		gets    uint64 // and after, in ten times the seconds
		against string
	}{
		{10_000, 0, 5000, ""},
		{9_000, 0, 5000, ""},
		{4_000, 0, 5000, "sailings > berths"},
		{9_800, 0, 200, ""},  // as much less as may be by chance
		{4_000, 20, 200, ""}, // few requests, as before
	} {
		before, after := Tally{Seconds: 10}, Tally{Seconds: 100}
		before.Add(call("sailings"), requests(1000, 0, 0, time.Millisecond))
		before.Add(call("kiosk"), requests(0, c.had, 0, time.Millisecond))
		after.Add(call("sailings"), requests(c.left, 0, 0, time.Millisecond))
		after.Add(call("kiosk"), requests(0, c.gets, 0, time.Millisecond))
		for _, r := range Compare(&before, &after, nil) {
			if r.Name != "kiosk > berths" && r.Name != "kiosk" {
				continue
			}
			want, verdict := c.against, TooFew
			if want != "" {
				verdict = Worse
			}
			if r.Kind == Caller {
				want = strings.TrimSuffix(want, " > berths")
			}
			if r.Against != want || r.Verdict != verdict {
				t.Errorf("%+v: %s against %q is %s, want %q and %s", c, r.Name, r.Against, r.Verdict, want, verdict)
			}
		}
	}
}
