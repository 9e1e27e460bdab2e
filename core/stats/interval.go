// Package stats holds the arithmetic behind every figure that Nightjar shows:
// intervals of rates and histograms of latency.
package stats

import "math"

// z95 is the 97.5% quantile of the standard normal distribution.
const z95 = 1.959963984540054

// Wilson returns the 95% interval of a rate from hits in n observations
// (E. B. Wilson, "Probable Inference, the Law of Succession, and Statistical
// Inference", JASA 22, 1927). With n = 0 nothing is known: 0 to 1.
func Wilson(hits, n uint64) (low, high float64) {
	if n == 0 {
		return 0, 1
	}
	p, m := float64(hits)/float64(n), float64(n)
	z2 := z95 * z95
	centre := (p + z2/(2*m)) / (1 + z2/m)
	half := z95 / (1 + z2/m) * math.Sqrt(p*(1-p)/m+z2/(4*m*m))
	low, high = max(0, centre-half), min(1, centre+half)
	if hits == 0 {
		low = 0 // exactly, whatever the rounding
	}
	if hits == n {
		high = 1
	}
	return low, high
}

// RateChange is by how much the rate of n2 events in s2 seconds is above that of n1 events
// in s1 seconds, per second, with its 95% interval (normal approximation for two Poisson
// counts). It is 0 if a time is not above 0.
func RateChange(n1 uint64, s1 float64, n2 uint64, s2 float64) (change, low, high float64) {
	if s1 <= 0 || s2 <= 0 {
		return 0, 0, 0
	}
	change = float64(n2)/s2 - float64(n1)/s1
	half := z95 * math.Sqrt(float64(n1)/(s1*s1)+float64(n2)/(s2*s2))
	return change, change - half, change + half
}
