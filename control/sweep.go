package control

import (
	"context"
	"slices"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

// sweepRates are the multiples of today's rates that a sweep looks at.
var sweepRates = []float64{0.25, 0.5, 0.75, 1, 1.25, 1.5, 2, 2.5, 3, 4, 5, 6, 8}

// sweep simulates other rates.
func (q *forecastPlan) sweep(ctx context.Context, sets []*rules.Rules, f *Forecast) error {
	look := func(rate float64) (SweepPoint, error) {
		sides, err := q.run(ctx, sets, q.rate*rate, min(q.requests, sweepRequests))
		if err != nil {
			return SweepPoint{}, err
		}
		p := SweepPoint{RPS: q.inboundRate() * rate, Before: sides[0].sweep()}
		p.After = sides[len(sides)-1].sweep()
		return p, nil
	}
	for _, rate := range sweepRates {
		p, err := look(rate)
		if err != nil {
			return err
		}
		f.Sweep = append(f.Sweep, p)
	}
	for i := range sets {
		name, of := InForceSide, func(p *SweepPoint) *SweepSide { return &p.Before }
		if i == 1 {
			name, of = DraftSide, func(p *SweepPoint) *SweepSide { return &p.After }
		}
		b := Begins{Rules: name}
		at := slices.IndexFunc(f.Sweep, func(p SweepPoint) bool { return of(&p).Refused >= beginsAt })
		if at >= 0 {
			high := f.Sweep[at]
			b.RPS, b.Reason, b.Where = high.RPS, of(&high).Reason, of(&high).Where
			if at > 0 { // closer, between the last rate without and the first with
				low, up := sweepRates[at-1], sweepRates[at]
				for range 4 {
					middle := (low + up) / 2
					p, err := look(middle)
					if err != nil {
						return err
					}
					if of(&p).Refused >= beginsAt {
						up, b.RPS, b.Reason, b.Where = middle, p.RPS, of(&p).Reason, of(&p).Where
					} else {
						low = middle
					}
				}
			}
		}
		f.Begins = append(f.Begins, b)
	}
	return nil
}

// inboundRate is how many requests a second come into the mesh at today's rates.
func (q *forecastPlan) inboundRate() float64 {
	sum := 0.0
	for i := range q.model.streams {
		s := &q.model.streams[i]
		if s.length > 0 {
			sum += trial.NewArrivals(&s.load, 0, s.length, 0).Planned() / s.length.Seconds()
			continue
		}
		sum += s.load.Rate.PerSecond()
	}
	return sum * q.rate
}

func (s *side) sweep() SweepSide {
	whole, in := s.tally.Whole(), s.inbound
	out := SweepSide{Success: share0(in.OK, in.Requests()), Refused: min(share0(refusals(whole), in.Requests()), 1), P95MS: millis(in.Quantile(0.95)), Load: share0(whole.Tries, max(s.requests, 1))}
	out.Reason, out.Where = s.tally.MostRefused()
	return out
}

// refusals are the requests that guards and limits turned away.
func refusals(c *stats.Counts) uint64 {
	sum := uint64(0)
	for _, r := range []engine.Reason{engine.Overflow, engine.BreakerOpen, engine.Limited} {
		n, _ := r.Number()
		sum += c.Reasons[n]
	}
	return sum
}
