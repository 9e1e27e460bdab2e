package forecast

import (
	"encoding/json"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/trial"
)

// chain is a gateway, and three services of which each calls the next.
func chain(perSecond float64) *Mesh {
	own := LogNormal(5*time.Millisecond, 0.4, 0)
	m := &Mesh{Proxies: []Proxy{{ID: "door-a", Caller: "door", Gateway: true}}, Behaviour: map[string]Behaviour{}}
	next := []Kind{{1, &Request{Path: "/x"}}}
	for _, s := range []string{"a", "b", "c"} {
		for _, v := range []string{"v1", "v2"} {
			m.Instances = append(m.Instances, engine.Instance{ID: s + v, Service: s, Version: v, Address: "127.0.0.1:1"})
			b := Behaviour{Own: own, Errors: 0.01}
			switch s {
			case "a":
				b.Calls = []Call{{To: "b", PerOne: 1, Needed: true, Kinds: next}}
			case "b":
				b.Calls = []Call{{To: "c", PerOne: 1, Needed: true, Kinds: next}}
			}
			m.Behaviour[s+"/"+v] = b
		}
	}
	m.Streams = []Stream{{Name: "all", Caller: "door", Kinds: []Kind{{1, &Request{Path: "/", Host: "ferry.example"}}}, Next: poisson(perSecond, 5)}}
	return m
}

const chainRules = `
services:
  a: {versions: [v1, v2], routes: [{name: all, send: {v1: 80, v2: 20}, timeout: 1s}]}
  b: {versions: [v1, v2], routes: [{name: all, send: {v1: 50, v2: 50}, retry: {times: 1, on: [5xx], wait: 1ms..2ms, budget: 100%}}]}
  c: {versions: [v1, v2], routes: [{name: all, send: v1}], guard: {in-flight: 40, waiting: 10}}
gateways:
  door: {listen: ":8080", hosts: [ferry.example], routes: [{name: in, send: a}]}
`

// asText is everything that a result says.
func asText(t *testing.T, r *Result) string {
	b, err := json.Marshal([]any{effect.Compare(r.Tally, r.Tally, nil), r.Streams, r.Events, r.Requests})
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestSameSeedSameBytes(t *testing.T) {
	rs := mustRules(t, chainRules)
	var texts []string
	for _, seed := range []uint64{4, 4, 4, 5} {
		r, err := Run(rs, chain(2000), Options{Seed: seed, Requests: 30_000})
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, asText(t, r))
	}
	if texts[0] != texts[1] || texts[1] != texts[2] {
		t.Error("the same seed has another result")
	}
	if texts[0] == texts[3] {
		t.Error("another seed has the same result")
	}
}

// Sides with the same seed share their luck: a draft that changes nothing has the
// same result, and a small difference shows where independent sides would hide it.
func TestSidesArePaired(t *testing.T) {
	run := func(text string, seed uint64) *Result {
		r, err := Run(mustRules(t, text), chain(500), Options{Seed: seed, Requests: 20_000})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	plain := "services: {a: {versions: [v1, v2]}, b: {versions: [v1, v2]}, c: {versions: [v1, v2]}}\ngateways: {door: {listen: \":8080\", hosts: [ferry.example], routes: [{name: in, send: a}]}}\n"
	longer := "services: {a: {versions: [v1, v2], timeout: 9s}, b: {versions: [v1, v2]}, c: {versions: [v1, v2]}}\ngateways: {door: {listen: \":8080\", hosts: [ferry.example], routes: [{name: in, send: a}]}}\n"
	a, b := run(plain, 1), run(longer, 1)
	if asText(t, a) != asText(t, b) {
		t.Error("a timeout that nobody meets changes something")
	}
	if c := run(plain, 2); c.Tally.Whole().OK == a.Tally.Whole().OK && asText(t, c) == asText(t, a) {
		t.Error("the seed changes nothing")
	}
}

// What the engine does to requests is what arithmetic says.
func TestRulesAct(t *testing.T) {
	one := func(text string, b Behaviour, perSecond float64) *trial.Tally {
		r, err := Run(mustRules(t, text), single(perSecond, b, 8), Options{Seed: 2, Requests: 100_000})
		if err != nil {
			t.Fatal(err)
		}
		return r.Streams["all"]
	}
	near := func(what string, got, want, off float64) {
		t.Helper()
		if t.Logf("%s: %.4f, by arithmetic %.4f", what, got, want); math.Abs(got-want) > off {
			t.Errorf("%s is off by more than %g", what, off)
		}
	}
	own := Fixed(5 * time.Millisecond)
	c := one("services: {s: {versions: [v1], routes: [{name: all, send: v1, retry: {times: 2, on: [5xx], wait: 1ms..2ms, budget: 100%}}]}}", Behaviour{Own: own, Errors: 0.3}, 100)
	near("success with two retries", float64(c.OK)/1e5, 1-math.Pow(0.3, 3), 0.003)
	near("success of first tries", float64(c.FirstOK)/1e5, 0.7, 0.005)
	near("load factor", float64(c.Tries)/1e5, 1.39, 0.01)

	c = one("services: {s: {versions: [v1], timeout: 20ms}}", Behaviour{Own: Exponential(10 * time.Millisecond)}, 100)
	timeout, _ := engine.TimedOut.Number()
	near("timeouts", float64(c.Reasons[timeout])/1e5, math.Exp(-2), 0.005)
	near("the longest wait", c.Quantile(0.9999).Seconds(), 0.020, 0.0003)

	c = one("services: {s: {versions: [v1], routes: [{name: all, send: v1, limit: {rate: 50/s, burst: 1}}]}}", Behaviour{Own: own}, 200)
	near("let through by a limit, per second", float64(c.OK)/1e5*200, 1/(1./50+1./200), 1) // after each token the next arrival takes 1/200 s
	c = one("services: {s: {versions: [v1], routes: [{name: all, send: v1, fault: {status: 503, share: 20%}}]}}", Behaviour{Own: own}, 200)
	near("harmed on purpose", float64(c.Refused)/1e5, 0.2, 0.001)
}

// Visitors that the rules tell apart are as many as there are requests.
func TestVisitorsStick(t *testing.T) {
	rs := mustRules(t, `services: {s: {versions: [v1, v2], routes: [{name: all, send: {v1: 70, v2: 30}, stick: {by: "cookie:berth"}}]}}`)
	for cookie, want := range map[string]float64{"lang=no; berth=" + EachOwn: 0.3, "berth=B7": math.NaN()} {
		m := single(100, Behaviour{}, 4)
		m.Instances = append(m.Instances, engine.Instance{ID: "s-b", Service: "s", Version: "v2"})
		m.Streams[0].Kinds[0].Fields = map[string][]string{"Cookie": {cookie}}
		r, err := Run(rs, m, Options{Seed: 1, Requests: 20_000})
		if err != nil {
			t.Fatal(err)
		}
		got := float64(r.Streams["all"].Versions["s/v2"]) / 20_000
		if one := math.IsNaN(want); one && got != 0 && got != 1 || !one && math.Abs(got-want) > 0.01 {
			t.Errorf("%q: %.3f of the requests go to v2", cookie, got)
		}
	}
}

// A workload that waits for another one holds its own caller up, fails with it
// where it needs it, and gives up with its caller.
func TestCallsGoOn(t *testing.T) {
	rs := mustRules(t, "services: {a: {versions: [v1]}, b: {versions: [v1]}}")
	mesh := func(needed bool, slow Times, errors float64) *Mesh {
		m := single(100, Behaviour{}, 4)
		m.Instances = []engine.Instance{{ID: "a-1", Service: "a", Version: "v1"}, {ID: "b-1", Service: "b", Version: "v1"}}
		m.Streams[0].To = "a"
		m.Behaviour = map[string]Behaviour{"a/v1": {Own: Fixed(2 * time.Millisecond), Hop: time.Millisecond, Calls: []Call{{To: "b", PerOne: 1.5, Needed: needed, Kinds: []Kind{{1, &Request{Path: "/"}}}}}},
			"b/v1": {Own: slow, Errors: errors, AtOnce: 1}}
		return m
	}
	run := func(m *Mesh, rs *rules.Rules) *Result {
		r, err := Run(rs, m, Options{Seed: 3, Requests: 40_000})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	r := run(mesh(true, Fixed(time.Millisecond), 0.1), rs)
	ok := float64(r.Streams["all"].OK) / 40_000
	if want := 0.5*0.9 + 0.5*0.81; math.Abs(ok-want) > 0.006 {
		t.Errorf("success %.4f of what needs one or two calls that fail one in ten, want %.4f", ok, want)
	}
	calls, front := r.Tally.Of(effect.Link, "a > b").Requests(), r.Streams["all"].Requests()
	if per := float64(calls) / float64(front); math.Abs(per-(1+0.5*0.9)) > 0.01 {
		t.Errorf("%.3f calls for each request, want 1.45: who failed already calls no more", per)
	}
	if r = run(mesh(false, Fixed(time.Millisecond), 0.1), rs); r.Streams["all"].OK != 40_000 {
		t.Errorf("%d of 40000 succeed where no call is needed", r.Streams["all"].OK)
	}
	// A caller that gives up takes what is done for it along: the slow one is free again.
	hasty := mustRules(t, "services: {a: {versions: [v1], timeout: 50ms}, b: {versions: [v1]}}")
	m := mesh(true, Fixed(time.Hour), 0)
	if r = run(m, hasty); r.Streams["all"].Failed != 40_000 {
		t.Errorf("%d of 40000 run into the timeout", r.Streams["all"].Failed)
	}
	if late := r.Streams["all"].Quantile(0.99); late > 51*time.Millisecond {
		t.Errorf("a timeout of 50ms is met after %v", late)
	}
}

func TestReadChanges(t *testing.T) {
	good := "behaviour:\n  s/v1:\n    time: {median: 8ms, spread: 0.35, slow: 3%}\n    errors: 2%\n    at-once: 4\n    calls: [{to: b, share: 20%, needed: true}, {to: c, times: 2, path: /x}]\n  s/v2: {time: {p10: 5ms, p50: 8ms, p99: 30ms}}\n"
	c, err := ReadChanges("f", good)
	if err != nil {
		t.Fatal(err)
	}
	v := c["s/v1"]
	if *v.Errors != 0.02 || *v.AtOnce != 4 || len(v.Calls) != 2 || v.Calls[0].PerOne != 0.2 || !v.Calls[0].Needed || v.Calls[1].PerOne != 2 || v.Calls[1].Kinds[0].Path != "/x" {
		t.Errorf("read %+v", v)
	}
	d, times := Draw(1), []time.Duration{}
	for range 10_000 {
		times = append(times, c["s/v2"].Own(&d))
	}
	slices.Sort(times)
	for q, want := range map[int]time.Duration{5: 5 * time.Millisecond, 50: 8 * time.Millisecond, 99: 30 * time.Millisecond} {
		if got := times[q*100]; math.Abs(float64(got)/float64(want)-1) > 0.1 {
			t.Errorf("p%d is %v, want %v", q, got, want)
		}
	}
	for _, bad := range []string{"", "behaviour: {}", "behaviour: {s: {errors: 1%}}", "behaviour: {s/v1: {errors: many}}", "behaviour: {s/v1: {time: {median: 8}}}", "behaviour: {s/v1: {time: {p50: 8ms, p90: 2ms}}}",
		"behaviour: {s/v1: {time: {soon: 8ms}}}", "behaviour: {s/v1: {calls: [{share: 2%}]}}", "behaviour: {s/v1: {at-once: -1}}", "behaviour: {s/v1: {wrong: 1}}", "behaviour: {s/v1: {calls: [{to: b, share: 5%, times: 2}]}}", "[", "behaviour: {s/v1: {hop: 2h}}"} {
		if _, err := ReadChanges("f", bad); err == nil {
			t.Errorf("%q is read", bad)
		}
	}
}

// TestGivenUpCallsCount: b hangs for longer than the callers of a wait. Their leaving
// opens the breaker of b in a's proxy, as it does in a real one.
func TestGivenUpCallsCount(t *testing.T) {
	const text = `
services:
  a: {versions: [v1, v2], routes: [{name: all, send: v1, timeout: 1s}]}
  b: {versions: [v1, v2], routes: [{name: all, send: v1, timeout: LIMIT}], guard: {breaker: {errors: 50%, over: 10s, least: 20, open: 60s}}}
  c: {versions: [v1, v2]}
gateways:
  door: {listen: ":8080", hosts: [ferry.example], routes: [{name: in, send: a}]}
`
	refused := func(limit string) uint64 {
		m := chain(50)
		m.Behaviour["b/v1"] = Behaviour{Own: func(*Draw) time.Duration { return time.Minute }}
		r, err := Run(mustRules(t, strings.Replace(text, "LIMIT", limit, 1)), m, Options{Seed: 1, Requests: 1000})
		if err != nil {
			t.Fatal(err)
		}
		total := uint64(0)
		for _, row := range effect.Compare(r.Tally, r.Tally, nil) {
			for _, why := range row.Reasons {
				if row.Kind == effect.Link && row.Name == "a > b" && why.Reason == string(engine.BreakerOpen) {
					total += why.After
				}
			}
		}
		return total
	}
	if n := refused("1900ms"); n < 800 { // a second is more than half of it
		t.Errorf("%d of 1,000 were refused by the breaker", n)
	}
	if n := refused("2100ms"); n > 0 {
		t.Errorf("%d were refused though nobody waited for half of the time", n)
	}
}

func BenchmarkChain(b *testing.B) {
	rs := mustRules(b, chainRules)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Run(rs, chain(2000), Options{Seed: 1, Requests: million}); err != nil {
			b.Fatal(err)
		}
	}
}

// TestLimitOfTheMesh: four proxies have a limit together, or each its own.
func TestLimitOfTheMesh(t *testing.T) {
	for limit, want := range map[string]float64{"rate: 10/s, burst: 1": 40, "rate: 10/s, burst: 1, scope: mesh": 10} {
		m := single(400, Behaviour{}, 1)
		m.Proxies = nil
		for _, id := range []string{"a", "b", "c", "d"} {
			m.Proxies = append(m.Proxies, Proxy{ID: id, Caller: "edge"})
		}
		r, err := Run(mustRules(t, "services: {s: {versions: [v1], routes: [{name: all, send: v1, limit: {"+limit+"}}]}}"), m, Options{Seed: 1, Requests: 40_000})
		if err != nil {
			t.Fatal(err)
		}
		if got := float64(r.Streams["all"].OK) / 100; got < 0.85*want || got > 1.05*want {
			t.Errorf("%s: %.1f requests a second went through, want %.0f", limit, got, want)
		}
	}
}
