// Package forecasts computes what would happen to requests: it builds a model of the
// mesh from what proxies measured, and simulates it with the engine's own code under
// the rules in force and under a draft.
package forecasts

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/effects"
	"nightjar/control/figures"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/control/trials"
	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/telemetry"
	"nightjar/traces"
	"nightjar/wire"
)

const (
	maxRequests   = 2_000_000
	usualRequests = 50_000
	sweepRequests = 20_000 // for each rate
	maxAtOnce     = 2      // forecasts
	maxTime       = 60 * time.Second
	maxRate       = 1000 // multiplier of the traffic
	minWindow     = 5    // seconds of measurements
	maxWindow     = telemetry.Kept - 60
)

// Figures is what proxies counted.
type Figures interface {
	Sum(ctx context.Context, from, to int64, visit telemetry.Visit) error
	Each(ctx context.Context, from, to int64, visit figures.VisitAt) error
	Span(seconds, end int64) (from, to int64)
}

// Config is what Forecasts are made of.
type Config struct {
	Figures   Figures
	Revisions *revisions.Revisions
	Trials    *trials.Trials
	Fleet     *fleet.Fleet
	Table     func() *engine.Table // of the rules in force
	Drills    func() []wire.Drill  // that are running
	Drains    func() []wire.Drain  // sites that are drained
	Traces    *traces.Store        // examples of requests
}

// Forecasts computes forecasts. It is safe for concurrent use.
type Forecasts struct {
	Config
	turns chan struct{} // one for each forecast that may be computed at a time
}

// New makes Forecasts.
func New(c Config) *Forecasts { return &Forecasts{c, make(chan struct{}, maxAtOnce)} }

// Forecast computes what would happen to requests.
func (f *Forecasts) Forecast(ctx context.Context, q model.ForecastRequest) (model.Forecast, error) {
	began := time.Now()
	select {
	case f.turns <- struct{}{}:
		defer func() { <-f.turns }()
	default:
		return model.Forecast{}, problem.Running("%d forecasts are being computed: try again in a moment", maxAtOnce)
	}
	ctx, stop := context.WithTimeout(ctx, maxTime)
	defer stop()
	p, err := f.plan(ctx, q)
	if err != nil {
		return model.Forecast{}, err
	}
	out := model.Forecast{
		Revision: p.now.Revision.Number,
		Before:   model.SideMeasured,
		After:    model.SideForecast,
		Draft:    from.Changes(p.changes),
		Seed:     p.seed,
	}
	sets := []*rules.Rules{p.now.Rules}
	if p.draft != nil {
		out.Before, out.After = model.SideInForce, model.SideDraft
		sets = append(sets, p.draft)
	}
	sides, err := p.run(ctx, sets, p.rate, p.requests)
	if err != nil {
		return out, err
	}
	first, last := sides[0], sides[len(sides)-1]
	out.Requests, out.Simulated = last.requests, last.tally.Seconds
	before := first.tally
	if p.draft == nil {
		before = p.seen.whole
	}
	after := sets[len(sets)-1]
	rows := effect.Compare(
		before,
		last.tally,
		func(route string) []effect.Target { return effects.Weights(after, route) },
	)
	out.Rows, out.Worse = from.EffectRows(rows), worse(rows)
	out.Expected = from.Expectations(last.judge(p.expect))
	if p.draft != nil && len(p.expect) > 0 {
		out.Now = from.Expectations(first.judge(p.expect))
	}
	out.Calibration = calibration(p, first.tally)
	out.Assumptions, out.Behaviour = p.mesh.assumptions, p.mesh.versions
	if q.Sweep {
		if err := p.sweep(ctx, sets, &out); err != nil {
			return out, err
		}
	}
	out.TookMS = figures.Millis(time.Since(began))
	return out, nil
}

// worse names the caller or service whose success drops by more than one point: a
// forecast does not promise to see less than that.
func worse(rows []effect.Row) string {
	for _, r := range rows {
		if (r.Kind == effect.Caller || r.Kind == effect.Service) && r.Verdict == effect.Worse &&
			*r.Success.Change < -0.01 {
			return fmt.Sprintf(
				"%s %s: success %.1f%% → %.1f%%",
				r.Kind,
				r.Name,
				100**r.Success.Before,
				100**r.Success.After,
			)
		}
	}
	return ""
}

// side is the result of one set of rules.
type side struct {
	tally    *effect.Tally
	judged   *trial.Tally // what expectations are about
	inbound  *trial.Tally // all that enters the mesh
	requests uint64
	seconds  float64
}

// judge compares expectations with the result.
func (s *side) judge(expect []rules.Expectation) []trial.Judgement {
	out := []trial.Judgement{}
	for i := range expect {
		out = append(out, trial.Judge(&expect[i], s.judged, s.seconds, 0))
	}
	return out
}

// run simulates sets of rules side by side, each until the given number of requests
// entered the mesh, or until the trial was repeated often enough.
func (p *plan) run(ctx context.Context, sets []*rules.Rules, rate float64, requests uint64) ([]side, error) {
	out, errs := make([]side, len(sets)), make([]error, len(sets))
	var all sync.WaitGroup
	for i, rs := range sets {
		all.Go(func() { out[i], errs[i] = p.simulate(ctx, rs, rate, requests) })
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// simulate simulates one set of rules.
func (p *plan) simulate(ctx context.Context, rs *rules.Rules, rate float64, requests uint64) (side, error) {
	s := side{
		tally:   &effect.Tally{},
		judged:  &trial.Tally{Versions: map[string]uint64{}},
		inbound: &trial.Tally{Versions: map[string]uint64{}},
	}
	for turn := uint64(0); s.requests < requests; turn++ {
		opt := forecast.Options{
			Seed:     p.seed + turn,
			Requests: requests - s.requests,
			Stop:     func() bool { return ctx.Err() != nil },
		}
		if p.trial != nil { // all of it, again and again
			opt.Requests, opt.Until = 0, max(p.trial.WarmUp, warmUp)+p.trial.For
		}
		r, err := forecast.Run(rs, p.mesh.simulated(p.seed+turn, rate), opt)
		switch {
		case err != nil:
			return s, problem.Invalid("the forecast cannot be computed: %v", err)
		case r.Stopped:
			return s, problem.Invalid(
				"the forecast was stopped after %s: ask for fewer requests, or a lower rate",
				maxTime,
			)
		case r.Requests == 0:
			return s, problem.Invalid("no request entered the mesh: raise the load, or send some requests first")
		}
		s.requests += r.Requests
		s.tally.Join(r.Tally)
		p.addStreams(&s, r)
		if s.seconds += r.Tally.Seconds; p.trial != nil {
			s.seconds += p.trial.For.Seconds() - r.Tally.Seconds
		}
	}
	// Counts and the requests of a trial are those of one of its runs.
	if p.trial != nil {
		runs := s.seconds / p.trial.For.Seconds()
		s.seconds = p.trial.For.Seconds()
		scaleDown(s.judged, runs)
	}
	return s, nil
}

// addStreams adds the results of the streams of one simulation.
func (p *plan) addStreams(s *side, r *forecast.Result) {
	for name, t := range r.Streams {
		isOfTrial := strings.HasPrefix(name, trialStream)
		for _, into := range []*trial.Tally{s.inbound, s.judged} {
			if into == s.judged && p.trial != nil && !isOfTrial {
				continue
			}
			into.Add(&t.Counts)
			for v, n := range t.Versions {
				into.Versions[v] += n
			}
		}
	}
}

// scaleDown makes the counts of several runs those of one, so that they are as
// uncertain as one run is: intervals are as wide as those of a trial.
func scaleDown(t *trial.Tally, runs float64) {
	if runs <= 1 {
		return
	}
	part := func(n uint64) uint64 { return uint64(math.Round(float64(n) / runs)) }
	c := &t.Counts
	for _, f := range []*uint64{&c.OK, &c.Failed, &c.Refused, &c.Tries, &c.FirstOK} {
		*f = part(*f)
	}
	for i := range c.Reasons {
		c.Reasons[i] = part(c.Reasons[i])
	}
	for v := range t.Versions {
		t.Versions[v] = part(t.Versions[v])
	}
	var bins []stats.Bin
	carry := 0.0 // so that rare latencies are not lost
	for _, b := range c.Latency {
		carry += float64(b.N) / runs
		if n := uint64(carry); n > 0 {
			carry -= float64(n)
			bins = append(bins, stats.Bin{Bucket: b.Bucket, N: n})
		}
	}
	c.Latency = bins
}

// maxCalibrations bounds the callers that calibration speaks of.
const maxCalibrations = 4

// calibration compares the forecast for the rules in force with what was measured.
func calibration(p *plan, now *effect.Tally) []string {
	out := []string{}
	if p.rate != 1 || p.trial != nil || len(p.mesh.drills) > 0 {
		return out
	}
	var rows []effect.Row
	for _, r := range effect.Compare(p.seen.whole, now, nil) {
		if r.Kind == effect.Caller && r.Before.Requests >= enough && r.After.Requests >= enough {
			rows = append(rows, r)
		}
	}
	slices.SortFunc(rows, func(a, b effect.Row) int { return cmp.Compare(b.Before.Requests, a.Before.Requests) })
	for _, r := range rows[:min(len(rows), maxCalibrations)] {
		out = append(
			out,
			fmt.Sprintf("Requests of %s: success %.2f%% (measured %.2f%%), p95 %.1f ms (measured %.1f ms), "+
				"attempts per request %.3f (measured %.3f).", r.Name, 100**r.Success.After, 100**r.Success.Before,
				*r.P95MS.After, *r.P95MS.Before, *r.Load.After, *r.Load.Before),
		)
	}
	return out
}
