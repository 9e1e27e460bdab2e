package figures

import (
	"context"
	"maps"
	"slices"

	"nightjar/api/model"
	"nightjar/control/problem"
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
	if err := f.choose(&q, usualPoints, maxPoints); err != nil {
		return model.Timeline{}, err
	}
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

// choose completes the times of a query, for about as many points as usual.
func (f *Figures) choose(q *model.TimelineQuery, usual, most int64) error {
	now := f.Complete()
	if q.To <= 0 || q.To > now {
		q.To = now
	}
	if q.From <= 0 {
		q.From = q.To - telemetry.Kept
	}
	q.From = max(q.From, q.To-store.CoarseTime)
	for i := 0; q.Step == 0; i++ {
		if (q.To-q.From)/timelineSteps[i] <= usual || i == len(timelineSteps)-1 {
			q.Step = timelineSteps[i]
		}
	}
	if q.From >= q.To || q.Step < 1 || (q.To-q.From)/q.Step > most {
		return problem.Invalid(
			"a timeline goes from an earlier to a later time in at most %d steps: choose a longer step",
			most,
		)
	}
	q.From -= q.From % q.Step
	return nil
}

// Bounds of the points of each service.
const (
	maxServicePoints   = 200
	usualServicePoints = 60
)

// ServicesOverTime returns the success of every service over time; of the query it takes
// the times and the site alone.
func (f *Figures) ServicesOverTime(ctx context.Context, q model.TimelineQuery) (model.ServicesOverTime, error) {
	if err := f.choose(&q, usualServicePoints, maxServicePoints); err != nil {
		return model.ServicesOverTime{}, err
	}
	type count struct{ ok, all uint64 }
	points := (q.To - q.From + q.Step - 1) / q.Step
	counts := map[string][]count{}
	err := f.Each(ctx, q.From, q.To, func(at int64, n *telemetry.Names, _ uint, c *stats.Counts) {
		if n.Copy || n.App || n.Service == "" || !n.IsAt(q.Site) {
			return
		}
		of := counts[n.Service]
		if of == nil {
			of = make([]count, points)
			counts[n.Service] = of
		}
		p := &of[(at-q.From)/q.Step]
		p.ok, p.all = p.ok+c.OK, p.all+c.Requests()
	})
	out := model.ServicesOverTime{From: q.From, To: q.To, Step: q.Step, Services: []model.ServiceOverTime{}}
	for _, name := range slices.Sorted(maps.Keys(counts)) {
		one := model.ServiceOverTime{Service: name, Success: make([]*float64, points)}
		for i, c := range counts[name] {
			one.Success[i] = Share(c.ok, c.all)
		}
		out.Services = append(out.Services, one)
	}
	return out, err
}

// selects tells whether a query selects the requests of a series.
func selects(q *model.TimelineQuery, n *telemetry.Names) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	if n.Copy || !n.IsAt(q.Site) || !is(q.Caller, n.Caller) || !is(q.Service, n.Service) || !is(q.Version, n.Version) ||
		!is(q.Instance, n.Instance) {
		return false
	}
	return q.Parent == "" || n.RouteOf == q.Parent && n.Route == q.Route ||
		n.Gate != "" && n.Caller == q.Parent && n.Gate == q.Route
}
