package engine

import (
	"nightjar/core/guard"
	"testing"
	"time"
)

// TestGivenUp: an attempt that the caller gives up counts once it is overdue: after
// half of its time, or past what the breaker calls slow.
func TestGivenUp(t *testing.T) {
	for _, c := range []struct {
		name, guard string
		after       time.Duration
		counts      bool
	}{
		{"early", "breaker: {errors: 50%, over: 10s, least: 2, open: 5s}", 900 * ms, false},
		{"after half of its time", "breaker: {errors: 50%, over: 10s, least: 2, open: 5s}", 1000 * ms, true},
		{"past what is slow", "breaker: {errors: 50%, slow: 50% over 300ms, over: 10s, least: 2, open: 5s}", 301 * ms, true},
		{"before it", "breaker: {errors: 50%, slow: 50% over 300ms, over: 10s, least: 2, open: 5s}", 299 * ms, false},
	} {
		table := compile(t, guarded("    guard: {"+c.guard+", sideline: {after: 2, for: 10s, most: 100%}}\n"), nil, crowd("s/v1")...)
		now := time.Second
		for range 2 {
			var x Exchange
			x.Begin(table, Entry{}, get("s", "/"), now)
			now += c.after
			x.End(Left, now)
		}
		v := table.version("s", "v1")
		opened, out := v.breaker.State(now).Mode == guard.Open, v.peers[0].IsOut()
		if opened != c.counts || out != c.counts {
			t.Errorf("%s: breaker open %t, instance out %t, want %t", c.name, opened, out, c.counts)
		}
	}
}

// TestOpenOutcome: an answer whose meaning shows at its end closes no breaker
// before, and reopens it when it failed; one that broke off after it counted does
// so, too.
func TestOpenOutcome(t *testing.T) {
	for _, c := range []struct {
		name    string
		outcome Outcome
		before  guard.Mode // while the answer goes by
		ends    []Ending
		after   guard.Mode
	}{
		{"good at its end", Outcome{Status: 200, IsOpen: true}, guard.Probing, []Ending{Finished, Finished}, guard.Closed},
		{"bad at its end", Outcome{Status: 200, IsOpen: true}, guard.Probing, []Ending{Finished, Broken}, guard.Open},
		{"nobody waits for its end", Outcome{Status: 200, IsOpen: true}, guard.Probing, []Ending{Finished, Left}, guard.Probing},
		{"broken off", Outcome{Status: 200}, guard.Probing, []Ending{Broken}, guard.Open},
		{"not the workload's fault", Outcome{Reason: BadRequest}, guard.Probing, []Ending{Finished, Finished}, guard.Probing},
	} {
		table := compile(t, guarded("    guard: {breaker: {errors: 50%, over: 10s, least: 2, open: 5s, probes: 2}}\n"), nil, crowd("s/v1")...)
		now := time.Second
		for range 2 {
			var x Exchange
			x.Begin(table, Entry{}, get("s", "/"), now)
			x.Next(Outcome{Status: 500}, now)
			x.End(Finished, now)
		}
		now += 5 * time.Second
		b := table.version("s", "v1").breaker
		xs := make([]Exchange, len(c.ends))
		for i := range xs {
			if s := xs[i].Begin(table, Entry{}, get("s", "/"), now); s.Kind != Attempt {
				t.Fatalf("%s: probe %d: %+v", c.name, i, s)
			}
			xs[i].Next(c.outcome, now)
		}
		if m := b.State(now).Mode; m != c.before {
			t.Errorf("%s: %v while the answers go by, want %v", c.name, m, c.before)
		}
		for i := range xs {
			xs[i].End(c.ends[i], now)
		}
		if m := b.State(now).Mode; m != c.after {
			t.Errorf("%s: %v afterwards, want %v", c.name, m, c.after)
		}
	}
}

// TestNothingSent: a request that may not be repeated is, when it was not sent.
func TestNothingSent(t *testing.T) {
	table := compile(t, guarded("    retry: {times: 1, on: [unreachable, reset], wait: 0s, budget: 100%}\n"), nil, crowd("s/v1")...)
	for _, c := range []struct {
		o    Outcome
		want Kind
	}{
		{Outcome{Reason: Unreachable, IsUnsent: true}, Wait},
		{Outcome{Reason: Unreachable}, Reply},
		{Outcome{Reason: Unreachable, IsUnsent: true, IsSpent: true}, Reply},
		{Outcome{Reason: Reset}, Reply},
	} {
		var x Exchange
		a := get("s", "/")
		a.method = "POST"
		x.Begin(table, Entry{}, a, time.Second)
		if s := x.Next(c.o, time.Second); s.Kind != c.want {
			t.Errorf("%+v: %+v", c.o, s)
		}
		x.End(Finished, time.Second)
	}
}

// TestSetHealth: news of health alone changes who is called, as another table
// would; anything else does not fit.
func TestSetHealth(t *testing.T) {
	instances := crowd("s/v1", "s/v1", "s/v1")
	table := compile(t, guarded(""), nil, instances...)
	called := func() map[string]int {
		got := map[string]int{}
		for range 30 {
			var x Exchange
			x.Begin(table, Entry{}, get("s", "/"), guard.Ramp)
			got[x.Instance().ID]++
			x.End(Finished, guard.Ramp)
		}
		return got
	}
	sick := instances[1]
	sick.Down = true
	if !table.SetHealth([]Instance{sick}, 0) || called()[sick.ID] > 0 || len(called()) != 2 {
		t.Errorf("called: %v", called())
	}
	other := instances[2]
	other.Down = true
	if !table.SetHealth([]Instance{other}, 0) || len(called()) != 3 { // most are unhealthy at once
		t.Errorf("called: %v", called())
	}
	if !table.SetHealth(instances[1:], 0) {
		t.Error("they are well again")
	}
	moved := sick
	moved.Address = "127.0.0.1:9"
	for _, bad := range [][]Instance{{other, moved}, {{ID: "ghost", Service: "s", Version: "v1"}}, {{ID: sick.ID, Service: "ghost"}}} {
		if table.SetHealth(bad, 0) {
			t.Errorf("%+v was taken", bad)
		}
	}
	if n := len(called()); n != 3 {
		t.Errorf("%d are called: what did not fit changed something", n)
	}
}
