package stats

import (
	"math"

	"gonum.org/v1/gonum/mathext"
)

// Exact returns limits of a rate from hits in n observations, each of which is
// wrong with a probability of at most alpha, from 0 to 0.5 (C. J. Clopper and
// E. S. Pearson, "The use of confidence or fiducial limits illustrated in the
// case of the binomial", Biometrika 26, 1934). They hold for few hits and for
// small alphas, where Wilson's are too narrow. With n = 0 nothing is known: 0 to
// 1.
func Exact(hits, n uint64, alpha float64) (low, high float64) {
	low, high = 0, 1
	x, m := float64(hits), float64(n)
	if hits > 0 {
		low = mathext.InvRegIncBeta(x, m-x+1, alpha)
	}
	if hits < n {
		high = mathext.InvRegIncBeta(x+1, m-x, 1-alpha)
	}
	return low, high
}

// ExactDifference is by how much the rate of hits2 in n2 is above that of hits1
// in n1, with limits out of those of Exact for both, each wrong with a
// probability of about alpha at most. With n1 or n2 = 0 nothing is known: 0, and
// -1 to 1.
func ExactDifference(hits1, n1, hits2, n2 uint64, alpha float64) (diff, low, high float64) {
	if n1 == 0 || n2 == 0 {
		return 0, -1, 1
	}
	low1, high1 := Exact(hits1, n1, alpha)
	low2, high2 := Exact(hits2, n2, alpha)
	return recovered(float64(hits1)/float64(n1), low1, high1, float64(hits2)/float64(n2), low2, high2)
}

// RanksAt is Ranks with a probability of at most alpha, from 0 to 0.5, that the
// quantile is below the low rank, and as much that it is above the high one.
func RanksAt(n uint64, q, alpha float64) (low, high uint64) {
	if n == 0 || q <= 0 || q >= 1 {
		return 0, n + 1
	}
	m := float64(n)
	half := -mathext.NormalQuantile(alpha) * math.Sqrt(m*q*(1-q))
	// P(Bin(n,q) ≤ k); Abramowitz and Stegun 26.5.24
	cdf := func(k float64) float64 {
		if k < 0 {
			return 0
		}
		if k >= m {
			return 1
		}
		return mathext.RegIncBeta(m-k, k+1, 1-q)
	}
	k := math.Floor(max(0, m*q-half))
	for ; k >= 0 && cdf(k) > alpha; k-- {
	}
	for ; cdf(k+1) <= alpha; k++ {
	}
	low = uint64(k + 1)
	k = math.Ceil(min(m-1, m*q+half))
	for ; k < m && cdf(k) < 1-alpha; k++ {
	}
	for ; k > 0 && cdf(k-1) >= 1-alpha; k-- {
	}
	return low, uint64(k + 1)
}
