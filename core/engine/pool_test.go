package engine

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"nightjar/core/rules"
)

// share counts where n requests go, 10 ms apart.
func share(t *testing.T, table *Table, n int, from time.Duration, v func(i int) *ask) map[string]int {
	t.Helper()
	got := map[string]int{}
	for i := range n {
		var x Exchange
		s := x.Begin(table, Entry{}, v(i), from+time.Duration(i)*10*ms)
		if s.Kind != Attempt {
			got[string(s.Reason)]++
		} else {
			got[s.Instance.ID]++
		}
		x.Next(Outcome{Status: 200}, from)
		x.End(Finished, from)
	}
	return got
}

func anyone(int) *ask { return get("s", "/") }

func TestBalance(t *testing.T) {
	three := crowd("s/v1", "s/v1", "s/v1")
	table := compile(t, guarded("    balance: random\n"), nil, three...)
	for id, n := range share(t, table, 3000, 0, anyone) {
		if n < 900 || n > 1100 {
			t.Errorf("random: %s got %d of 3000", id, n)
		}
	}

	// Less busy of two: one that never ends its requests is not piled upon.
	table = compile(t, guarded("    balance: least-busy\n"), nil, three...)
	var stuck [400]Exchange
	hung := map[string]int{}
	for i := range stuck {
		if s := stuck[i].Begin(table, Entry{}, get("s", "/"), 0); s.Instance.ID == "s-v1-0" {
			hung[s.Instance.ID]++
		} else {
			stuck[i].Next(Outcome{Status: 200}, 0)
			stuck[i].End(Finished, 0)
		}
	}
	if n := hung["s-v1-0"]; n == 0 || n > 60 {
		t.Errorf("least-busy: %d of 400 went to the one that hangs", n)
	}
	for i := range stuck {
		stuck[i].End(Finished, 0)
	}
	for _, c := range table.version("s", "v1").peers {
		if c.Busy() != 0 {
			t.Errorf("%s is busy with %d when all is over", c.ID, c.Busy())
		}
	}

	// A visitor keeps its instance; one that goes moves its own visitors alone.
	visitor := func(i int) *ask { return get("s", "/", fmt.Sprintf("X-User: u%d", i)) }
	at := func(table *Table) (ids []string) {
		for i := range 900 {
			var x Exchange
			ids = append(ids, x.Begin(table, Entry{}, visitor(i), 0).Instance.ID)
			x.End(Finished, 0)
		}
		return ids
	}
	rule := guarded("    balance: hash:header:x-user\n")
	whole := compile(t, rule, nil, three...)
	before, after := at(whole), at(compile(t, rule, whole, three[0], three[2]))
	moved, counts := 0, map[string]int{}
	for i := range before {
		counts[before[i]]++
		if before[i] != after[i] {
			moved++
			if before[i] != "s-v1-1" {
				t.Fatalf("visitor %d left %s, which stayed", i, before[i])
			}
		}
	}
	if moved != counts["s-v1-1"] || counts["s-v1-0"] < 240 || counts["s-v1-2"] < 240 {
		t.Errorf("%d moved, of %v", moved, counts)
	}
}

// TestNewcomer: an instance that comes later gets its share by and by, and one
// that was there from the beginning at once.
func TestNewcomer(t *testing.T) {
	rule := guarded("    routes: [{name: all, send: v1}]\n")
	two, three := crowd("s/v1", "s/v1"), crowd("s/v1", "s/v1", "s/v1")
	build := func(prev *Table, now time.Duration, in []Instance) *Table {
		rs, _ := rules.Check([]rules.File{{Name: "f", Text: rule}}, rules.Live{})
		table, err := Compile(rs, in, Options{Previous: prev, Now: now})
		if err != nil {
			t.Fatal(err)
		}
		return table
	}
	first := build(nil, 0, two)
	if n := share(t, build(first, time.Second, three), 300, time.Second, anyone)["s-v1-2"]; n != 100 {
		t.Errorf("when the mesh is just being seen, the third got %d of 300", n)
	}
	table := build(first, time.Minute, three)
	early := share(t, table, 200, time.Minute, anyone)["s-v1-2"] // the first two seconds
	middle := share(t, table, 200, time.Minute+5*time.Second, anyone)["s-v1-2"]
	late := share(t, table, 300, time.Minute+10*time.Second, anyone)["s-v1-2"]
	if early < 4 || early > 20 || middle < 35 || middle > 60 || late < 98 || late > 102 {
		t.Errorf("a newcomer got %d, then %d of 200, then %d of 300", early, middle, late)
	}
}

func TestFailover(t *testing.T) {
	rule := guarded("    failover: {order: [same, south], below: 50%}\n    routes: [{name: all, send: v1}]\n")
	in := crowd("s/v1", "s/v1", "s/v1", "s/v1", "s/v1")
	for i := range in {
		in[i].Site = []string{"north", "north", "north", "north", "south"}[i]
	}
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: rule}}, rules.Live{})
	build := func(prev *Table, now time.Duration, down int, drills ...Drill) *Table {
		in := slices.Clone(in)
		for i := range down {
			in[i].Down = true
		}
		table, err := Compile(rs, in, Options{Previous: prev, Now: now, Site: "north", Drills: drills})
		if err != nil {
			t.Fatal(err)
		}
		return table
	}
	south := func(table *Table, n int, from time.Duration) float64 {
		return float64(share(t, table, n, from, anyone)["s-v1-4"]) / float64(n)
	}
	all := build(nil, 0, 0)
	if s := south(all, 1000, 0); s != 0 {
		t.Errorf("with all well, %.3f go south", s)
	}
	if s := south(build(all, time.Second, 2), 1000, time.Second); s != 0 {
		t.Errorf("with half unhealthy, which is enough, %.3f go south", s)
	}
	// Three of four down would be mistrusted: three of five are more than half.
	mistrusting := build(all, time.Second, 3)
	if v := mistrusting.version("s", "v1"); !v.mistrusts.Load() || south(mistrusting, 1000, time.Second) != 0 {
		t.Error("three of five unhealthy at once are believed")
	}
	// A drill is no health check: it is always believed, and ends by itself.
	drill := Drill{ID: "d", Site: "north", Down: true, Until: time.Minute}
	table := build(all, 2*time.Second, 0, drill)
	if s := south(table, 1000, 3*time.Second); s != 1 {
		t.Errorf("with north down, %.3f go south", s)
	}
	var back []float64
	for s := range 6 {
		back = append(back, south(table, 100, time.Minute+time.Duration(s)*time.Second))
	}
	for i := 1; i < len(back); i++ {
		if back[i-1]-back[i] > 0.35 {
			t.Errorf("it comes back with a jump: %v go south, second by second", back)
		}
	}
	if back[0] < 0.6 || back[5] > 0.05 {
		t.Errorf("it comes back too soon or too late: %v", back)
	}
	// A quarter usable where a half would do: half of what is needed is missing.
	one := build(nil, 2*time.Second, 0, Drill{ID: "d", Instance: in[0].ID, Down: true, Until: time.Hour}, Drill{ID: "e", Instance: in[1].ID, Down: true, Until: time.Hour}, Drill{ID: "f", Instance: in[2].ID, Down: true, Until: time.Hour})
	if s := south(one, 2000, 20*time.Second); math.Abs(s-0.5) > 0.04 {
		t.Errorf("with a quarter usable, %.3f go south, want 0.5", s)
	}
	if s := one.Status(20 * time.Second); len(s) != 1 || s[0].Versions[0].Sites[1].Share != 0.5 || len(s[0].Versions[0].Shut) != 3 {
		t.Errorf("status %+v", s)
	}
}

// TestRetryLeavesItsSite: with one instance at the first site, the second try
// goes to another site and not to the same instance.
func TestRetryLeavesItsSite(t *testing.T) {
	in := crowd("s/v1", "s/v1")
	in[0].Site, in[1].Site = "north", "south"
	table := compile(t, guarded("    retry: {times: 2}\n    failover: {order: [north, south]}\n    routes: [{name: all, send: v1}]\n"), nil, in...)
	var x Exchange
	if _, _, tried := play(&x, table, Entry{}, get("s", "/"), 0, status(503)); !slices.Equal(tried, []string{"s-v1-0", "s-v1-1", "s-v1-0"}) {
		t.Errorf("tried %v", tried)
	}
}

// TestPanic: more than half unhealthy at once are called all the same, unless the
// rules say otherwise.
func TestPanic(t *testing.T) {
	in := crowd("s/v1", "s/v1", "s/v1")
	in[0].Down = true
	rule := guarded("    routes: [{name: all, send: v1}]\n")
	if got := share(t, compile(t, rule, nil, in...), 300, 0, anyone); got["s-v1-0"] != 0 || got["s-v1-1"]+got["s-v1-2"] != 300 || got["s-v1-1"] < 140 || got["s-v1-2"] < 140 {
		t.Errorf("one unhealthy: %v", got)
	}
	if got := share(t, compile(t, rule, nil, in[0], in[2]), 100, 0, anyone); got["s-v1-2"] != 100 {
		t.Errorf("one of two unhealthy, which is not more than half: %v", got)
	}
	in[1].Down = true
	well := compile(t, rule, nil, crowd("s/v1", "s/v1", "s/v1")...)
	share(t, well, 10, 0, anyone) // who does not call has nothing to tell
	table := compile(t, rule, well, in...)
	if got := share(t, table, 300, 0, anyone); got["s-v1-0"] != 100 {
		t.Errorf("two of three unhealthy: %v", got)
	}
	if e := table.Events(0); len(e) != 1 || e[0].Kind != "health-ignored" {
		t.Errorf("events %+v", e)
	}
	if got := share(t, compile(t, guarded("    guard: {sideline: {after: 9, most: 100%}}\n    routes: [{name: all, send: v1}]\n"), nil, in...), 300, 0, anyone); got["s-v1-2"] != 300 {
		t.Errorf("with most: 100%%: %v", got)
	}
}

// TestDrill: a drill harms its share of its cohort, as the instance would, and
// ends by itself.
func TestDrill(t *testing.T) {
	when, found := rules.ReadWhen("when", `headers: {x-crew: "yes"}`)
	if len(found) > 0 {
		t.Fatal(found)
	}
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: guarded("    retry: {times: 1}\n    routes: [{name: all, send: v1}]\n")}}, rules.Live{})
	table, err := Compile(rs, crowd("s/v1"), Options{Seed: 3, Drills: []Drill{
		{ID: "d1", Service: "s", Version: "v1", Fail: 30_000, Status: 502, Until: time.Hour},
		{ID: "d2", Service: "s", Delay: 300 * ms, When: when, Until: 2 * time.Hour},
		{ID: "d3", Service: "s", Version: "v2", Fail: rules.Whole, Status: 503, Until: 2 * time.Hour}}})
	if err != nil {
		t.Fatal(err)
	}
	failed, tries, n := 0, 0, 1000
	for i := range n {
		var x Exchange
		last, _, _ := play(&x, table, Entry{}, get("s", "/"), time.Duration(i)*time.Second, status(200))
		tries += x.Attempts()
		if last.Reason == Fault && last.Status == 502 {
			failed++
		}
	}
	if tries < 1250 || tries > 1350 || failed < 60 || failed > 120 { // 30% are tried again, and 30% of those fail
		t.Errorf("%d tries, %d failed of %d", tries, failed, n)
	}
	var x Exchange
	if _, at, _ := play(&x, table, Entry{}, get("s", "/", "X-Crew: yes"), time.Hour, status(200)); at != time.Hour+301*ms {
		t.Errorf("the cohort is late by %v", at-time.Hour)
	}
	if _, at, _ := play(&x, table, Entry{}, get("s", "/", "X-Crew: no"), time.Hour, status(200)); at != time.Hour+ms {
		t.Errorf("who is not of the cohort is late by %v", at-time.Hour)
	}
	if _, at, _ := play(&x, table, Entry{Limit: 100 * ms}, get("s", "/", "X-Crew: yes"), time.Hour, status(200)); at != time.Hour+100*ms {
		t.Errorf("the delay outlives the caller: %v", at-time.Hour)
	}
	if last, at, _ := play(&x, table, Entry{}, get("s", "/", "X-Crew: yes"), 2*time.Hour, status(200)); last.Kind != Done || at != 2*time.Hour+ms {
		t.Errorf("after its end: %+v after %v", last, at-2*time.Hour)
	}
}
