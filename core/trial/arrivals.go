// Package trial is the arithmetic of a bounded load with expectations: when
// which request is due, what the answers add up to, and whether that is what was
// expected. Real trials and forecasts of them share it.
package trial

import (
	"math"
	"math/rand/v2"
	"time"

	"nightjar/core/rules"
)

// Arrivals are the times at which the requests of a load are due.
type Arrivals struct {
	stretches []stretch
	random    *rand.Rand // nil: evenly spaced
	level     float64    // requests that are due before the next one, as a number with a fraction
	at        int        // of stretches
}

// stretch is a time of one rate.
type stretch struct {
	from, to time.Duration
	rate     float64 // per second
	before   float64 // requests that are due before it
}

// NewArrivals plans a load of so long, after a warm-up at its first rate, whose
// requests are due before 0. The seed moves loads of one rate apart, and draws
// the times of random ones.
func NewArrivals(l *rules.Load, warmUp, length time.Duration, seed uint64) *Arrivals {
	a := &Arrivals{}
	chance := rand.New(rand.NewPCG(seed, 0))
	rates := l.Steps
	if len(rates) == 0 {
		rates = []rules.Rate{l.Rate}
	}
	add := func(from, to time.Duration, rate float64) {
		if to > from {
			a.stretches = append(a.stretches, stretch{from: from, to: to, rate: rate})
		}
	}
	for i, r := range rates {
		from := length * time.Duration(i) / time.Duration(len(rates))
		to := length * time.Duration(i+1) / time.Duration(len(rates))
		if i == 0 {
			from = -warmUp
		}
		if s := l.Spike; s != nil {
			begin, end := min(max(from, s.After), to), max(min(to, s.After+s.For), from)
			add(from, begin, r.PerSecond())
			add(begin, end, s.Rate.PerSecond())
			from = max(begin, end)
		}
		add(from, to, r.PerSecond())
	}
	sum := 0.0
	for i := range a.stretches {
		s := &a.stretches[i]
		s.before = sum
		sum += s.rate * (s.to - s.from).Seconds()
	}
	if a.level = chance.Float64(); l.Random {
		a.random = chance
		a.level = chance.ExpFloat64()
	}
	return a
}

// Next is when the next request is due since the end of the warm-up; false:
// there is none any more.
func (a *Arrivals) Next() (due time.Duration, ok bool) {
	for ; a.at < len(a.stretches); a.at++ {
		s := &a.stretches[a.at]
		past := (a.level - s.before) / s.rate
		if past >= (s.to - s.from).Seconds() {
			continue
		}
		if a.random != nil {
			a.level += a.random.ExpFloat64()
		} else {
			a.level++
		}
		return s.from + time.Duration(past*float64(time.Second)), true
	}
	return 0, false
}

// Planned is how many requests are due after the warm-up; of random arrivals it
// is the mean.
func (a *Arrivals) Planned() float64 {
	sum := 0.0
	for _, s := range a.stretches {
		if from := max(s.from, 0); s.to > from {
			sum += s.rate * (s.to - from).Seconds()
		}
	}
	return sum
}

// Peak is the highest rate, in requests per second.
func (a *Arrivals) Peak() float64 {
	top := 0.0
	for _, s := range a.stretches {
		top = max(top, s.rate)
	}
	return top
}

// Picks chooses which share of a load each request belongs to, such that after
// any number of requests every share is within a request or two of exact (the
// multiples of the golden section; H. Weyl, 1916).
type Picks struct {
	bounds []float64
	n      uint64
}

// NewPicks makes the choice for a load.
func NewPicks(l *rules.Load) *Picks {
	p := &Picks{}
	sum := 0.0
	for _, s := range l.Shares {
		sum += s.Of.Share()
		p.bounds = append(p.bounds, sum)
	}
	return p
}

// Next is the number of a share, or -1 for the rest.
func (p *Picks) Next() int {
	if len(p.bounds) == 0 {
		return -1
	}
	p.n++
	_, u := math.Modf(float64(p.n) * (math.Sqrt(5) - 1) / 2)
	for i, b := range p.bounds {
		if u < b {
			return i
		}
	}
	return -1
}
