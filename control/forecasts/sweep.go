package forecasts

import (
	"context"
	"slices"

	"nightjar/api/model"
	"nightjar/control/figures"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

const (
	// refusalShare is the share of refusals from which on the mesh has started to
	// refuse.
	refusalShare = 0.001
	// halvings is how often the interval is halved in which refusals start.
	halvings = 4
)

// sweepRates are the multiples of the traffic that a sweep simulates.
var sweepRates = []float64{0.25, 0.5, 0.75, 1, 1.25, 1.5, 2, 2.5, 3, 4, 5, 6, 8}

// sweepOf chooses one side of a point.
type sweepOf func(*model.SweepPoint) *model.SweepSide

// sweep simulates other rates, and finds where refusals start.
func (p *plan) sweep(ctx context.Context, sets []*rules.Rules, out *model.Forecast) error {
	for _, rate := range sweepRates {
		point, err := p.sweepPoint(ctx, sets, rate)
		if err != nil {
			return err
		}
		out.Sweep = append(out.Sweep, point)
	}
	sides := []sweepOf{
		func(s *model.SweepPoint) *model.SweepSide { return &s.Before },
		func(s *model.SweepPoint) *model.SweepSide { return &s.After },
	}
	names := []string{model.SideInForce, model.SideDraft}
	for i := range sets {
		start, err := p.refusalStart(ctx, sets, out.Sweep, sides[i])
		if err != nil {
			return err
		}
		start.Rules = names[i]
		out.RefusalStart = append(out.RefusalStart, start)
	}
	return nil
}

// sweepPoint simulates one multiple of the traffic.
func (p *plan) sweepPoint(ctx context.Context, sets []*rules.Rules, rate float64) (model.SweepPoint, error) {
	sides, err := p.run(ctx, sets, p.rate*rate, min(p.requests, sweepRequests))
	if err != nil {
		return model.SweepPoint{}, err
	}
	return model.SweepPoint{
		RPS:    p.inboundRate() * rate,
		Before: sides[0].sweep(),
		After:  sides[len(sides)-1].sweep(),
	}, nil
}

// refusalStart finds the rate at which refusals start on one side of a sweep, by
// halving the interval between the last rate without them and the first with them.
func (p *plan) refusalStart(
	ctx context.Context,
	sets []*rules.Rules,
	points []model.SweepPoint,
	of sweepOf,
) (model.RefusalStart, error) {
	var out model.RefusalStart
	refuses := func(s model.SweepPoint) bool { return of(&s).Refused >= refusalShare }
	take := func(s model.SweepPoint) { out.RPS, out.Reason, out.Where = s.RPS, of(&s).Reason, of(&s).Where }
	at := slices.IndexFunc(points, refuses)
	if at < 0 {
		return out, nil
	}
	take(points[at])
	if at == 0 {
		return out, nil
	}
	low, high := sweepRates[at-1], sweepRates[at]
	for range halvings {
		middle := (low + high) / 2
		s, err := p.sweepPoint(ctx, sets, middle)
		if err != nil {
			return out, err
		}
		if refuses(s) {
			high = middle
			take(s)
		} else {
			low = middle
		}
	}
	return out, nil
}

// inboundRate is how many requests per second enter the mesh.
func (p *plan) inboundRate() float64 {
	sum := 0.0
	for i := range p.mesh.streams {
		s := &p.mesh.streams[i]
		if s.length > 0 {
			sum += trial.NewArrivals(&s.load, 0, s.length, 0).Planned() / s.length.Seconds()
			continue
		}
		sum += s.load.Rate.PerSecond()
	}
	return sum * p.rate
}

func (s *side) sweep() model.SweepSide {
	whole, in := s.tally.Whole(), s.inbound
	out := model.SweepSide{
		Success:            share(in.OK, in.Requests()),
		Refused:            min(share(refusals(whole), in.Requests()), 1),
		P95MS:              figures.Millis(in.Quantile(0.95)),
		AttemptsPerRequest: share(whole.Tries, max(s.requests, 1)),
	}
	out.Reason, out.Where = s.tally.MostRefused()
	return out
}

// refusals are the requests that guards and limits refused.
func refusals(c *stats.Counts) uint64 {
	sum := uint64(0)
	for _, r := range []engine.Reason{engine.Overflow, engine.BreakerOpen, engine.Limited} {
		n, _ := r.Number()
		sum += c.Reasons[n]
	}
	return sum
}
