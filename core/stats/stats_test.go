package stats

import (
	"math"
	"math/rand/v2"
	"reflect"
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
	var c Counts
	var all []time.Duration
	for range 5000 {
		d := time.Duration(rnd.ExpFloat64() * float64(20*time.Millisecond))
		all = append(all, d)
		h.Add(Bucket(d), 1)
		c.Add(&Counts{Latency: []Bin{{uint16(Bucket(d)), 1}}})
	}
	slices.Sort(all)
	for _, q := range []float64{0.5, 0.95, 0.99, 1} {
		want := all[int(math.Ceil(q*5000))-1]
		if c.Quantile(q) != h.Quantile(q) {
			t.Errorf("quantile %v of counts: %v", q, c.Quantile(q))
		}
		if got := h.Quantile(q); math.Abs(float64(got-want)) > 0.01*float64(want) {
			t.Errorf("quantile %v: %v, want %v", q, got, want)
		}
	}
	if (&Histogram{}).Quantile(0.5) != 0 || (&Counts{}).Quantile(0.5) != 0 {
		t.Error("an empty histogram has a median")
	}
}

func someCounts(rnd *rand.Rand) Counts {
	c := Counts{OK: rnd.Uint64N(5), Failed: rnd.Uint64N(3), Refused: rnd.Uint64(), Tries: rnd.Uint64N(9), Sent: rnd.Uint64() >> 20}
	c.Status[rnd.IntN(6)], c.Reasons[rnd.IntN(16)] = rnd.Uint64N(3), rnd.Uint64N(300)
	for range rnd.IntN(200) {
		c.Add(&Counts{Latency: []Bin{{uint16(rnd.IntN(NumBuckets)), 1 + rnd.Uint64N(4)}}})
	}
	return c
}

// TestCountsAddUp: sums are exact, whichever way they take: added as they are
// or by way of their compact form.
func TestCountsAddUp(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 8))
	for range 200 {
		var straight, round Counts
		var all []byte
		latencies := map[uint16]uint64{}
		for range 1 + rnd.IntN(8) {
			c := someCounts(rnd)
			for _, b := range c.Latency {
				latencies[b.Bucket] += b.N
			}
			straight.Add(&c)
			all, _ = c.AppendBinary(all)
		}
		for rest := all; len(rest) > 0; {
			var c Counts
			var err error
			if rest, err = c.Decode(rest); err != nil {
				t.Fatal(err)
			}
			round.Add(&c)
		}
		if !reflect.DeepEqual(straight, round) {
			t.Fatalf("%+v\nand by way of bytes\n%+v", straight, round)
		}
		for _, b := range straight.Latency {
			if latencies[b.Bucket] != b.N {
				t.Fatalf("bucket %d has %d, want %d", b.Bucket, b.N, latencies[b.Bucket])
			}
		}
		if len(straight.Latency) != len(latencies) {
			t.Fatalf("%d buckets, want %d", len(straight.Latency), len(latencies))
		}
		if !slices.IsSortedFunc(straight.Latency, func(a, b Bin) int { return int(a.Bucket) - int(b.Bucket) }) {
			t.Fatal("the buckets are not in order")
		}
	}
}

func FuzzCounts(f *testing.F) {
	c := Counts{OK: 300, Latency: []Bin{{5, 1}, {1599, 70000}}}
	b, _ := c.AppendBinary(nil)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		var c, again Counts
		rest, err := c.Decode(b)
		if err != nil {
			return
		}
		text, _ := c.AppendBinary(nil)
		if rest, err := again.Decode(text); err != nil || len(rest) > 0 {
			t.Fatalf("what was written cannot be read: %v", err)
		}
		if len(rest) > len(b) || !reflect.DeepEqual(c, again) {
			t.Fatalf("%+v, then %+v", c, again)
		}
	})
}

// A tenth of a millisecond is seen where a bucket is a quarter wide, and a few
// stalls do not hide it.
func TestLowerMean(t *testing.T) {
	var near, far Counts
	chance := rand.New(rand.NewPCG(1, 2))
	for i := range 5000 {
		took := 15*time.Millisecond + time.Duration(10*chance.Float64()*float64(time.Millisecond))
		near.Observe(took)
		if i%50 == 0 {
			took += time.Second
		}
		far.Observe(took + 100*time.Microsecond)
	}
	if all := near.LowerMean(1); all < 19800*time.Microsecond || all > 20200*time.Microsecond {
		t.Errorf("the mean of 15 to 25 ms is %s", all)
	}
	if d := far.LowerMean(0.9) - near.LowerMean(0.9); d < 80*time.Microsecond || d > 250*time.Microsecond {
		t.Errorf("100 µs more are %s", d)
	}
	if (&Counts{}).LowerMean(0.9) != 0 || near.LowerMean(0) != 0 {
		t.Error("nothing has a mean")
	}
}
