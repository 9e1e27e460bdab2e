package forecasts

import (
	"testing"
	"time"

	"nightjar/control/revisions"
	"nightjar/control/trials"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

const trialRules = `
services: {front: {versions: [v1]}, back: {versions: [v1]}}
trials:
  t:
    for: 9s
    warm-up: 3s
    load:
      - {to: front, path: /, rate: 7/s, arrivals: random}
      - {to: back, path: /back/x, rate: 5/s, arrivals: random}
`

// TestTrialArrivals: a trial is forecast with the arrivals that it has whenever it
// runs.
func TestTrialArrivals(t *testing.T) {
	rs, found := rules.Check([]rules.File{{Name: "t.yaml", Text: trialRules}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found)
	}
	p := plan{now: revisions.Current{Rules: rs}, mesh: &meshModel{}, trial: rs.Trials[0]}
	p.addTrial()
	for _, run := range []uint64{1, 2} {
		for i, st := range p.mesh.simulated(run, 1).Streams {
			real := trial.NewArrivals(&p.trial.Load[i], p.trial.WarmUp, p.trial.For, trials.Seed(i))
			for n := 0; ; n++ {
				want, more := real.Next()
				at, ok := st.Next()
				if ok != more || ok && at-st.Counted != want {
					t.Fatalf("run %d, load %d, request %d is due at %s, %t; in the trial at %s, %t", run, i, n, at-st.Counted, ok, want, more)
				}
				if !ok {
					break
				}
			}
		}
	}
}

// TestScaleDown: a trial that was simulated ten times is as sure of its figures as
// one.
func TestScaleDown(t *testing.T) {
	c := stats.Counts{OK: 9_000, FirstOK: 8_000, Failed: 600, Refused: 400, Tries: 12_000}
	c.Reasons[3] = 50
	for i := range 10_000 { // so spread that no bucket holds ten
		c.Observe(time.Duration(i+1) * time.Millisecond)
	}
	long := c.Quantile(0.99)
	one := trial.Tally{Counts: c, Versions: map[string]uint64{"s/v1": 9_000, "s/v2": 1_000}}
	scaleDown(&one, 10)
	left := uint64(0)
	for _, b := range one.Latency {
		left += b.N
	}
	if one.Requests() != 1000 || one.Tries != 1200 || one.FirstOK != 800 || one.Reasons[3] != 5 || one.Versions["s/v2"] != 100 || left < 999 || left > 1000 {
		t.Errorf("%+v, %d latencies", one, left)
	}
	if short := one.Quantile(0.99); short < long*95/100 || short > long*105/100 {
		t.Errorf("p99 was %s, and is %s", long, short)
	}
}
