package engine

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/core/rules"
)

// actions has a route for every kind of action.
const actions = `
sites: [north, south]
services:
  s:
    versions: [v1, v2, v3]
    timeout: 2s
    routes:
      - {name: to-path, when: {path: /old/**}, redirect: {path: /new/**, status: 308}}
      - {name: to-root, when: {path: /root/**}, redirect: {path: /**}}
      - {name: to-host, when: {path: /host/**}, redirect: {scheme: https, host: b.example}}
      - {name: to-tls, when: {path: /tls}, redirect: {scheme: https}}
      - {name: said, when: {path: /said}, reply: {status: 418, body: short}, limit: {rate: 60/m, burst: 2, per: [header:x-k, cookie:c]}}
      - {name: short, when: {path: /short/**}, rewrite: {path: /**}, send: v1}
      - {name: north, when: {path: /north}, send: v1@north}
      - {name: instead, when: {path: /instead}, send: {v3: 50, v2: 50}, otherwise: v1@south}
      - {name: delayed, when: {path: /delayed}, fault: {delay: 1s, share: 40%}, send: v1}
      - {name: too-late, when: {path: /too-late}, fault: {delay: 3s}, send: v1}
      - {name: broken, when: {path: /broken}, fault: [{delay: 100ms}, {status: 503, share: 20%}], send: v1}
      - {name: copied, when: {path: /copied}, mirror: {to: v2, share: 5%}, send: v1}
      - {name: stuck, when: {path: /stuck}, send: {v1: 80, v2: 20}, stick: {by: "cookie:berth"}}
      - {name: crew, when: {headers: {x-crew: "yes"}, host: crew.example}, send: v2}
gateways:
  door:
    listen: ":80"
    hosts: ["*"]
    routes:
      - {name: crew, when: {path: /crew}, headers: {request: {set: {x-crew: "yes"}, remove: x-not}}, rewrite: {host: crew.example}, send: s}
      - {name: limited, when: {path: /said}, limit: {rate: 1/h, burst: 9}, send: s}
      - {name: rest, send: s}
`

func actionTable(t testing.TB, prev *Table) *Table {
	in := crowd("s/v1", "s/v1", "s/v2")
	in[0].Site, in[1].Site = "north", "south"
	return compile(t, actions, prev, in...)
}

func TestRedirects(t *testing.T) {
	table := actionTable(t, nil)
	for _, c := range []struct{ path, want string }{
		{"/old/a/b?x=1&y=%20", "308 /new/a/b?x=1&y=%20"},
		{"/old", "308 /new"},
		{"/root", "307 /"},
		{"/root//evil.example/x", "307 /evil.example/x"}, // two slashes would name a host
		{"/root/\\evil.example", "307 /%5Cevil.example"}, // and so would this, to a browser
		{"/root/%5cevil", "307 /%5cevil"},
		{"/old/a\"b<", "308 /new/a%22b%3C"},
		{"/host/a?q", "307 https://b.example/host/a?q"},
		{"/tls", "307 https://s/tls"},
	} {
		var x Exchange
		a := get("s:8080", c.path)
		s := x.Begin(table, Entry{}, a, 0)
		_, to := x.Answer()
		if got := fmt.Sprintf("%d %s", s.Status, to); s.Kind != Answer || got != c.want {
			t.Errorf("%s: got %s, want %s", c.path, got, c.want)
		}
		if e := Explain(table, Entry{}, a, 0); e.Answer == nil || fmt.Sprintf("%d %s", e.Answer.Status, e.Answer.Location) != c.want || len(e.Odds) > 0 {
			t.Errorf("%s: explained as %+v", c.path, e.Answer)
		}
	}
	var x Exchange
	if x.Begin(table, Entry{}, get("s", "/short//evil/x"), 0); x.Path() != "/evil/x" {
		t.Errorf("rewritten to %s", x.Path())
	}
}

func TestTargets(t *testing.T) {
	table := actionTable(t, nil)
	for path, want := range map[string][]string{"/north": {"s-v1-0"}, "/instead": {"s-v2-2", "s-v1-1"}} {
		seen := map[string]bool{}
		for range 100 {
			var x Exchange
			seen[x.Begin(table, Entry{}, get("s", path), 0).Instance.ID] = true
		}
		for _, id := range want {
			if !seen[id] || len(seen) != len(want) {
				t.Errorf("%s went to %v, want %v", path, seen, want)
			}
		}
	}
	if o := Explain(table, Entry{}, get("s", "/instead"), 0).Odds; len(o) != 2 || o[0].Version != "v1" || o[0].Share != 0.5 || o[0].Instances != 1 {
		t.Errorf("odds when a version is not there: %+v", o)
	}
	if o := Explain(table, Entry{}, get("s", "/north"), 0).Odds; len(o) != 1 || o[0].Site != "north" || o[0].Instances != 1 {
		t.Errorf("odds at one site: %+v", o)
	}
	gone := compile(t, actions, nil, crowd("s/v2")...)
	var x Exchange
	if s := x.Begin(gone, Entry{}, get("s", "/north"), 0); s.Reason != NoInstance {
		t.Errorf("nobody at that site: %+v", s)
	}
}

// TestFaults: the share is exact, the delay comes before all else and counts
// against the timeout.
func TestFaults(t *testing.T) {
	table := actionTable(t, nil)
	count := map[string]int{}
	for _, path := range []string{"/delayed", "/too-late", "/broken", "/copied"} {
		for range 100 {
			var x Exchange
			s := x.Begin(table, Entry{}, get("s", path), time.Minute)
			what := path
			if s.Kind == Wait {
				what += fmt.Sprintf(" waits %s", s.Deadline-time.Minute)
				s = x.Next(Outcome{}, s.Deadline)
			}
			if x.Mirror() != nil {
				what += " copied to " + x.Mirror().ID
			}
			if s.Kind == Reply {
				what += " " + string(s.Reason)
			} else if s.Deadline != time.Minute+2*time.Second || x.Attempts() != 1 {
				t.Errorf("%s: %+v after %d tries", path, s, x.Attempts())
			}
			count[what]++
		}
	}
	want := map[string]int{"/delayed": 60, "/delayed waits 1s": 40, "/too-late waits 2s timeout": 100, "/broken waits 100ms": 80, "/broken waits 100ms fault": 20,
		"/copied": 95, "/copied copied to s-v2-2": 5}
	if fmt.Sprint(count) != fmt.Sprint(want) {
		t.Errorf("got  %v\nwant %v", count, want)
	}
}

func TestLimits(t *testing.T) {
	table := actionTable(t, nil)
	try := func(now time.Duration, gateway string, headers ...string) (string, *Exchange) {
		var x Exchange
		s := x.Begin(table, Entry{Gateway: gateway}, get("s", "/said", headers...), now)
		return fmt.Sprint(s.Status, " ", s.Reason), &x
	}
	for i, c := range []struct {
		now     time.Duration
		headers []string
		want    string
	}{
		{0, []string{"X-K: 1"}, "418 "}, {0, []string{"X-K: 1"}, "418 "}, {0, []string{"X-K: 1"}, "429 limited"},
		{0, []string{"X-K: 2"}, "418 "}, {0, []string{"X-K: 1", "Cookie: c=z"}, "418 "}, {0, nil, "418 "},
		{999 * time.Millisecond, []string{"X-K: 1"}, "429 limited"}, {time.Second, []string{"X-K: 1"}, "418 "},
		// Parts of a key do not run into each other.
		{0, []string{"X-K: 1z"}, "418 "}, {0, []string{"X-K: 1z"}, "418 "},
	} {
		if got, _ := try(c.now, "", c.headers...); got != c.want {
			t.Errorf("request %d: got %s, want %s", i, got, c.want)
		}
	}
	// What is used up stays so when rules change elsewhere; of two limits the
	// one that is nearer its end is told.
	table = actionTable(t, table)
	got, x := try(time.Second, "", "X-K: 1")
	if rt, l, taken := x.Limit(); got != "429 limited" || rt.Name() != "said" || l.Count != 60 || taken.Left != 0 || taken.Wait != time.Second {
		t.Errorf("after a new table: %s, %+v", got, taken)
	}
	_, x = try(time.Second, "door", "X-K: 9")
	if rt, _, taken := x.Limit(); rt.Name() != "said" || taken.Left != 1 {
		t.Errorf("of two limits: %s with %d left", rt.Name(), taken.Left)
	}
}

// TestGatewayChangesWhatTheServiceSees: the service's own routes look at the
// request as the gateway's route hands it on.
func TestGatewayChangesWhatTheServiceSees(t *testing.T) {
	table := actionTable(t, nil)
	var x Exchange
	a := get("tickets.example", "/crew", "X-Crew: no", "X-Not: 1")
	if s := x.Begin(table, Entry{Gateway: "door"}, a, 0); s.Kind != Attempt || x.route.Name() != "crew" || x.SendHost() != "crew.example" {
		t.Errorf("got %+v", s)
	}
	e := Explain(table, Entry{Gateway: "door"}, a, 0)
	if n := len(e.Ladders); n != 2 || e.Odds[0].Version != "v2" {
		t.Errorf("explained: %+v", e)
	}
}

// TestStick: a visitor keeps its version; shares follow the weights; when they
// change, no more visitors move than have to.
func TestStick(t *testing.T) {
	visitor := func(i int) *ask { return get("s", "/stuck", fmt.Sprintf("Cookie: a=b; berth=visitor-%d", i)) }
	const visitors = 6_000
	where := func(table *Table) []string {
		out := make([]string, visitors)
		for i := range out {
			var x Exchange
			x.Begin(table, Entry{}, visitor(i), 0)
			out[i] = x.Version()
			if o := Explain(table, Entry{}, visitor(i), 0).Odds; i < 50 && (len(o) != 1 || o[0].Version != out[i] || o[0].Share != 1) {
				t.Fatalf("visitor %d goes to %s and is explained as %+v", i, out[i], o)
			}
		}
		return out
	}
	share := func(list []string, v string) float64 {
		n := 0
		for _, x := range list {
			if x == v {
				n++
			}
		}
		return float64(n) / visitors
	}
	moved := func(a, b []string) map[string]float64 {
		m := map[string]float64{}
		for i := range a {
			if a[i] != b[i] {
				m[a[i]+">"+b[i]] += 1.0 / visitors
			}
		}
		return m
	}
	weights := func(text string) []string {
		in := crowd("s/v1", "s/v2", "s/v3")
		return where(compile(t, strings.Replace(actions, "send: {v1: 80, v2: 20}", "send: "+text, 1), nil, in...))
	}
	one := weights("{v1: 80, v2: 20}")
	if !slices.Equal(one, weights("{v2: 20, v1: 80}")) {
		t.Error("the order of the targets counts")
	}
	near := func(what string, got, want float64) {
		if math.Abs(got-want) > 0.02 { // 3.8 standard deviations at most
			t.Errorf("%s: %.3f, want %.3f", what, got, want)
		}
	}
	near("share of v2", share(one, "v2"), 0.2)
	two := weights("{v1: 70, v2: 30}")
	m := moved(one, two)
	near("moved", m["v1>v2"], 0.1)
	if len(m) != 1 {
		t.Errorf("moved the wrong way: %v", m)
	}
	three := weights("{v1: 70, v2: 20, v3: 10}")
	m = moved(one, three)
	near("to the new version", m["v1>v3"]+m["v2>v3"], 0.1)
	if m["v2>v1"] > 0 {
		t.Errorf("v1 lost weight and gained visitors: %v", m)
	}
	// Without the cookie the split is dealt exactly.
	table, n := actionTable(t, nil), 0
	for range 1000 {
		var x Exchange
		if x.Begin(table, Entry{}, get("s", "/stuck"), 0); x.Version() == "v2" {
			n++
		}
	}
	if n != 200 {
		t.Errorf("%d of 1000 without a cookie went to v2", n)
	}
}

func TestSettingsAreExplained(t *testing.T) {
	table := actionTable(t, nil)
	e := Explain(table, Entry{Gateway: "door"}, get("x.example", "/said", "X-K: 5"), 0)
	var got []string
	for _, s := range e.Settings {
		if s.Origin.Line == 0 && s.From != "built in" {
			t.Errorf("%s has no origin", s.Name)
		}
		got = append(got, fmt.Sprintf("%s %s (%s)", s.Name, s.Value, s.From))
	}
	want := `limit 60/m, burst 2, per header:x-k and cookie:c (route said); limit 1/h, burst 9 (route limited of gateway door); reply 418 "short" (route said)`
	if strings.Join(got, "; ") != want || e.Answer.Body != "short" {
		t.Errorf("got %s", strings.Join(got, "; "))
	}
}

// TestCompileFails for rules that Check refuses, and does not panic.
func TestCompileFails(t *testing.T) {
	rs, found := rules.Check([]rules.File{{Name: "f", Text: "services: {s: {versions: [v1], routes: [{name: a, send: t/v1}]}}"}}, rules.Live{})
	if _, err := Compile(rs, nil, Options{}); err == nil || rules.Mistakes(found) != 1 {
		t.Errorf("compiled: %v, %v", err, found)
	}
}
