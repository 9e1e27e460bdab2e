package forecast

import (
	"math"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

const million = 1_000_000

func mustRules(t testing.TB, text string) *rules.Rules {
	t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "rules.yaml", Text: text}}, rules.Live{})
	for _, f := range found {
		if f.Severity == rules.Mistake {
			t.Fatalf("%s: %s", f.At, f.Message)
		}
	}
	return rs
}

// poisson is the times of a Poisson stream.
func poisson(perSecond float64, seed uint64) func() (time.Duration, bool) {
	return trial.NewArrivals(&rules.Load{Rate: rules.Rate{Count: perSecond, Per: time.Second}, Random: true}, 0, 1000*time.Hour, seed).Next
}

// single is a service s with one instance, called so often.
func single(perSecond float64, b Behaviour, seed uint64) *Mesh {
	return &Mesh{Instances: []engine.Instance{{ID: "s-a", Service: "s", Version: "v1"}}, Proxies: []Proxy{{ID: "edge-a", Caller: "edge"}}, Behaviour: map[string]Behaviour{"s/v1": b},
		Streams: []Stream{{Name: "all", Caller: "edge", To: "s", Kinds: []Kind{{1, &Request{Path: "/"}}}, Next: poisson(perSecond, seed), Counted: 20 * time.Second}}}
}

func mean(c *stats.Counts) float64 {
	sum, n := 0.0, 0.0
	for _, b := range c.Latency {
		sum += float64(b.N) * stats.BucketMiddle(int(b.Bucket)).Seconds()
		n += float64(b.N)
	}
	return sum / n
}

// erlangB is the share that finds all of c servers busy (A. K. Erlang, 1917), by
// the usual recursion.
func erlangB(c int, load float64) float64 {
	b := 1.0
	for k := 1; k <= c; k++ {
		b = load * b / (float64(k) + load*b)
	}
	return b
}

// erlangC is the share that has to wait where nobody is turned away.
func erlangC(c int, load float64) float64 {
	b := erlangB(c, load)
	return b / (1 - load/float64(c)*(1-b))
}

// Closed formulas: L. Kleinrock, "Queueing Systems", volume 1, 1975.
func TestQueuesAgreeWithTheory(t *testing.T) {
	const service = 10 * time.Millisecond // mean
	mu := 1 / service.Seconds()
	plain, never := "services: {s: {versions: [v1]}}", "timeout: 5m, guard: {waiting: 100000, wait-at-most: 5m, in-flight: "
	waits := func(c int, load float64) float64 {
		return service.Seconds() + erlangC(c, load)/(float64(c)*mu-load*mu)
	}
	for _, q := range []struct {
		name     string
		rules    string
		rate     float64
		b        Behaviour
		latency  float64 // mean, in seconds; 0: not looked at
		refused  float64 // share; 0: none
		tolerant float64
	}{
		{"M/M/1", plain, 0.6 * mu, Behaviour{Own: Exponential(service), AtOnce: 1}, 1 / (mu - 0.6*mu), 0, 0.01},
		{"M/M/4", plain, 2.8 * mu, Behaviour{Own: Exponential(service), AtOnce: 4}, waits(4, 2.8), 0, 0.01},
		{"M/D/1", plain, 0.7 * mu, Behaviour{Own: Fixed(service), AtOnce: 1}, service.Seconds() * (1 + 0.7/(2*(1-0.7))), 0, 0.01},
		{"Erlang C in the engine's line", "services: {s: {versions: [v1], " + never + "5}}}", 3.5 * mu, Behaviour{Own: Exponential(service)}, waits(5, 3.5), 0, 0.01},
		{"Erlang B at the engine's in-flight", "services: {s: {versions: [v1], guard: {in-flight: 5, waiting: 0}}}", 5 * mu, Behaviour{Own: Exponential(service)}, 0, erlangB(5, 5), 0.01},
		{"Erlang B, times of another shape", "services: {s: {versions: [v1], guard: {in-flight: 5, waiting: 0}}}", 4 * mu, Behaviour{Own: Fixed(service)}, 0, erlangB(5, 4), 0.01},
	} {
		t.Run(q.name, func(t *testing.T) {
			r, err := Run(mustRules(t, q.rules), single(q.rate, q.b, 3), Options{Seed: 1, Requests: million})
			if err != nil {
				t.Fatal(err)
			}
			c := &r.Streams["all"].Counts
			if c.Requests() != million {
				t.Fatalf("%d requests counted", c.Requests())
			}
			if got := mean(c); q.latency > 0 {
				t.Logf("mean %.4f ms, theory %.4f ms (%+.2f%%)", 1e3*got, 1e3*q.latency, 100*(got/q.latency-1))
				if math.Abs(got/q.latency-1) > q.tolerant {
					t.Errorf("that is off by more than %g%%", 100*q.tolerant)
				}
			}
			got := float64(c.Refused) / million
			t.Logf("refused %.5f, theory %.5f", got, q.refused)
			if math.Abs(got-q.refused) > q.tolerant*q.refused {
				t.Errorf("that is off by more than %g%%", 100*q.tolerant)
			}
		})
	}
}

// What is put together out of several distributions comes apart again, also where
// the own time is a small part of the whole.
func TestApart(t *testing.T) {
	other, slow := LogNormal(5*time.Millisecond, 0.4, 0), LogNormal(30*time.Millisecond, 0.5, 0.03)
	for name, own := range map[string]Times{"long": LogNormal(8*time.Millisecond, 0.35, 0), "short": LogNormal(3*time.Millisecond, 0.3, 0), "of two kinds": LogNormal(6*time.Millisecond, 0.3, 0.1)} {
		var whole, first, second, pure stats.Counts
		d := Draw(9)
		for range 30_000 {
			a, b := own(&d), other(&d)
			pure.Observe(a)
			first.Observe(b)
			a += b
			if d.Uniform() < 0.2 {
				c := slow(&d)
				second.Observe(c)
				a += c
			}
			whole.Observe(a)
		}
		got := stats.Counts{Latency: Apart(whole.Latency, []Part{{1, first.Latency}, {0.2, second.Latency}})}
		if m, want := mean(&got), mean(&pure); math.Abs(m/want-1) > 0.05 {
			t.Errorf("%s: a mean of %.2f ms, in truth %.2f ms", name, 1e3*m, 1e3*want)
		}
		for _, q := range []float64{0.1, 0.5, 0.9, 0.95} {
			have, want := got.Quantile(q).Seconds(), pure.Quantile(q).Seconds()
			t.Logf("%s, %g: %.2f ms, in truth %.2f ms", name, q, 1e3*have, 1e3*want)
			if math.Abs(have-want) > max(0.1*want, 0.0004) { // a cell of the grid is a third of a millisecond
				t.Errorf("the quantile %g is off by %.0f%%", q, 100*(have/want-1))
			}
		}
		if same := Apart(whole.Latency, nil); len(same) != len(whole.Latency) {
			t.Error("without parts the whole is not the whole")
		}
	}
}
