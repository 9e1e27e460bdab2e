package trials

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/control/figures"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/load"
)

// curveShares are the points of a latency curve.
var curveShares = []float64{
	0.01, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.75, 0.8, 0.85, 0.9, 0.925, 0.95, 0.975, 0.99, 0.995, 0.999,
}

// state is the trial as it is now.
func (r *run) state() record {
	if k := r.result.Load(); k != nil {
		return *k
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.record
	k.Seconds = r.seconds()
	k.Figures = figuresOf((&figures.Tally{Counts: r.tally.Counts}).Figures(max(k.Seconds, 0.001)))
	k.Expected = r.judge(k.Seconds)
	k.Versions = r.shares()
	k.Status = maps.Clone(r.status)
	k.Notes = slices.Clone(k.Notes)
	if r.load != nil {
		k.Pace = pace(r.load.Pace(), r.tally.Quantile(0.5))
	}
	if r.tally.Requests() > 0 {
		for _, q := range curveShares {
			k.Curve = append(k.Curve, model.CurvePoint{Share: q, MS: figures.Millis(r.tally.Quantile(q))})
		}
	}
	k.Points = r.pointRecords()
	return k
}

// shares are the responses of each version. The caller holds mu.
func (r *run) shares() []model.TrialShare {
	out := []model.TrialShare{}
	totals := map[string]uint64{}
	for target, n := range r.tally.Versions {
		service, _, _ := strings.Cut(target, "/")
		totals[service] += n
	}
	for _, target := range slices.Sorted(maps.Keys(r.tally.Versions)) {
		service, _, _ := strings.Cut(target, "/")
		n, all := r.tally.Versions[target], totals[service]
		s := model.TrialShare{Target: target, Requests: n, Share: float64(n) / float64(all)}
		s.Low, s.High = stats.Wilson(n, all)
		out = append(out, s)
	}
	return out
}

// pointRecords are the points; those that changed are computed anew. The caller
// holds mu.
func (r *run) pointRecords() []pointRecord {
	for i := range r.points {
		t := &r.points[i]
		if i == len(r.shown) {
			r.shown = append(r.shown, pointRecord{At: int64(i)})
		}
		if was := &r.shown[i]; was.OK+was.Failed+was.Refused != t.Requests() {
			p := t.Point(int64(i))
			*was = pointRecord{
				At:      p.At,
				OK:      p.OK,
				Failed:  p.Failed,
				Refused: p.Refused,
				Success: p.Success,
				P50MS:   p.P50MS,
				P95MS:   p.P95MS,
				P99MS:   p.P99MS,
			}
		}
	}
	return slices.Clone(r.shown)
}

// seconds is how long the trial has measured.
func (r *run) seconds() float64 {
	return min(max(time.Since(r.begins), 0), r.plan.Trial.For).Seconds()
}

// judge compares what was measured so far with the expectations. The caller holds
// mu.
func (r *run) judge(seconds float64) []trial.Judgement {
	left := r.planned + r.slack - min(r.planned+r.slack, r.tally.Requests())
	if r.load != nil && time.Since(r.begins) >= r.plan.Trial.For && r.load.Pace().Flying == 0 {
		left = 0
	}
	out := []trial.Judgement{}
	for i := range r.plan.Trial.Expect {
		out = append(out, trial.Judge(&r.plan.Trial.Expect[i], &r.tally, seconds, left))
	}
	return out
}

// pace tells how well the requests were sent on time, and whether that spoils the
// figures.
func pace(p load.Pace, p50 time.Duration) model.TrialPace {
	out := model.TrialPace{
		Sent:     p.Sent,
		Unsent:   p.Unsent,
		Late50MS: figures.Millis(p.Late50),
		Late99MS: figures.Millis(p.Late99),
	}
	switch {
	case p.Unsent > 0:
		out.Bottleneck = fmt.Sprintf("%d requests were not sent because too many others were waiting for responses: "+
			"the mesh, or this machine, cannot take this rate", p.Unsent)
	case p.Late99 > 5*time.Millisecond && p.Late99 > p50/10:
		out.Bottleneck = fmt.Sprintf(
			"one request in a hundred was sent %.1f ms late or more: this machine is too busy "+
				"for this rate, and latencies include that delay",
			figures.Millis(p.Late99),
		)
	}
	return out
}

// finish is the result of the trial.
func (r *run) finish() *record {
	k := r.state()
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.trials.Now().UTC()
	k.Ended = &now
	k.State = model.TrialMet
	if slices.ContainsFunc(k.Expected, func(j trial.Judgement) bool { return !j.Met }) {
		k.State = model.TrialMissed
	}
	k.State = cmp.Or(r.forced, k.State)
	for i := range k.Expected {
		k.Expected[i].Hopeless = false // that was of a trial that is running
	}
	for names, c := range r.parts {
		b, _ := c.AppendBinary(nil)
		k.Parts = append(k.Parts, partRecord{names, b})
	}
	r.result.Store(&k)
	return &k
}
