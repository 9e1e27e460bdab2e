package stats

import (
	"math"
	"time"

	"gonum.org/v1/gonum/mathext"
)

// Newcombe returns by how much the rate of hits2 in n2 is above that of hits1
// in n1, with the 95% interval of that difference, from -1 to 1 (R. G. Newcombe,
// "Interval estimation for the difference between independent proportions:
// comparison of eleven methods", Statistics in Medicine 17, 1998, method 10).
// With n1 or n2 = 0 nothing is known: 0, and -1 to 1.
func Newcombe(hits1, n1, hits2, n2 uint64) (diff, low, high float64) {
	if n1 == 0 || n2 == 0 {
		return 0, -1, 1
	}
	p1, p2 := float64(hits1)/float64(n1), float64(hits2)/float64(n2)
	low1, high1 := Wilson(hits1, n1)
	low2, high2 := Wilson(hits2, n2)
	return recovered(p1, low1, high1, p2, low2, high2)
}

// recovered is the difference of two independent figures with its interval, out
// of the intervals of both (G. Y. Zou and A. Donner, "Construction of confidence
// limits about effect measures: a general approach", Statistics in Medicine 27,
// 2008; with Wilson's intervals it is Newcombe's).
func recovered(v1, low1, high1, v2, low2, high2 float64) (diff, low, high float64) {
	diff = v2 - v1
	return diff, diff - math.Hypot(v2-low2, high1-v1), diff + math.Hypot(high2-v2, v1-low1)
}

// Ranks returns the order statistics, counted from 1, between which the quantile
// q of what n values were drawn from lies, with 95% confidence or more (H. A.
// David and H. N. Nagaraja, "Order Statistics", 3rd ed. 2003, section 7.1). A low
// rank of 0 and a high one of n+1 mean that so few values bound nothing there.
func Ranks(n uint64, q float64) (low, high uint64) { return RanksAt(n, q, 0.025) }

// Rank is the latency at a rank, counted from 1, among the counted requests in
// order of latency; 0 before the first.
func (c *Counts) Rank(rank uint64) time.Duration {
	sum := uint64(0)
	for _, b := range c.Latency {
		if sum += b.N; rank > 0 && sum >= rank {
			return BucketMiddle(int(b.Bucket))
		}
	}
	return 0
}

// QuantileInterval is the 95% interval of the latency at q. Without bounded the
// requests are too few to bound it from above, and high is the longest latency.
func (c *Counts) QuantileInterval(q float64) (low, high time.Duration, bounded bool) {
	return c.QuantileIntervalAt(q, 0.025)
}

// QuantileIntervalAt is QuantileInterval with the limits of RanksAt.
func (c *Counts) QuantileIntervalAt(q, alpha float64) (low, high time.Duration, bounded bool) {
	n := uint64(0)
	for _, b := range c.Latency {
		n += b.N
	}
	l, h := RanksAt(n, q, alpha)
	return c.Rank(l), c.Rank(min(h, n)), h <= n
}

// QuantileShift is by how much the latency at q of after is above that of
// before, with the 95% interval of that, in which every histogram's error of 0.8%
// is drowned. bounded is false when the requests of a side are too few for one.
func QuantileShift(before, after *Counts, q float64) (diff, low, high time.Duration, bounded bool) {
	low1, high1, ok1 := before.QuantileInterval(q)
	low2, high2, ok2 := after.QuantileInterval(q)
	d, l, h := recovered(
		float64(before.Quantile(q)),
		float64(low1),
		float64(high1),
		float64(after.Quantile(q)),
		float64(low2),
		float64(high2),
	)
	return time.Duration(d), time.Duration(l), time.Duration(h), ok1 && ok2
}

// ChiSquare compares counts with the shares that were intended for them, which
// add up to 1 (K. Pearson, "On the criterion that a given system of deviations…",
// Philosophical Magazine 50, 1900). p is the probability that chance alone
// deviates so far or farther. fit is false when a cell is expected to have fewer
// than five requests, for which the test does not hold (W. G. Cochran, Biometrics
// 10, 1954); cells of share 0 are left out unless they have requests: then p is 0.
func ChiSquare(counts []uint64, shares []float64) (x2, p float64, fit bool) {
	n, cells := uint64(0), 0
	for _, c := range counts {
		n += c
	}
	fit = true
	for i, share := range shares {
		expected := share * float64(n)
		if share == 0 {
			if counts[i] > 0 {
				return math.Inf(1), 0, true
			}
			continue
		}
		fit = fit && expected >= 5
		x2 += (float64(counts[i]) - expected) * (float64(counts[i]) - expected) / expected
		cells++
	}
	if cells < 2 || n == 0 {
		return 0, 1, false
	}
	return x2, mathext.GammaIncRegComp(float64(cells-1)/2, x2/2), fit
}
