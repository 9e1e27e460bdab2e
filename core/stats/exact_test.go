package stats

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestExact: limits known from tables, and errors that are never more frequent
// than they may be, also of few hits.
func TestExact(t *testing.T) {
	for _, c := range []struct {
		hits, n   uint64
		alpha     float64
		low, high float64
	}{{0, 10, 0.025, 0, 0.3085}, {10, 10, 0.025, 0.6915, 1}, {5, 10, 0.025, 0.1871, 0.8129}, {1, 100, 0.025, 0.000253, 0.05446}, {0, 0, 0.025, 0, 1}} {
		low, high := Exact(c.hits, c.n, c.alpha)
		if math.Abs(low-c.low) > 1e-4 || math.Abs(high-c.high) > 1e-4 {
			t.Errorf("%d of %d: %.5f to %.5f, want %.5f to %.5f", c.hits, c.n, low, high, c.low, c.high)
		}
	}
	chance := rand.New(rand.NewPCG(1, 2))
	draw := func(n int, p float64) (hits uint64) {
		for range n {
			if chance.Float64() < p {
				hits++
			}
		}
		return hits
	}
	const alpha, tries = 0.01, 4000
	for _, p := range []float64{0.5, 0.95, 0.995} {
		below, apart := 0, 0
		for range tries {
			a, b := draw(300, p), draw(60, p)
			if _, high := Exact(b, 60, alpha); high < p {
				below++
			}
			if _, low, high := ExactDifference(a, 300, b, 60, alpha); low > 0 || high < 0 {
				apart++
			}
		}
		// one in a hundred, and four standard deviations of that count
		if most := alpha*tries + 4*math.Sqrt(alpha*tries); float64(below) > most || float64(apart) > 2*most {
			t.Errorf("at %v: %d limits below the truth, %d differences that are none, of %d", p, below, apart, tries)
		}
	}
	if low, high := RanksAt(1000, 0.99, 1e-4); low > 980 || low < 960 || high < 998 {
		t.Errorf("ranks %d to %d", low, high)
	}
}
