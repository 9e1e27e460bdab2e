package forecast

import (
	"math"
	"sort"
	"time"

	"nightjar/core/stats"
)

// Fixed is always the same time.
func Fixed(t time.Duration) Times { return func(*Draw) time.Duration { return t } }

// Exponential has no memory.
func Exponential(mean time.Duration) Times {
	return func(d *Draw) time.Duration { return time.Duration(-math.Log(1-d.Uniform()) * float64(mean)) }
}

// LogNormal is most things that people wait for: the logarithm is normal around
// that of the median, with the standard deviation spread. A share slow of them
// takes ten times as long.
func LogNormal(median time.Duration, spread, slow float64) Times {
	return func(d *Draw) time.Duration {
		t := float64(median) * math.Exp(spread*math.Sqrt2*math.Erfinv(2*d.Uniform()-1+1e-17))
		if slow > 0 && d.Uniform() < slow {
			t *= 10
		}
		return time.Duration(t)
	}
}

// Measured draws as often from each bucket of a histogram as requests fell into
// it, evenly inside; nil of an empty one.
func Measured(bins []stats.Bin) Times {
	sums, total := make([]float64, len(bins)), 0.0
	lows, wides := make([]float64, len(bins)), make([]float64, len(bins))
	for i, b := range bins {
		total += float64(b.N)
		sums[i] = total
		middle := float64(stats.BucketMiddle(int(b.Bucket)))
		next := float64(stats.BucketMiddle(min(int(b.Bucket)+1, stats.NumBuckets-1)))
		wides[i] = next - middle
		lows[i] = middle - wides[i]/2
	}
	if total == 0 {
		return nil
	}
	return func(d *Draw) time.Duration {
		u := d.Uniform() * total
		i := sort.SearchFloat64s(sums, u)
		if i < len(sums) && sums[i] == u {
			i++
		}
		i = min(i, len(sums)-1)
		before := sums[i] - float64(bins[i].N)
		return time.Duration(lows[i] + wides[i]*(u-before)/float64(bins[i].N))
	}
}

// Point is one point of a distribution: the share of requests that take At or less.
type Point struct {
	Share float64
	At    time.Duration
}

// Through draws times whose distribution goes through points, in rising order of
// both, with straight lines between them in the logarithm of the time. Before the
// first and after the last it stays there.
func Through(points []Point) Times {
	if len(points) == 0 {
		return nil
	}
	logs := make([]float64, len(points))
	for i, p := range points {
		logs[i] = math.Log(max(float64(p.At), 1))
	}
	return func(d *Draw) time.Duration {
		u := d.Uniform()
		i := sort.Search(len(points), func(i int) bool { return points[i].Share >= u })
		switch {
		case i == 0:
			return points[0].At
		case i == len(points):
			return points[i-1].At
		}
		a, b := points[i-1], points[i]
		part := (u - a.Share) / (b.Share - a.Share)
		return time.Duration(math.Exp(logs[i-1] + part*(logs[i]-logs[i-1])))
	}
}

func durationOf(ns float64) time.Duration { return time.Duration(ns) }
