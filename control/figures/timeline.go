package figures

import (
	"context"

	"nightjar/api/model"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
)

// maxPoints bounds a timeline; usualPoints is about how many it has when nobody
// chose a step.
const (
	maxPoints   = 2000
	usualPoints = 120
)

// timelineSteps are the steps, in seconds, that a timeline chooses from.
var timelineSteps = []int64{telemetry.Step, 30, 60, 300, 600, 1800, 3600, 3 * 3600}

// Timeline returns the figures of a group of requests over time, without marks.
func (f *Figures) Timeline(ctx context.Context, q model.TimelineQuery) (model.Timeline, error) {
	now := f.Complete()
	if q.To <= 0 || q.To > now {
		q.To = now
	}
	if q.From <= 0 {
		q.From = q.To - telemetry.Kept
	}
	q.From = max(q.From, q.To-store.CoarseTime)
	for i := 0; q.Step == 0; i++ {
		if (q.To-q.From)/timelineSteps[i] <= usualPoints || i == len(timelineSteps)-1 {
			q.Step = timelineSteps[i]
		}
	}
	if err := checkTimeline(q.From, q.To, q.Step); err != nil {
		return model.Timeline{}, err
	}
	q.From -= q.From % q.Step
	tallies := make([]Tally, (q.To-q.From+q.Step-1)/q.Step)
	err := f.Each(ctx, q.From, q.To, func(at int64, n *telemetry.Names, _ uint, c *stats.Counts) {
		if selects(&q, n) {
			tallies[(at-q.From)/q.Step].Take(n, c)
		}
	})
	out := model.Timeline{
		From:   q.From,
		To:     q.To,
		Step:   q.Step,
		Points: make([]model.Point, len(tallies)),
		Marks:  []model.Mark{},
	}
	for i := range tallies {
		out.Points[i] = tallies[i].Point(q.From + int64(i)*q.Step)
	}
	return out, err
}

// selects tells whether a query selects the requests of a series.
func selects(q *model.TimelineQuery, n *telemetry.Names) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	if n.Copy || !is(q.Caller, n.Caller) || !is(q.Service, n.Service) || !is(q.Version, n.Version) ||
		!is(q.Instance, n.Instance) {
		return false
	}
	return q.Parent == "" || n.RouteOf == q.Parent && n.Route == q.Route ||
		n.Gate != "" && n.Caller == q.Parent && n.Gate == q.Route
}
