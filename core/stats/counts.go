package stats

import (
	"cmp"
	"encoding/binary"
	"errors"
	"math"
	"math/bits"
	"slices"
	"time"
)

// Counts are the measurements of a group of requests. The zero value counts
// nothing. Two Counts add up to the Counts of both groups, exactly.
type Counts struct {
	OK        uint64 // answers below 500
	Failed    uint64 // 5xx of the application, unreachable, reset, timeout
	Refused   uint64 // by the mesh on purpose
	Abandoned uint64 // the caller left; in none of the others but the bytes
	Tries     uint64 // how often the requests that count were sent
	FirstOK   uint64 // requests whose first try went well
	Sent      uint64 // bytes of the requests' bodies
	Received  uint64 // bytes of the answers' bodies that reached the caller
	// What the caller sent could not be carried; in none of the others but the bytes.
	CallerFault uint64

	Status  [6]uint64  // answers by class: 1xx at 1 to 5xx at 5
	Reasons [16]uint64 // by the number of a reason
	Latency []Bin      // of the counted requests, in order of bucket, each bucket once
}

// Bin is how many latencies fell into a bucket.
type Bin struct {
	Bucket uint16
	N      uint64
}

// Requests is how many requests count.
func (c *Counts) Requests() uint64 { return c.OK + c.Failed + c.Refused }

// fields are all numbers but the latencies, in the order of their encoding,
// which is kept on disk: new ones come last.
func (c *Counts) fields() [31]*uint64 {
	f := [31]*uint64{&c.OK, &c.Failed, &c.Refused, &c.Abandoned, &c.Tries, &c.FirstOK, &c.Sent, &c.Received}
	for i := range c.Status {
		f[8+i] = &c.Status[i]
	}
	for i := range c.Reasons {
		f[14+i] = &c.Reasons[i]
	}
	f[30] = &c.CallerFault
	return f
}

// Add adds another group. o does not change.
func (c *Counts) Add(o *Counts) {
	c.OK += o.OK
	c.Failed += o.Failed
	c.Refused += o.Refused
	c.Abandoned += o.Abandoned
	c.Tries += o.Tries
	c.FirstOK += o.FirstOK
	c.Sent += o.Sent
	c.Received += o.Received
	c.CallerFault += o.CallerFault
	for i, n := range o.Status {
		c.Status[i] += n
	}
	for i, n := range o.Reasons {
		c.Reasons[i] += n
	}
	c.Latency = merge(c.Latency, o.Latency)
}

// Observe counts a latency.
func (c *Counts) Observe(took time.Duration) {
	b := uint16(Bucket(took))
	i, known := slices.BinarySearchFunc(c.Latency, b, func(x Bin, b uint16) int { return cmp.Compare(x.Bucket, b) })
	if !known {
		c.Latency = slices.Insert(c.Latency, i, Bin{Bucket: b})
	}
	c.Latency[i].N++
}

// merge adds b to a, in the room of a if that is enough.
func merge(a, b []Bin) []Bin {
	i, fresh := 0, 0
	for _, x := range b {
		for i < len(a) && a[i].Bucket < x.Bucket {
			i++
		}
		if i == len(a) || a[i].Bucket > x.Bucket {
			fresh++
		}
	}
	i = len(a) - 1
	a = slices.Grow(a, fresh)[:len(a)+fresh]
	k := len(a) - 1
	for j := len(b) - 1; j >= 0; j, k = j-1, k-1 {
		for ; i >= 0 && a[i].Bucket > b[j].Bucket; i, k = i-1, k-1 {
			a[k] = a[i]
		}
		sum := b[j]
		if i >= 0 && a[i].Bucket == sum.Bucket {
			sum.N += a[i].N
			i--
		}
		a[k] = sum
	}
	return a
}

// AppendBinary appends a compact form: which numbers are not zero, these, and
// the latencies as distances between buckets with their counts.
func (c *Counts) AppendBinary(b []byte) ([]byte, error) {
	fields := c.fields()
	mask := uint64(0)
	for i, f := range fields {
		if *f != 0 {
			mask |= 1 << i
		}
	}
	b = binary.AppendUvarint(b, mask)
	for m := mask; m != 0; m &= m - 1 {
		b = binary.AppendUvarint(b, *fields[bits.TrailingZeros64(m)])
	}
	b = binary.AppendUvarint(b, uint64(len(c.Latency)))
	last := uint16(0)
	for _, l := range c.Latency {
		b = binary.AppendUvarint(b, uint64(l.Bucket-last))
		b = binary.AppendUvarint(b, l.N)
		last = l.Bucket
	}
	return b, nil
}

var errCounts = errors.New("counts: not what AppendBinary wrote")

// Decode reads what AppendBinary wrote at the beginning of b into c, whose room
// for latencies is used again, and returns what follows it.
func (c *Counts) Decode(b []byte) (rest []byte, err error) {
	*c = Counts{Latency: c.Latency[:0]}
	next := func() uint64 {
		v, n := binary.Uvarint(b)
		if n <= 0 {
			b, err = nil, errCounts
			return 0
		}
		b = b[n:]
		return v
	}
	fields, mask := c.fields(), next()
	if mask >= 1<<len(fields) {
		return nil, errCounts
	}
	for m := mask; m != 0; m &= m - 1 {
		*fields[bits.TrailingZeros64(m)] = next()
	}
	bins, at := next(), uint64(0)
	if bins > NumBuckets {
		return nil, errCounts
	}
	for i := range bins {
		step := next()
		n := next()
		if at += step; err != nil || at >= NumBuckets || i > 0 && step == 0 {
			return nil, errCounts
		}
		c.Latency = append(c.Latency, Bin{uint16(at), n})
	}
	return b, err
}

// Quantile is the latency that the share q of the counted requests does not
// exceed, by the nearest-rank definition. Of none it is 0.
func (c *Counts) Quantile(q float64) time.Duration {
	n := uint64(0)
	for _, b := range c.Latency {
		n += b.N
	}
	if n == 0 {
		return 0
	}
	rank := max(1, uint64(math.Ceil(q*float64(n))))
	sum := uint64(0)
	for _, b := range c.Latency {
		if sum += b.N; sum >= rank {
			return BucketMiddle(int(b.Bucket))
		}
	}
	return BucketMiddle(int(c.Latency[len(c.Latency)-1].Bucket))
}

// LowerMean is the mean of the shortest share of the latencies, from 0 to 1; 0
// without any. What is above it, such as a rare stall, does not move it.
func (c *Counts) LowerMean(share float64) time.Duration {
	n := uint64(0)
	for _, b := range c.Latency {
		n += b.N
	}
	left, sum := float64(n)*share, 0.0
	for _, b := range c.Latency {
		take := min(float64(b.N), left)
		sum += take * float64(BucketMiddle(int(b.Bucket)))
		left -= take
	}
	if n == 0 || share <= 0 {
		return 0
	}
	return time.Duration(sum / (float64(n) * share))
}
