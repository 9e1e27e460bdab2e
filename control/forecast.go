package control

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/core/effect"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

// Limits of forecasts.
const (
	maxForecastRequests = 2_000_000
	usualRequests       = 50_000
	sweepRequests       = 20_000 // for each rate
	maxForecasts        = 2      // at once
	forecastTime        = 60 * time.Second
)

// ForecastAsk asks what requests would come to.
type ForecastAsk struct {
	Rules     []rules.File `json:"rules,omitempty" doc:"draft of a bundle; without one the rules in force are compared with what was measured"`
	Bundle    string       `json:"bundle,omitempty" doc:"bundle that the draft replaces; main when empty"`
	Split     *SplitAsk    `json:"split,omitempty" doc:"in place of a draft: other weights of one route"`
	Guard     *GuardAsk    `json:"guard,omitempty" doc:"in place of a draft: another line in front of each version of a service"`
	Trial     string       `json:"trial,omitempty" doc:"a trial whose load comes besides; its expectations are judged"`
	File      []rules.File `json:"file,omitempty" doc:"files that hold the trial"`
	Alone     bool         `json:"alone,omitempty" doc:"the trial's load alone, without what comes into the mesh now"`
	Expect    []string     `json:"expect,omitempty" doc:"expectations, such as success >= 98.5%; of all requests that come into the mesh, or of the trial"`
	Window    int64        `json:"window,omitempty" doc:"seconds whose measurements are taken; 300 when 0, at most 840"`
	Requests  uint64       `json:"requests,omitempty" doc:"that come into the mesh; 50000 when 0, at most 2000000"`
	Seed      uint64       `json:"seed,omitempty" doc:"1 when 0; the same seed and measurements have the same result"`
	Behaviour string       `json:"behaviour,omitempty" doc:"text of a behaviour file: what is to be taken for certain of some versions"`
	Rate      float64      `json:"rate,omitempty" doc:"multiple of today's rates; 1 when 0"`
	Sweep     bool         `json:"sweep,omitempty" doc:"also at other rates, from a quarter to eight times"`
	Down      []string     `json:"down,omitempty" doc:"sites, or SERVICE/VERSION, of which nobody answers"`
}

// SplitAsk is other weights of one route.
type SplitAsk struct {
	Service string   `json:"service"`
	Route   string   `json:"route,omitempty"`
	Weights []Weight `json:"weights"`
}

// GuardAsk is another line in front of each version of a service.
type GuardAsk struct {
	Service  string `json:"service"`
	InFlight int    `json:"inFlight" doc:"requests at once for each calling proxy"`
	Waiting  int    `json:"waiting" doc:"that wait beyond them; more are refused"`
}

// Forecast is what requests would come to.
type Forecast struct {
	Revision    uint              `json:"revision" doc:"in force"`
	Before      string            `json:"before" doc:"what the side before is: measured, or in force"`
	After       string            `json:"after" doc:"forecast (of the rules in force), or draft"`
	Draft       []rules.Change    `json:"draft" doc:"what the draft changes"`
	Requests    uint64            `json:"requests" doc:"simulated on each side, that come into the mesh"`
	Simulated   float64           `json:"simulated" doc:"seconds of the mesh on each side"`
	TookMS      float64           `json:"tookMS" doc:"that it took to compute"`
	Seed        uint64            `json:"seed"`
	Rows        []effect.Row      `json:"rows" doc:"as of an effect"`
	Expected    []trial.Judgement `json:"expected" doc:"of the side after"`
	Now         []trial.Judgement `json:"now,omitempty" doc:"the same of the rules in force, with a draft"`
	Calibration []string          `json:"calibration" doc:"what the forecast says of the rules in force, beside what was measured"`
	Assumed     []string          `json:"assumed"`
	Behaviour   []TakenFor        `json:"behaviour"`
	Sweep       []SweepPoint      `json:"sweep,omitempty" doc:"by rate, rising"`
	Begins      []Begins          `json:"begins,omitempty" doc:"at which rate the mesh begins to refuse"`
	Worse       string            `json:"worse,omitempty" doc:"the caller or service whose success becomes worse by more than a point"`
}

// SweepPoint is what requests come to at one rate.
type SweepPoint struct {
	RPS    float64   `json:"rps" doc:"that come into the mesh"`
	Before SweepSide `json:"before" doc:"by the rules in force"`
	After  SweepSide `json:"after" doc:"by the draft; the same without one"`
}

// SweepSide is one set of rules at one rate.
type SweepSide struct {
	Success float64 `json:"success" doc:"0 to 1, of the requests that come into the mesh"`
	Refused float64 `json:"refused" doc:"refusals by guards and limits, anywhere in the mesh, for each request that comes in; 1 at most"`
	P95MS   float64 `json:"p95MS"`
	Load    float64 `json:"load" doc:"requests between services for each that comes in, tries counted: by how much retries multiply"`
	Reason  string  `json:"reason,omitempty" doc:"of most refusals"`
	Where   string  `json:"where,omitempty" doc:"link with most of them"`
}

// Begins is where refusals begin.
type Begins struct {
	Rules  string  `json:"rules" doc:"the rules in force, or the draft"`
	RPS    float64 `json:"rps" doc:"that come into the mesh; 0: at none of the rates"`
	Reason string  `json:"reason,omitempty"`
	Where  string  `json:"where,omitempty"`
}

// Words says where refusals begin.
func (b Begins) Words() string {
	if b.RPS == 0 {
		return fmt.Sprintf("By the rules %s guards and limits refuse nothing at any of these rates.", b.name())
	}
	return fmt.Sprintf("By the rules %s the mesh begins to refuse at %.0f requests a second: %s on %s.", b.name(), b.RPS, b.Reason, b.Where)
}

func (b Begins) name() string {
	if b.Rules == DraftSide {
		return "of the draft"
	}
	return b.Rules
}

// beginsAt is the share of refusals from which they have begun.
const beginsAt = 0.001

// InForceSide and DraftSide name the sides of a forecast.
const (
	MeasuredSide = "measured"
	AloneSide    = "forecast" // of the rules in force, without a draft
	InForceSide  = "in force"
	DraftSide    = "draft"
)

// Forecast computes what requests would come to.
func (c *Control) Forecast(ctx context.Context, ask ForecastAsk) (Forecast, error) {
	began := time.Now()
	select {
	case c.forecasting <- struct{}{}:
		defer func() { <-c.forecasting }()
	default:
		return Forecast{}, Busy{fmt.Sprintf("%d forecasts are being computed: try again in a moment", maxForecasts)}
	}
	q, err := c.forecastPlan(ask)
	if err != nil {
		return Forecast{}, err
	}
	ctx, stop := context.WithTimeout(ctx, forecastTime)
	defer stop()
	f := Forecast{Revision: c.InForce().Revision.Number, Before: MeasuredSide, After: AloneSide, Draft: []rules.Change{}, Seed: q.seed, Expected: []trial.Judgement{}, Rows: []effect.Row{}}
	if q.draft != nil {
		f.Before, f.After, f.Draft = InForceSide, DraftSide, q.changes
	}
	sets := []*rules.Rules{c.InForce().Rules}
	if q.draft != nil {
		sets = append(sets, q.draft)
	}
	sides, err := q.run(ctx, sets, q.rate, q.requests)
	if err != nil {
		return f, err
	}
	last := sides[len(sides)-1]
	f.Requests, f.Simulated = last.requests, last.tally.Seconds
	before := sides[0].tally
	if q.draft == nil {
		before = q.seen.whole
	}
	after := sets[len(sets)-1]
	f.Rows = effect.Compare(before, last.tally, func(route string) []effect.Target { return weightsOf(after, route) })
	f.Worse = worseThan(f.Rows)
	for i := range q.expect {
		f.Expected = append(f.Expected, trial.Judge(&q.expect[i], last.asked, last.seconds, 0))
		if q.draft != nil {
			f.Now = append(f.Now, trial.Judge(&q.expect[i], sides[0].asked, sides[0].seconds, 0))
		}
	}
	f.Calibration = calibration(q, sides[0].tally)
	f.Assumed, f.Behaviour = q.model.assumed, q.model.versions
	if ask.Sweep {
		if err := q.sweep(ctx, sets, &f); err != nil {
			return f, err
		}
	}
	f.TookMS = millis(time.Since(began))
	return f, nil
}

// worseThan names the row that becomes worse by more than a point: less than that
// a forecast does not promise to tell.
func worseThan(rows []effect.Row) string {
	for _, r := range rows {
		if (r.Kind == effect.Caller || r.Kind == effect.Service) && r.Verdict == effect.Worse && *r.Success.Change < -0.01 {
			return fmt.Sprintf("%s %s: success %.1f%% → %.1f%%", r.Kind, r.Name, 100**r.Success.Before, 100**r.Success.After)
		}
	}
	return ""
}

// side is what came of one set of rules.
type side struct {
	tally    *effect.Tally
	asked    *trial.Tally // what expectations are of
	inbound  *trial.Tally // all that comes into the mesh
	requests uint64
	seconds  float64
}

// run simulates sets of rules side by side, until so many requests came in, or
// the trial has been gone through often enough.
func (q *forecastPlan) run(ctx context.Context, sets []*rules.Rules, rate float64, requests uint64) ([]side, error) {
	out, errs := make([]side, len(sets)), make([]error, len(sets))
	var both sync.WaitGroup
	for i, rs := range sets {
		both.Go(func() { out[i], errs[i] = q.one(ctx, rs, rate, requests) })
	}
	both.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (q *forecastPlan) one(ctx context.Context, rs *rules.Rules, rate float64, requests uint64) (side, error) {
	s := side{tally: &effect.Tally{}, asked: &trial.Tally{Versions: map[string]uint64{}}, inbound: &trial.Tally{Versions: map[string]uint64{}}}
	for turn := uint64(0); s.requests < requests; turn++ {
		opt := forecast.Options{Seed: q.seed + turn, Requests: requests - s.requests, Stop: func() bool { return ctx.Err() != nil }}
		if q.trial != nil { // the whole of it, again and again
			opt.Requests, opt.Until = 0, max(q.trial.WarmUp, warmUp)+q.trial.For
		}
		r, err := forecast.Run(rs, q.model.mesh(q.seed+turn, rate), opt)
		switch {
		case err != nil:
			return s, Unusable{"the forecast cannot be computed: " + err.Error()}
		case r.Stopped:
			return s, Unusable{fmt.Sprintf("after %s the forecast was not there: ask for fewer requests, or a lower rate", forecastTime)}
		case r.Requests == 0:
			return s, Unusable{"no request came in: the load is too small to tell anything"}
		}
		s.requests += r.Requests
		s.tally.Join(r.Tally)
		for name, t := range r.Streams {
			of := strings.HasPrefix(name, trialStream)
			for _, into := range []*trial.Tally{s.inbound, s.asked} {
				if into == s.asked && q.trial != nil && !of {
					continue
				}
				into.Add(&t.Counts)
				for v, n := range t.Versions {
					into.Versions[v] += n
				}
			}
		}
		if s.seconds += r.Tally.Seconds; q.trial != nil {
			s.seconds += q.trial.For.Seconds() - r.Tally.Seconds
		}
	}
	// Counts and the requests of a trial are of one of its runs.
	if q.trial != nil {
		runs := s.seconds / q.trial.For.Seconds()
		s.seconds = q.trial.For.Seconds()
		scaleDown(s.asked, runs)
	}
	return s, nil
}

// scaleDown makes the counts of several runs those of one. What chance does to one
// run is in them then: intervals are as wide as a trial's own.
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

// calibration tells how well the forecast of the rules in force meets what was
// measured.
func calibration(q *forecastPlan, now *effect.Tally) []string {
	out := []string{}
	if q.rate != 1 || q.trial != nil || len(q.model.drills) > 0 {
		return out
	}
	var rows []effect.Row
	for _, r := range effect.Compare(q.seen.whole, now, nil) {
		if r.Kind == effect.Caller && r.Before.Requests >= enough && r.After.Requests >= enough {
			rows = append(rows, r)
		}
	}
	slices.SortFunc(rows, func(a, b effect.Row) int { return cmp.Compare(b.Before.Requests, a.Before.Requests) })
	for _, r := range rows[:min(len(rows), 4)] {
		out = append(out, fmt.Sprintf("Requests of %s: success %.2f%% where %.2f%% was measured, p95 %.1f ms where %.1f ms was, load factor %.3f where %.3f was.", r.Name,
			100**r.Success.After, 100**r.Success.Before, *r.P95MS.After, *r.P95MS.Before, *r.Load.After, *r.Load.Before))
	}
	return out
}
