package engine

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

const ms = time.Millisecond

// server answers tries in a test: what comes of a try at that instance, and
// after how long.
type server func(in *Instance, now time.Duration) (Outcome, time.Duration)

// status is a server that answers at once.
func status(code int) server {
	return func(*Instance, time.Duration) (Outcome, time.Duration) { return Outcome{Status: code}, ms }
}

// play sees a request through and returns its last step, when that was, and the
// instances that were tried.
func play(x *Exchange, table *Table, e Entry, v View, now time.Duration, serve server) (last Step, at time.Duration, tried []string) {
	step := x.Begin(table, e, v, now)
	for {
		switch step.Kind {
		case Attempt:
			tried = append(tried, step.Instance.ID)
			o, took := serve(step.Instance, now)
			if now+took > step.Deadline {
				o, took = Outcome{Reason: TimedOut}, step.Deadline-now
			}
			now += took
			step = x.Next(o, now)
		case Wait:
			now = max(now, step.Deadline)
			step = x.Next(Outcome{}, now)
		default:
			x.End(Finished, now)
			return step, now, tried
		}
	}
}

// guarded is a service s with settings, in versions v1 and v2.
func guarded(settings string) string {
	return "sites: [north, south]\nservices:\n  s:\n    versions: [v1, v2]\n    timeout: 2s\n" + settings
}

func TestRetry(t *testing.T) {
	post := get("s", "/")
	post.method = "POST"
	answer := func(list ...Outcome) server {
		return func(*Instance, time.Duration) (Outcome, time.Duration) {
			o := list[0]
			list = append(list[1:], o)
			return o, ms
		}
	}
	bad, good, hang := Outcome{Status: 503}, Outcome{Status: 200}, func(*Instance, time.Duration) (Outcome, time.Duration) { return Outcome{Status: 200}, time.Hour }
	for _, c := range []struct {
		name, rule string
		ask        *ask
		serve      server
		tries      int
		want       string // kind, status, reason
	}{
		{"none by default", "", get("s", "/"), answer(bad, good), 1, "done 503"},
		{"a listed status", "{times: 2}", get("s", "/"), answer(bad, good), 2, "done 200"},
		{"no more than times", "{times: 2}", get("s", "/"), answer(bad), 3, "done 503"},
		{"not for what is not listed", "{times: 2, on: [502]}", get("s", "/"), answer(bad), 1, "done 503"},
		{"a class", "{times: 1, on: [5xx]}", get("s", "/"), answer(Outcome{Status: 500}, good), 2, "done 200"},
		{"a 404 is an answer", "{times: 1, on: [5xx]}", get("s", "/"), answer(Outcome{Status: 404}), 1, "done 404"},
		{"unreachable", "{times: 1, on: [unreachable]}", get("s", "/"), answer(Outcome{Reason: Unreachable}, good), 2, "done 200"},
		{"no answer counts as what the caller would get", "{times: 1, on: [502]}", get("s", "/"), answer(Outcome{Reason: Reset}, good), 2, "done 200"},
		{"what gRPC means counts", "{times: 1, on: [503]}", get("s", "/"), answer(Outcome{Status: 200, Means: 503}, good), 2, "done 200"},
		{"POST stays", "{times: 2}", post, answer(bad), 1, "done 503"},
		{"POST where it may", "{times: 2, methods: all}", post, answer(bad, good), 2, "done 200"},
		{"a body that is gone", "{times: 2}", get("s", "/"), answer(Outcome{Status: 503, IsSpent: true}), 1, "done 503"},
		{"each covers one try", "{times: 2, each: 300ms, on: [timeout]}", get("s", "/"), hang, 3, "reply 504 timeout"},
		{"the timeout covers all", "{times: 9, each: 900ms, on: [timeout]}", get("s", "/"), hang, 3, "reply 504 timeout"},
		{"no try without time for it", "{times: 9, each: 1995ms, on: [timeout]}", get("s", "/"), hang, 1, "reply 504 timeout"},
		{"the last failure is told", "{times: 1}", get("s", "/"), answer(bad, Outcome{Reason: Reset}), 2, "reply 502 reset"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := guarded("")
			if c.rule != "" {
				text += "    retry: " + c.rule + "\n"
			}
			table := compile(t, text, nil, crowd("s/v1", "s/v1", "s/v1")...)
			var x Exchange
			last, at, tried := play(&x, table, Entry{}, c.ask, 0, c.serve)
			got := fmt.Sprintf("reply %d %s", last.Status, last.Reason)
			if last.Kind == Done {
				got = fmt.Sprintf("done %d", last.Status)
			}
			if got != c.want || len(tried) != c.tries || x.Attempts() != c.tries || at > 2*time.Second {
				t.Errorf("%s after %v, tried %v; want %s after %d", got, at, tried, c.want, c.tries)
			}
			for i := 1; i < len(tried); i++ {
				if tried[i] == tried[i-1] {
					t.Errorf("the same instance twice in a row: %v", tried)
				}
			}
		})
	}
}

// TestWhoseRetry: the service's route comes before the gateway's, and that
// before the service; explanations say the same. A copy goes out once.
func TestWhoseRetry(t *testing.T) {
	const text = `services:
  s:
    versions: [v1, v2]
    retry: {times: 1}
    routes:
      - {name: own, when: {path: /own}, retry: {times: 2}, send: v1}
      - {name: rest, send: v1, mirror: {to: v2}}
gateways:
  door:
    listen: ":80"
    hosts: ["*"]
    routes:
      - {name: many, when: {path: {regex: "/(own|gate)"}}, retry: {times: 3}, send: s}
      - {name: rest, send: s}
`
	table := compile(t, text, nil, crowd("s/v1", "s/v2")...)
	for path, want := range map[string]int{"/own": 3, "/gate": 4, "/": 2} {
		var x Exchange
		copies := 0
		_, _, tried := play(&x, table, Entry{Gateway: "door"}, get("a.example", path), 0, func(*Instance, time.Duration) (Outcome, time.Duration) {
			if x.Mirror() != nil {
				copies++
			}
			return Outcome{Status: 503}, 0
		})
		if len(tried) != want || copies > 1 || path == "/" && copies != 1 {
			t.Errorf("%s was tried %d times, want %d, and copied %d times", path, len(tried), want, copies)
		}
		said := ""
		for _, s := range Explain(table, Entry{Gateway: "door"}, get("a.example", path), 0).Settings {
			if s.Name == "retry" {
				said = s.Value
			}
		}
		if !strings.HasPrefix(said, fmt.Sprintf("%d times", want-1)) {
			t.Errorf("%s is explained by %q, and tried %d times", path, said, want)
		}
	}
}

// TestRetryWaits: the bound of the wait doubles up to its end, and waits fill
// all of the room below.
func TestRetryWaits(t *testing.T) {
	table := compile(t, guarded("    retry: {times: 4, wait: 20ms..100ms, budget: 100%}\n"), nil, crowd("s/v1")...)
	var most, sum [5]time.Duration
	const n = 500
	for i := range n {
		var x Exchange
		now := time.Duration(i) * time.Minute
		for range 40 { // room in the budget
			table.services["s"].budget.Request(now)
		}
		step := x.Begin(table, Entry{}, get("s", "/"), now)
		for try := 1; step.Kind == Attempt; try++ {
			if step = x.Next(Outcome{Status: 503}, now); step.Kind == Wait {
				wait := step.Deadline - now
				most[try], sum[try] = max(most[try], wait), sum[try]+wait
				now = step.Deadline
				step = x.Next(Outcome{}, now)
			}
		}
		x.End(Finished, now)
	}
	for try, bound := range []time.Duration{1: 20 * ms, 40 * ms, 80 * ms, 100 * ms} {
		if bound > 0 && (most[try] > bound || most[try] < bound*9/10 || sum[try]/n < bound*4/10 || sum[try]/n > bound*6/10) {
			t.Errorf("wait %d: at most %v, %v on average; want up to %v", try, most[try], sum[try]/n, bound)
		}
	}
}

// TestRetryBuysSuccess: a version of which 30% of the tries fail, with two
// retries, succeeds in 1 − 0.3³ and is called 1 + 0.3 + 0.09 times; a budget of
// a tenth buys 0.7 of a tenth.
func TestRetryBuysSuccess(t *testing.T) {
	for _, c := range []struct {
		rule                 string
		success, load, first float64
	}{{"{times: 2}", 0.973, 1.39, 0.7}, {"{times: 2, budget: 10%}", 0.77, 1.1, 0.7}} {
		table := compile(t, guarded("    retry: "+c.rule+"\n"), nil, crowd("s/v1", "s/v1")...)
		rnd := rand.New(rand.NewPCG(7, 7))
		const n = 20_000
		ok, first, tries := 0, 0, 0
		for i := range n {
			var x Exchange
			last, _, tried := play(&x, table, Entry{}, get("s", "/"), time.Duration(i)*5*ms, func(*Instance, time.Duration) (Outcome, time.Duration) {
				if rnd.Float64() < 0.3 {
					return Outcome{Status: 503}, ms
				}
				return Outcome{Status: 200}, ms
			})
			tries += len(tried)
			if last.Status == 200 {
				ok++
			}
			if !x.FirstFailed() {
				first++
			}
		}
		for _, f := range [][2]float64{{float64(ok) / n, c.success}, {float64(tries) / n, c.load}, {float64(first) / n, c.first}} {
			if math.Abs(f[0]-f[1]) > 0.01 {
				t.Errorf("%s: success %.3f, load %.3f, first try %.3f; want %+v", c.rule, float64(ok)/n, float64(tries)/n, float64(first)/n, c)
				break
			}
		}
	}
}

// TestQueue: who finds no place waits in line, comes in when a place is free,
// and is refused when the line is full or the wait too long. Whoever leaves
// gives back what it holds.
func TestQueue(t *testing.T) {
	table := compile(t, guarded("    guard: {in-flight: 2, waiting: 2, wait-at-most: 50ms}\n    routes: [{name: all, send: v1}]\n"), nil, crowd("s/v1")...)
	var xs [8]Exchange
	woken := map[int]bool{}
	begin := func(i int, now time.Duration) Step {
		return xs[i].Begin(table, Entry{Wake: func() { woken[i] = true }}, get("s", "/"), now)
	}
	want := func(what string, s Step, kind Kind, reason Reason) {
		t.Helper()
		if s.Kind != kind || s.Reason != reason {
			t.Fatalf("%s: %+v", what, s)
		}
	}
	want("first", begin(0, 0), Attempt, "")
	want("second", begin(1, 0), Attempt, "")
	s := begin(2, 0)
	want("third waits", s, Wait, "")
	if s.Deadline != 50*ms {
		t.Errorf("it waits until %v", s.Deadline)
	}
	want("fourth waits", begin(3, 10*ms), Wait, "")
	s = begin(4, 10*ms)
	want("fifth is refused", s, Reply, Overflow)
	if s.Status != 503 || !strings.Contains(s.Detail, "2 of 2") {
		t.Errorf("%+v", s)
	}
	xs[0].Next(Outcome{Status: 200}, 20*ms)
	want("woken for nothing", xs[2].Next(Outcome{}, 20*ms), Wait, "")
	xs[0].End(Finished, 30*ms) // only the end of the answer frees the place
	if !woken[2] || woken[3] {
		t.Fatalf("woken: %v", woken)
	}
	want("third comes in", xs[2].Next(Outcome{}, 30*ms), Attempt, "")
	want("fourth waited too long", xs[3].Next(Outcome{}, 60*ms), Reply, Overflow)
	want("sixth waits", begin(5, 60*ms), Wait, "")
	xs[5].End(Finished, 61*ms) // its caller left
	xs[1].End(Finished, 62*ms) // so did the caller of one under way
	xs[2].Next(Outcome{Reason: Reset}, 63*ms)
	want("a place was left", begin(6, 64*ms), Attempt, "")
	for i := range xs {
		xs[i].End(Finished, 65*ms)
	}
	if q := table.version("s", "v1").queue.State(); q.InFlight+q.Waiting != 0 {
		t.Errorf("left over: %+v", q)
	}
}

// TestBreakerInTheWay: an open breaker refuses at once and says when to come
// again; its probes decide; failures that gRPC names at the end count.
func TestBreakerInTheWay(t *testing.T) {
	table := compile(t, guarded("    guard: {breaker: {errors: 50%, over: 10s, least: 4, open: 5s, probes: 2}}\n    routes: [{name: all, send: v1}]\n"), nil, crowd("s/v1")...)
	now := time.Second
	call := func(o Outcome, how Ending) Step {
		var x Exchange
		s := x.Begin(table, Entry{}, get("s", "/"), now)
		if s.Kind == Attempt {
			s = x.Next(o, now)
		}
		x.End(how, now)
		return s
	}
	call(Outcome{Status: 200}, Finished)
	call(Outcome{Status: 200}, Finished)
	call(Outcome{Status: 500}, Finished)
	if s := call(Outcome{Status: 200}, Broken); s.Reason != "" { // looked well, and named a failure at its end
		t.Fatalf("before it opens: %+v", s)
	}
	now += time.Second
	if s := call(Outcome{Status: 200}, Finished); s.Reason != BreakerOpen || s.Status != 503 || s.After != 4*time.Second || !strings.Contains(s.Detail, "2 of 4") {
		t.Fatalf("open: %+v", s)
	}
	now += 4 * time.Second
	var left, probe Exchange
	left.Begin(table, Entry{}, get("s", "/"), now)
	probe.Begin(table, Entry{}, get("s", "/"), now)
	if s := call(Outcome{Status: 200}, Finished); s.Reason != BreakerOpen || s.After == 0 {
		t.Fatalf("a third probe: %+v", s)
	}
	left.End(Finished, now) // a probe that came to nothing makes room for another
	probe.Next(Outcome{Status: 200, Means: 0}, now)
	probe.End(Finished, now)
	if s := call(Outcome{Status: 200}, Finished); s.Kind != Done {
		t.Fatalf("the last probe: %+v", s)
	}
	if s := table.version("s", "v1").breaker.State(now); s.Mode.String() != "closed" {
		t.Errorf("after good probes: %+v", s)
	}
	var kinds []string
	for _, e := range table.Events(now) {
		kinds = append(kinds, e.Kind)
	}
	if !slices.Equal(kinds, []string{"breaker-open", "breaker-probing", "breaker-closed"}) {
		t.Errorf("events %v", kinds)
	}
}

// TestNothingLeaks: whatever becomes of requests, at the end no place, no probe
// and no trial is held.
func TestNothingLeaks(t *testing.T) {
	table := compile(t, guarded(`    balance: least-busy
    retry: {times: 2, each: 400ms, on: [5xx, timeout, reset, unreachable]}
    guard:
      in-flight: 3
      waiting: 2
      breaker: {errors: 60%, over: 2s, least: 5, open: 1s, probes: 2}
      sideline: {after: 2, for: 500ms, most: 70%}
    routes: [{name: all, send: {v1: 50, v2: 50}, otherwise: v1}]
`), nil, crowd("s/v1", "s/v1", "s/v1", "s/v2", "s/v2")...)
	rnd := rand.New(rand.NewPCG(5, 6))
	var xs [12]Exchange
	var steps [12]Step
	live := map[int]bool{}
	seen := map[Reason]int{}
	now := time.Duration(0)
	for i := range 300_000 {
		now += time.Duration(rnd.Int64N(int64(20 * ms)))
		k := rnd.IntN(len(xs))
		x, s := &xs[k], &steps[k]
		switch {
		case !live[k]:
			*s, live[k] = x.Begin(table, Entry{Wake: func() {}}, get("s", "/"), now), true
		case rnd.IntN(12) == 0 || s.Kind > Wait: // over, or the caller left
			seen[s.Reason]++
			x.End(Ending(rnd.IntN(3)), now)
			live[k] = false
		case s.Kind == Wait:
			*s = x.Next(Outcome{}, now)
		default:
			o := []Outcome{{Status: 200}, {Status: 200}, {Status: 503}, {Status: 200, Means: 503}, {Reason: Reset}, {Reason: TimedOut}, {Reason: Draining}}
			harm := 2
			if i/10_000%3 == 1 {
				harm = len(o)
			}
			*s = x.Next(o[rnd.IntN(harm)], now)
		}
	}
	for k := range xs {
		xs[k].End(Finished, now)
	}
	for _, r := range []Reason{Overflow, BreakerOpen, Reset, TimedOut} {
		if seen[r] < 20 {
			t.Errorf("%s came %d times: the schedule does not try it (%v)", r, seen[r], seen)
		}
	}
	for name, p := range table.services["s"].versions {
		if q := p.version.queue.State(); q.InFlight+q.Waiting != 0 {
			t.Errorf("%s: %+v is left", name, q)
		}
		for _, c := range p.peers {
			if s, out := p.version.side.State(c.Peer); c.Busy() != 0 || out && s.Trial {
				t.Errorf("%s is busy with %d, trial %t", c.ID, c.Busy(), s.Trial)
			}
		}
	}
	var x Exchange // and a quiet while later all is well
	for i := range 50 {
		play(&x, table, Entry{}, get("s", "/"), now+time.Minute+time.Duration(i)*100*ms, status(200))
	}
	if last, _, _ := play(&x, table, Entry{}, get("s", "/"), now+2*time.Minute, status(200)); last.Status != 200 {
		t.Errorf("a minute later: %+v", last)
	}
}

// everything is all guards at once.
const everything = `    balance: least-busy
    retry: {times: 2, each: 1s}
    guard:
      in-flight: 100
      waiting: 10
      breaker: {errors: 50%, slow: 80% over 1s}
      sideline: {after: 3}
    failover: {order: [same, south]}
    health: {path: /healthz}
    routes: [{name: all, send: {v1: 85, v2: 15}, limit: {rate: 1000000/s, per: "header:x-user"}}]
`

func TestGuardsDoNotAllocate(t *testing.T) {
	table := compile(t, guarded(everything), nil, crowd("s/v1", "s/v1", "s/v2")...)
	v := get("s", "/", "X-User: u")
	var x Exchange
	now := time.Duration(0)
	wake := func() {}
	if n := testing.AllocsPerRun(1000, func() {
		now += ms
		x.Begin(table, Entry{Wake: wake}, v, now)
		x.Next(Outcome{Status: 200}, now)
		x.End(Finished, now)
	}); n != 0 {
		t.Errorf("a request that succeeds at first allocates %v times", n)
	}
}

func BenchmarkGuards(b *testing.B) {
	for _, c := range []struct{ name, settings string }{{"off", "    routes: [{name: all, send: {v1: 85, v2: 15}}]\n"}, {"on", everything}} {
		b.Run(c.name, func(b *testing.B) {
			table := compile(b, guarded(c.settings), nil, crowd("s/v1", "s/v1", "s/v2")...)
			v := get("s", "/", "X-User: u")
			var x Exchange
			wake := func() {}
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				now := time.Duration(i) * time.Microsecond
				x.Begin(table, Entry{Wake: wake}, v, now)
				x.Next(Outcome{Status: 200}, now)
				x.End(Finished, now)
			}
		})
	}
}
