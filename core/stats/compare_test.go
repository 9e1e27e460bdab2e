package stats

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// Reference values: R. G. Newcombe, Statistics in Medicine 17, 1998, p. 873,
// table II, method 10.
func TestNewcombe(t *testing.T) {
	for _, c := range []struct {
		hits2, n2, hits1, n1 uint64
		low, high            float64
	}{{56, 70, 48, 80, 0.0524, 0.3339}, {9, 10, 3, 10, 0.1705, 0.8090}, {6, 7, 2, 7, 0.0582, 0.8062}, {5, 56, 0, 29, -0.0381, 0.1926},
		{0, 10, 0, 20, -0.1611, 0.2775}, {0, 10, 0, 10, -0.2775, 0.2775}, {10, 10, 0, 20, 0.6791, 1}, {10, 10, 0, 10, 0.6075, 1}} {
		_, low, high := Newcombe(c.hits1, c.n1, c.hits2, c.n2)
		if math.Abs(low-c.low) > 5e-5 || math.Abs(high-c.high) > 5e-5 {
			t.Errorf("%d of %d against %d of %d: %.4f to %.4f, want %.4f to %.4f", c.hits2, c.n2, c.hits1, c.n1, low, high, c.low, c.high)
		}
	}
	if d, low, high := Newcombe(0, 0, 1, 1); d != 0 || low != -1 || high != 1 {
		t.Errorf("of nothing: %v, %v to %v", d, low, high)
	}
}

// Reference values: the table of distribution-free intervals of the median in
// W. J. Dixon and F. J. Massey, "Introduction to Statistical Analysis", and for
// the rest the binomial sums by hand.
func TestRanks(t *testing.T) {
	for _, c := range []struct {
		n         uint64
		q         float64
		low, high uint64
	}{{6, 0.5, 1, 6}, {10, 0.5, 2, 9}, {15, 0.5, 4, 12}, {20, 0.5, 6, 15}, {25, 0.5, 8, 18}, {50, 0.5, 18, 33}, {5, 0.5, 0, 6}, {10, 0.99, 9, 11}, {0, 0.5, 0, 1}} {
		if low, high := Ranks(c.n, c.q); low != c.low || high != c.high {
			t.Errorf("quantile %g of %d: ranks %d and %d, want %d and %d", c.q, c.n, low, high, c.low, c.high)
		}
	}
}

// A change that does nothing is called one in 5 of 100 repeats at most, by rate
// and by percentile, and a shift of 20% is found.
func TestIntervalsHoldWhatTheyPromise(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	draw := func(n int, ok, longer float64) *Counts {
		c := &Counts{}
		var by [NumBuckets]uint64
		for range n {
			if r.Float64() < ok {
				c.OK++
			} else {
				c.Failed++
			}
			took := time.Duration(longer * float64(10*time.Millisecond) * math.Exp(0.4*r.NormFloat64()))
			by[Bucket(took)]++
		}
		for b, n := range by {
			if n > 0 {
				c.Latency = append(c.Latency, Bin{uint16(b), n})
			}
		}
		return c
	}
	const repeats = 1000
	falseRate, falseP95, found := 0, 0, 0
	for range repeats {
		a, b, slow := draw(400, 0.97, 1), draw(400, 0.97, 1), draw(400, 0.97, 1.2)
		if _, low, high := Newcombe(a.OK, a.Requests(), b.OK, b.Requests()); low > 0 || high < 0 {
			falseRate++
		}
		if _, low, high, ok := QuantileShift(a, b, 0.95); !ok {
			t.Fatal("400 requests bound p95")
		} else if low > 0 || high < 0 {
			falseP95++
		}
		if _, low, _, _ := QuantileShift(a, slow, 0.95); low > 0 {
			found++
		}
	}
	t.Logf("of %d repeats without any change %.1f%% differ by rate and %.1f%% by p95; a p95 that is 20%% longer is found in %.0f%%",
		repeats, 100*float64(falseRate)/repeats, 100*float64(falseP95)/repeats, 100*float64(found)/repeats)
	if falseRate > repeats*6/100 || falseP95 > repeats*6/100 || falseRate < repeats*2/100 || found < repeats*70/100 {
		t.Error("that is not what a 95% interval promises")
	}
}

// Two counts of the same rate, in times of different length, differ in 5 of 100 repeats;
// half of the rate is found.
func TestRateChange(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	count := func(rate, seconds float64) (n uint64) {
		for at := r.ExpFloat64() / rate; at < seconds; at += r.ExpFloat64() / rate {
			n++
		}
		return n
	}
	const repeats = 2000
	wrong, found := 0, 0
	for range repeats {
		before := count(2, 60)
		if _, low, high := RateChange(before, 60, count(2, 250), 250); low > 0 || high < 0 {
			wrong++
		}
		if change, _, high := RateChange(before, 60, count(1, 250), 250); high < 0 && change > -2 {
			found++
		}
	}
	if wrong < repeats*3/100 || wrong > repeats*7/100 || found < repeats*95/100 {
		t.Errorf("of %d repeats %d are wrong, and %d of the changes are found", repeats, wrong, found)
	}
	if change, low, high := RateChange(5, 0, 5, 1); change != 0 || low != 0 || high != 0 {
		t.Error("no time has a rate")
	}
}

// Reference values: G. Mendel's peas (9:3:3:1) as in R. A. Fisher, "Has Mendel's
// work been rediscovered?", 1936; and a coin.
func TestChiSquare(t *testing.T) {
	x2, p, fit := ChiSquare([]uint64{315, 101, 108, 32}, []float64{9. / 16, 3. / 16, 3. / 16, 1. / 16})
	if math.Abs(x2-0.470) > 5e-4 || math.Abs(p-0.925) > 1e-3 || !fit {
		t.Errorf("Mendel's peas: %.4f, p %.4f, %v", x2, p, fit)
	}
	if x2, p, _ := ChiSquare([]uint64{60, 40}, []float64{0.5, 0.5}); math.Abs(x2-4) > 1e-9 || math.Abs(p-0.0455) > 5e-5 {
		t.Errorf("60 of 100 tosses: %.4f, p %.4f", x2, p)
	}
	if _, p, _ := ChiSquare([]uint64{10, 1, 0}, []float64{1, 0, 0}); p != 0 {
		t.Errorf("a request where none was intended: p %v", p)
	}
	if _, _, fit := ChiSquare([]uint64{9, 1}, []float64{0.9, 0.1}); fit {
		t.Error("one expected request is no fit for the test")
	}
}
