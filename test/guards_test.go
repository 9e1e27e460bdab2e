package test

import (
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/api/model"
)

// change publishes the rules in force with words replaced, before and after in
// turn.
func (m *mesh) change(words ...string) {
	m.t.Helper()
	text := m.must(0, "rules", "show")
	for i := 0; i < len(words); i += 2 {
		if !strings.Contains(text, words[i]) {
			m.t.Fatalf("the rules do not hold %q:\n%s", words[i], text)
		}
		text = strings.Replace(text, words[i], words[i+1], 1)
	}
	m.must(0, "rules", "publish", write(m.t, m.t.TempDir(), "rules.yaml", text))
}

// answer is what came of a request.
type answer struct {
	status int
	took   time.Duration
	head   http.Header
	body   string
}

// ask sends one request through a proxy.
func (m *mesh) ask(proxy, host, path string, headers ...string) answer {
	m.t.Helper()
	req, err := http.NewRequest("GET", "http://"+proxy+path, nil)
	if err != nil {
		m.t.Fatal(err)
	}
	req.Host = host
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	began := time.Now()
	resp, err := (&http.Client{Timeout: patience}).Do(req)
	if err != nil {
		m.t.Error(err)
		return answer{}
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return answer{resp.StatusCode, time.Since(began), resp.Header, string(b)}
}

// drill begins a drill and returns its ID.
func (m *mesh) drill(args ...string) string {
	m.t.Helper()
	id, _, _ := strings.Cut(m.must(0, append([]string{"drill", "start"}, args...)...), " ")
	return id
}

// service is how a service stands.
func (m *mesh) service(name string, window int) model.Service {
	m.t.Helper()
	v, err := m.api.Mesh(m.t.Context(), window)
	if err != nil {
		m.t.Fatal(err)
	}
	for _, s := range v.Services {
		if s.Name == name {
			return s
		}
	}
	m.t.Fatalf("no service %s", name)
	return model.Service{}
}

// TestGuardStories plays somebody else's bad day, and what the rules make of it.
func TestGuardStories(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	probe := m.outbound("")

	t.Run("a timeout answers in time, and without it the slow answer comes", func(t *testing.T) {
		m.t = t
		m.change("versions: [legacy]\n    timeout: 25s", "versions: [legacy]\n    timeout: 1.5s")
		id := m.drill("--service", "harbour-office", "--delay", "2500ms", "--for", "1m")
		if a := m.ask(probe, "harbour-office", "/register"); a.status != 504 || a.took < 1500*time.Millisecond || !strings.Contains(a.body, "a drill delays it") {
			t.Errorf("%+v", a)
		}
		m.change("versions: [legacy]\n    timeout: 1.5s", "versions: [legacy]")
		if a := m.ask(probe, "harbour-office", "/register"); a.status != 200 || a.took < 2500*time.Millisecond {
			t.Errorf("%+v", a)
		}
		if out := m.must(0, "services"); !strings.Contains(out, "Drill "+id+" is running for another") || !strings.Contains(out, "harbour-office: every attempt is delayed by 2.5s") {
			t.Errorf("services:\n%s", out)
		}
		m.must(0, "drill", "stop", id)
		if out := m.must(2, "drill", "stop", id); !strings.Contains(out, "no drill "+id+" is running") {
			t.Errorf("stopped twice: %s", out)
		}
		if a := m.ask(probe, "harbour-office", "/register"); a.status != 200 || a.took > 2400*time.Millisecond {
			t.Errorf("after the drill %+v", a)
		}
	})
	t.Run("a version that hangs takes so many requests and no more", func(t *testing.T) {
		m.t = t
		m.change("    versions: [v1]\n    identity: none", "    versions: [v1]\n    timeout: 3s\n    guard: {in-flight: 6, waiting: 0}\n    identity: none")
		id := m.drill("--service", "tides", "--delay", "12s", "--for", "1m")
		var mu sync.Mutex
		tally := map[int]int{}
		var slowest, refused time.Duration
		var all sync.WaitGroup
		for range 7 {
			all.Go(func() {
				a := m.ask(probe, "tides", "/tides/next")
				mu.Lock()
				defer mu.Unlock()
				if tally[a.status]++; a.status == 503 {
					refused = a.took
				}
				slowest = max(slowest, a.took)
			})
		}
		eventually(t, "the guard is shown", func() bool {
			for _, c := range m.service("tides", 10).Guards {
				if len(c.Versions) > 0 && c.Versions[0].Queue != nil && c.Versions[0].Queue.InFlight == 6 {
					return true
				}
			}
			return false
		})
		if out := m.must(0, "services", "tides", "-o", "wide"); !strings.Contains(out, "6 of 6") {
			t.Errorf("wide:\n%s", out)
		}
		all.Wait()
		if tally[503] != 1 || tally[504] != 6 || refused > 2*time.Second || slowest > 11*time.Second {
			t.Errorf("%v, the refusal after %v, the last after %v", tally, refused, slowest)
		}
		m.must(0, "drill", "stop", id)
		if got := m.call(4, "http://tides/tides/next"); got.Status["200"] != 4 {
			t.Errorf("after the drill: %v", got.Status)
		}
	})
	t.Run("an instance that fails is sidelined", func(t *testing.T) {
		m.t = t
		m.change("{name: all, send: {v1: 50, v2: 50}, timeout: 25s}", "{name: all, send: v1, timeout: 25s}", "    versions: [v1, v2]           # v1 has two", "    guard: {sideline: {after: 2, for: 1h}}\n    versions: [v1, v2] # v1 has two")
		id := m.drill("--service", "berths", "--instance", "berths-v1-a", "--fail", "100%", "--for", "1m")
		// One after the other: of several at once a third may be under way when the second fails.
		if got := m.call(60, "http://berths/berths/free", "--concurrency", "1"); got.Reasons["fault"] != 2 || got.Instances["berths-v1-b"] != 58 {
			t.Errorf("%v, %v", got.Reasons, got.Instances)
		}
		eventually(t, "the sidelined instance is shown", func() bool {
			return strings.Contains(m.must(0, "services", "berths", "-o", "wide"), "sidelined berths-v1-a")
		})
		if out := m.must(0, "activity", "--service", "berths"); !strings.Contains(out, "2 failures in a row, the last: fault; out for 1h0m0s") {
			t.Errorf("activity:\n%s", out)
		}
		m.must(0, "drill", "stop", id)
		if out := m.must(0, "let-back", "berths", "berths-v1-a"); !strings.Contains(out, "1 proxy sends requests to berths-v1-a again") {
			t.Errorf("let back:\n%s", out)
		}
		eventually(t, "it takes requests again, an hour early", func() bool {
			return m.call(30, "http://berths/berths/free").Instances["berths-v1-a"] > 0
		})
		eventually(t, "no proxy has it sidelined", func() bool {
			return !strings.Contains(m.must(0, "services", "berths", "-o", "wide"), "sidelined berths-v1-a")
		})
		if _, errs, code := m.run("let-back", "berths", "berths-v1-a"); code != 2 || !strings.Contains(errs, "no proxy has sidelined") {
			t.Errorf("once more: exit %d\n%s", code, errs)
		}
		m.must(0, "rules", "restore", "1")
	})
	t.Run("retries buy success, and the load is told", func(t *testing.T) {
		m.t = t
		m.change("send: {v1: 90, v2: 10}, timeout: 25s", "send: v1, timeout: 25s, retry: {times: 2, budget: 100%}")
		id := m.drill("--service", "fares", "--version", "v1", "--fail", "30%", "--for", "2m")
		got := m.call(400, "http://fares/fares/adult")
		if n := got.Status["200"]; n < 375 { // 389 on average
			t.Errorf("%v", got.Status)
		}
		eventually(t, "figures of fares", func() bool {
			f := m.service("fares", 60).Versions[0].Figures
			return f.Requests >= 400 && *f.AttemptsPerRequest > 1.25 && *f.AttemptsPerRequest < 1.55 && *f.FirstAttempt > 0.6 && *f.FirstAttempt < 0.8
		})
		m.must(0, "drill", "stop", id)
	})
	t.Run("a site goes down, and nobody notices", func(t *testing.T) {
		m.t = t
		m.must(0, "rules", "restore", "1")
		m.change("{name: all, send: {v1: 50, v2: 50}, timeout: 25s}", "{name: all, send: v1, timeout: 25s}", "    versions: [v1, v2]           # v1 has two", "    failover: {order: [north-quay, south-quay]}\n    versions: [v1, v2] # v1 has two")
		eventually(t, "all go to north-quay, where an instance is just back", func() bool {
			return m.call(20, "http://berths/berths/free").Instances["berths-v1-a"] == 20
		})
		stop := load(t, probe, "berths", "/berths/free")
		m.drill("--service", "berths", "--site", "north-quay", "--down", "--for", "2s")
		if got := m.call(20, "http://berths/berths/free"); got.Instances["berths-v1-b"] != 20 {
			t.Errorf("while north-quay is down: %v", got.Instances)
		}
		eventually(t, "north-quay is back", func() bool {
			return m.call(10, "http://berths/berths/free").Instances["berths-v1-a"] == 10
		})
		if sent, bad := stop(); len(bad) > 0 || sent < 50 {
			t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
		}
		eventually(t, "it is in the log", func() bool {
			out := m.must(0, "activity", "--service", "berths")
			return strings.Contains(out, "settled") && strings.Contains(out, "spills") && strings.Contains(out, "ended by itself")
		})
	})
	t.Run("a limit for each pair of values", func(t *testing.T) {
		m.t = t
		m.change("limit: {rate: 30/m, burst: 5, per: header:x-terminal}", `limit: {rate: 6/m, per: ["header:x-terminal", "header:x-fare"]}`)
		gateway := strings.TrimPrefix(m.member("front-door-a", "serves", follows).Outbound, "http://")
		ask := func(fare string) answer {
			return m.ask(gateway, "tickets.ferry.example", "/fares/adult", "X-Terminal", "t1", "X-Fare", fare)
		}
		for i := range 6 {
			if a := ask("adult"); a.status == 429 {
				t.Errorf("request %d: %+v", i+1, a)
			}
		}
		if a := ask("adult"); a.status != 429 || a.head.Get("Retry-After") == "" || !strings.Contains(a.head.Get("RateLimit"), "r=0") {
			t.Errorf("the seventh: %+v", a)
		}
		if a := ask("child"); a.status == 429 {
			t.Errorf("another value: %+v", a)
		}
	})
	t.Run("wrong words", func(t *testing.T) {
		m.t = t
		for args, want := range map[string]string{
			"drill start --service sailing --fail 3%":                    "nearest: sailings",
			"drill start --service sailings":                             "does nothing",
			"drill start --service sailings --fail 3% --when {headrs:x}": "nearest: headers",
			"drill stop":           "expected: nightjar drill stop ID",
			"access show":          "unexpected \"show\": nightjar access takes no argument",
			"activity --limit 900": "expected 1 to 200",
		} {
			if out := m.must(2, strings.Fields(args)...); !strings.Contains(out, want) {
				t.Errorf("%s: lacks %q:\n%s", args, want, out)
			}
		}
	})
}

// TestGuardsInTheConsole: drills begin and end there, and what they do to the
// guards is seen.
func TestGuardsInTheConsole(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t, "--no-traffic")
	m.change("{name: all, send: {v1: 50, v2: 50}, timeout: 25s}", "{name: all, send: v1, timeout: 25s}", "    versions: [v1, v2]           # v1 has two",
		"    guard: {in-flight: 50, breaker: {errors: 50%, least: 5, open: 5m}}\n    retry: {times: 1}\n    versions: [v1, v2] # v1 has two")
	b := openTab(t, m)
	b.visit("/services/berths?tab=instances")
	b.says("[data-test=no-guards]", "No guard, retry or limit was used")
	b.click("drill")
	b.click("drill-start")
	b.says("[data-test=running-drill-1]", "Drill drill-1 by console: berths: 30% of the attempts fail with 503")
	b.click("stop-drill-1")
	b.click("act-confirm")
	b.until("!document.querySelector('[data-test=running-drill-1]')")
	m.drill("--service", "berths", "--version", "v1", "--fail", "100%", "--for", "5m")
	b.says("[data-test=running-drill-2]", "berths/v1: 100% of the attempts fail with 503")
	b.visit("/services/berths?tab=instances")
	for range 10 {
		m.ask(m.outbound(""), "berths", "/berths/free")
	}
	b.says("[data-test=guards]", "nightjar-probe")
	b.says("[data-test=breaker-open]", "open")
	b.says("[data-test=in-flight]", "0 of 50")
	b.click("tab-activity")
	b.says("[data-test=activity]", "breaker-open")
	b.says("[data-test=activity]", "console drill-started")
	b.visit("/") // on every page
	b.says("[data-test=notices]", "drill-2: berths/v1")
	b.click("notices")
	b.says("[data-test=running-drill-2]", "berths/v1")
}
