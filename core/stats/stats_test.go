package stats

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// Reference values: R. G. Newcombe, "Two-sided confidence intervals for the
// single proportion", Statistics in Medicine 17, 1998, table I, method 3.
func TestWilson(t *testing.T) {
	for _, c := range []struct {
		hits, n   uint64
		low, high float64
	}{{81, 263, 0.2553, 0.3662}, {15, 148, 0.0624, 0.1605}, {0, 20, 0, 0.1611}, {1, 29, 0.0061, 0.1718}, {0, 0, 0, 1}, {20, 20, 0.8389, 1}} {
		low, high := Wilson(c.hits, c.n)
		if math.Abs(low-c.low) > 5e-5 || math.Abs(high-c.high) > 5e-5 {
			t.Errorf("%d of %d: %.4f to %.4f, want %.4f to %.4f", c.hits, c.n, low, high, c.low, c.high)
		}
	}
}

func TestBucketsAreWithinOnePercent(t *testing.T) {
	last := -1
	for d := 8 * time.Microsecond; d < 130*time.Second; d += d/257 + 1 {
		b := Bucket(d)
		if b < last || b >= NumBuckets {
			t.Fatalf("%v falls into bucket %d after %d", d, b, last)
		}
		last = b
		if off := math.Abs(float64(BucketMiddle(b)-d)) / float64(d); off > 0.01 {
			t.Fatalf("%v is taken for %v, off by %.2f%%", d, BucketMiddle(b), off*100)
		}
	}
	for _, d := range []time.Duration{-1, 0, 1, 127, time.Hour} {
		if b := Bucket(d); b < 0 || b >= NumBuckets {
			t.Errorf("%v falls into bucket %d", d, b)
		}
	}
}

func TestQuantile(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 6))
	var h Histogram
	var all []time.Duration
	for range 5000 {
		d := time.Duration(rnd.ExpFloat64() * float64(20*time.Millisecond))
		all = append(all, d)
		h.Add(Bucket(d), 1)
	}
	slices.Sort(all)
	for _, q := range []float64{0.5, 0.95, 0.99, 1} {
		want := all[int(math.Ceil(q*5000))-1]
		if got := h.Quantile(q); math.Abs(float64(got-want)) > 0.01*float64(want) {
			t.Errorf("quantile %v: %v, want %v", q, got, want)
		}
	}
	if (&Histogram{}).Quantile(0.5) != 0 {
		t.Error("an empty histogram has a median")
	}
}
