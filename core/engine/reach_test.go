package engine

import (
	"errors"
	"slices"
	"testing"
	"time"

	"nightjar/core/guard"
)

var (
	refused  = Outcome{Reason: Unreachable, Detail: "connection refused", IsUnsent: true}
	answered = Outcome{Status: 200}
)

// dead serves all instances but those that are named, to which no connection comes
// about.
func dead(ids ...string) server {
	return func(in *Instance, _ time.Duration) (Outcome, time.Duration) {
		if slices.Contains(ids, in.ID) {
			return refused, ms
		}
		return answered, ms
	}
}

// TestUnreachable: the first refused connection takes an instance out of the
// caller's pool, whatever the service says of it, and the request goes to another
// one, which is no retry. A request that may not be sent twice does so, too.
func TestUnreachable(t *testing.T) {
	instances := crowd("s/v1", "s/v1", "s/v1")
	for i := range instances {
		instances[i].Doubted = true // the service lost sight of all and trusts none of it
	}
	table := compile(t, guarded("    guard: {breaker: {errors: 50%, over: 10s, least: 2, open: 5s}}\n"), nil, instances...)
	post := get("s", "/")
	post.method = "POST"
	gone := []string{instances[0].ID, instances[1].ID}
	attempts, repeated := 0, 0
	now := time.Second
	for range 50 {
		var x Exchange
		last, at, tried := play(&x, table, Entry{}, post, now, dead(gone...))
		if last.Kind != Done || x.Attempts() != 1 || x.FirstFailed() {
			t.Fatalf("%+v after %v, %d attempts", last, tried, x.Attempts())
		}
		attempts, repeated, now = attempts+len(tried), repeated+len(tried)-1, at
	}
	if repeated != 2 {
		t.Errorf("%d attempts at instances that cannot be reached, want one each", repeated)
	}
	if m := table.version("s", "v1").breaker.State(now).Mode; m != guard.Closed {
		t.Errorf("the breaker is %v, though every request went well", m)
	}
	if s := table.Status(now); len(s) != 1 || len(s[0].Versions[0].Unreachable) != 2 {
		t.Errorf("status: %+v", s)
	}
	if e := table.Events(now); len(e) != 2 || e[0].Kind != "unreachable" || e[1].Kind != "unreachable" {
		t.Errorf("events: %+v", e)
	}

	// Connections are tried again: after a tenth of a second, then twice as long each time.
	due := table.Unreached(now+100*ms, 9)
	if len(due) != 2 || len(table.Unreached(now+100*ms, 9)) != 0 {
		t.Fatalf("to be tried: %v", due)
	}
	now += 100 * ms
	table.Reached(due[0], errors.New("refused"), now)
	table.Reached(due[1], nil, now)
	if n := len(table.Unreached(now+199*ms, 9)); n != 0 {
		t.Errorf("%d are tried too soon", n)
	}
	if n := len(table.Unreached(now+200*ms, 9)); n != 1 {
		t.Errorf("%d are tried after the second wait, want 1", n)
	}
	if e := table.Events(now); len(e) != 1 || e[0].Kind != "reachable" || e[0].Instance != due[1].ID {
		t.Errorf("events: %+v", e)
	}
}

// TestNoneReachable: where no instance can be reached, the route's otherwise takes
// the request, or another site; without them it is still tried.
func TestNoneReachable(t *testing.T) {
	routes := "    routes:\n      - {name: main, send: v2, otherwise: v1}\n"
	instances := crowd("s/v1", "s/v2")
	table := compile(t, guarded(routes), nil, instances...)
	now := time.Second
	for range 20 {
		var x Exchange
		last, at, _ := play(&x, table, Entry{}, get("s", "/"), now, dead(instances[1].ID))
		if last.Kind != Done || x.Version() != "v1" || x.Instance().Version != "v1" {
			t.Fatalf("%+v from %s", last, x.Version())
		}
		now = at
	}

	alone := crowd("s/v1")
	table = compile(t, guarded(""), nil, alone...)
	for range 3 {
		var x Exchange
		last, _, tried := play(&x, table, Entry{}, get("s", "/"), now, dead(alone[0].ID))
		if last.Reason != Unreachable || last.Status != 502 || len(tried) != 1 {
			t.Errorf("%+v after %v", last, tried)
		}
	}
	var x Exchange
	if last, _, _ := play(&x, table, Entry{}, get("s", "/"), now, dead()); last.Kind != Done {
		t.Errorf("it is back, and the next request is answered by %+v", last)
	}
	if table.version("s", "v1").peers[0].IsUnreachable() {
		t.Error("a request reached it, and it counts as unreachable")
	}
}

// TestSlowConnect: a connection that the time of an attempt was not enough for
// says something only when it took long.
func TestSlowConnect(t *testing.T) {
	for took, want := range map[time.Duration]bool{slowConnect - ms: false, slowConnect: true} {
		table := compile(t, guarded(""), nil, crowd("s/v1")...)
		var x Exchange
		x.Begin(table, Entry{}, get("s", "/"), time.Second)
		x.Next(Outcome{Reason: TimedOut, IsUnsent: true}, time.Second+took)
		x.End(Finished, time.Second+took)
		if got := table.version("s", "v1").peers[0].IsUnreachable(); got != want {
			t.Errorf("after %s: unreachable %t", took, got)
		}
	}
}

// TestItsProxyCannotReachIt: where the proxy beside a workload cannot reach it, opening a
// connection proves nothing, so requests try it again.
func TestItsProxyCannotReachIt(t *testing.T) {
	instances := crowd("s/v1", "s/v1")
	table := compile(t, guarded(""), nil, instances...)
	crashed := refused
	crashed.IsByProxy = true
	tries, now := 0, time.Second
	serve := func(in *Instance, _ time.Duration) (Outcome, time.Duration) {
		if in.ID == instances[0].ID {
			tries++
			return crashed, ms
		}
		return answered, ms
	}
	for range 1000 { // for ten seconds
		var x Exchange
		if last, _, _ := play(&x, table, Entry{}, get("s", "/"), now, serve); last.Kind != Done {
			t.Fatalf("%+v", last)
		}
		if n := len(table.Unreached(now, 9)); n > 0 {
			t.Fatalf("%d are to be tried by a connection alone", n)
		}
		now += 10 * ms
	}
	if tries < 6 || tries > 8 { // after 0, 0.1, 0.3, 0.7, 1.5, 3.1, 6.3 s
		t.Errorf("%d requests tried it in ten seconds", tries)
	}
}
