// Package simulate runs releases on a virtual clock with drawn requests, to
// learn how often the judge is right.
package simulate

import (
	"math"
	"math/rand/v2"
	"time"

	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/stats"
)

// Version is how one version answers.
type Version struct {
	Success float64       // 0 to 1
	Median  time.Duration // of the latency, which is log-normal; 0: latencies are not drawn
	Spread  float64       // standard deviation of its logarithm
}

// World is what a release meets.
type World struct {
	Rate     float64 // requests a second to both versions, at random
	From, To Version
	Turn     time.Duration // when To becomes Then, after the start; 0: it does not
	Then     Version
}

// Outcome is how a release ended.
type Outcome struct {
	State release.State
	By    string
	Why   string
	Took  time.Duration
	Stage rules.Percent // share that the new version had reached
	Looks int
	Bad   uint64  // requests of the new version that failed
	More  float64 // of those, about how many the old one would not have failed
	Held  bool    // at a time, since the figures did not tell
}

// maxTime ends releases that never end.
const maxTime = 24 * time.Hour

// Run runs a release to its end, or until it waits for a person.
func Run(p *rules.Release, w World, seed uint64) Outcome {
	chance := rand.New(rand.NewPCG(seed, 1))
	began := time.Unix(1_700_000_000, 0)
	now := began
	var base stats.Counts
	draw(&base, &w.From, poisson(chance, w.Rate*300), chance)
	r := release.Start(p, []release.Place{{Ladder: p.Service, Route: "all"}}, &base, "simulation", now)
	var fresh release.Sample
	var out Outcome
	isHeld := func() bool { return r.State == release.Held && r.By != release.ByJudge }
	for ; !r.State.Over() && !isHeld() && now.Sub(began) < maxTime; now = now.Add(time.Second) {
		if r.Asking {
			r.Gate(now, "")
		}
		if r.Shift {
			r.Shifted(now, 1)
			fresh = release.Sample{}
		}
		r.Tick(now, true)
		to := &w.To
		if w.Turn > 0 && now.Sub(began) >= w.Turn {
			to = &w.Then
		}
		share := 0.0
		if o, ok := r.Overlay(); ok && r.State != release.Shifting {
			if share = o.Share.Share(); o.Copies > 0 {
				share = o.Copies.Share()
			}
			draw(&fresh.To, to, poisson(chance, w.Rate*share), chance)
			draw(&fresh.From, &w.From, poisson(chance, w.Rate*(1-share)), chance)
			fresh.Seconds++
		}
		looks := r.Looks
		out.Held = out.Held || r.State == release.Held
		if r.Due() {
			r.Look(now, &fresh)
		} else if r.State == release.Judging {
			r.Glance(now, &fresh)
		}
		if r.Looks > looks {
			fresh = release.Sample{}
		}
	}
	out.State, out.By, out.Why = r.State, r.By, r.Why
	out.Took, out.Looks, out.Stage = now.Sub(began), r.Looks, r.Now().Share
	out.Bad, out.More = r.Cost()
	return out
}

func draw(c *stats.Counts, v *Version, n uint64, chance *rand.Rand) {
	var one stats.Counts
	for range n {
		if chance.Float64() < v.Success {
			one.OK++
		} else {
			one.Failed++
		}
		if v.Median > 0 {
			one.Observe(time.Duration(float64(v.Median) * math.Exp(v.Spread*chance.NormFloat64())))
		}
	}
	one.Tries, one.FirstOK = n, one.OK
	c.Add(&one)
}

// poisson draws how many requests come when so many are the mean (D. E. Knuth,
// The Art of Computer Programming, vol. 2, section 3.4.1, in pieces that do not
// underflow).
func poisson(chance *rand.Rand, mean float64) (n uint64) {
	for ; mean > 30; mean -= 30 {
		n += knuth(chance, 30)
	}
	return n + knuth(chance, mean)
}

func knuth(chance *rand.Rand, mean float64) (n uint64) {
	limit, product := math.Exp(-mean), chance.Float64()
	for ; product > limit; product *= chance.Float64() {
		n++
	}
	return n
}
