package stats

import (
	"math"
	"math/bits"
	"time"
)

// A latency is counted in one of NumBuckets log-linear buckets: steps of 128 ns
// up to 8 µs, then 64 equal steps to each doubling, up to 137 s. A bucket's
// middle is within 0.8% of every latency from 8 µs that fell into it.
const (
	unitBits   = 7  // 128 ns
	subBits    = 6  // 64 steps to a doubling
	octaves    = 24 // 8 µs × 2^24 = 137 s
	NumBuckets = (octaves + 1) << subBits
)

// Bucket is the bucket of a latency. Negative ones count as 0, those past the
// end fall into the last.
func Bucket(d time.Duration) int {
	if d < 0 {
		return 0
	}
	v := uint64(d) >> unitBits
	if v < 1<<subBits {
		return int(v)
	}
	octave := bits.Len64(v) - subBits - 1
	b := (octave+1)<<subBits + int(v>>octave) - 1<<subBits
	return min(b, NumBuckets-1)
}

// BucketMiddle is the latency that stands for a bucket.
func BucketMiddle(b int) time.Duration {
	const sub = 1 << subBits
	if b < sub {
		return time.Duration(b)<<unitBits + 1<<(unitBits-1)
	}
	octave := b/sub - 1
	low := time.Duration(b%sub+sub) << (octave + unitBits)
	return low + 1<<(octave+unitBits-1)
}

// Histogram counts latencies by bucket. The zero value is empty.
type Histogram struct {
	counts []uint64
	n      uint64
}

// Add counts n latencies of bucket b; a bucket that does not exist is passed over.
func (h *Histogram) Add(b int, n uint64) {
	if b < 0 || b >= NumBuckets {
		return
	}
	if h.counts == nil {
		h.counts = make([]uint64, NumBuckets)
	}
	h.counts[b] += n
	h.n += n
}

// N is how many latencies were counted.
func (h *Histogram) N() uint64 { return h.n }

// Quantile is the latency that the share q of all counted ones does not
// exceed, by the nearest-rank definition. Of an empty histogram it is 0.
func (h *Histogram) Quantile(q float64) time.Duration {
	if h.n == 0 {
		return 0
	}
	rank := max(1, uint64(math.Ceil(q*float64(h.n))))
	var sum uint64
	for b, c := range h.counts {
		if sum += c; sum >= rank {
			return BucketMiddle(b)
		}
	}
	return BucketMiddle(NumBuckets - 1)
}
