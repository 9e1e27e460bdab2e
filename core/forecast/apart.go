package forecast

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/dsp/fourier"

	"nightjar/core/stats"
)

// Part is a stretch of time that some requests spend in others' hands.
type Part struct {
	PerOne float64     // calls for each request
	Bins   []stats.Bin // how long each takes
}

const (
	cells = 1024 // of the grid, evenly spaced
	turns = 40   // of the iteration; more would take noise for shape
	width = 0.6  // of the distribution that it begins with, as the deviation of the logarithm
)

// Apart takes what others took out of a distribution: it returns the times that,
// followed by the parts, one after the other and independent of each other, come
// as close as can be to the whole. It works by the iteration of W. H. Richardson
// ("Bayesian-Based Iterative Method of Image Restoration", JOSA 62, 1972) and L. B.
// Lucy (Astronomical Journal 79, 1974), which keeps every share at 0 or above, on
// a grid that reaches over 99.9% of the whole; it begins with the mean that is left. Without parts it is the whole.
func Apart(whole []stats.Bin, parts []Part) []stats.Bin {
	parts = slices.DeleteFunc(slices.Clone(parts), func(p Part) bool { return p.PerOne <= 0 || len(p.Bins) == 0 })
	if len(parts) == 0 || len(whole) == 0 {
		return whole
	}
	top := float64((&stats.Counts{Latency: whole}).Quantile(0.999)) * 1.02
	step := max(top/cells, 1)
	f := newFilter()
	g := grid(whole, step)
	h := make([]float64, cells)
	h[0] = 1
	early := 0.5 // a sum of cells stands for times from their begins, a cell for its middle
	for _, p := range parts {
		early -= p.PerOne / 2
		one := grid(p.Bins, step)
		for left := p.PerOne; left > 0; left-- {
			mixed := make([]float64, cells)
			share := min(left, 1)
			for i := range mixed {
				mixed[i] = share * one[i]
			}
			mixed[0] += 1 - share
			h = f.follow(h, mixed)
		}
	}
	own := guess(max(middle(g)-middle(h)+0.5-early, middle(g)/50))
	ratio := make([]float64, cells)
	for range turns {
		seen := f.follow(own, h)
		for i := range ratio {
			if ratio[i] = 0; seen[i] > 1e-12 {
				ratio[i] = g[i] / seen[i]
			}
		}
		back := f.against(ratio, h)
		for i := range own {
			own[i] *= back[i]
		}
	}
	n := uint64(0)
	for _, b := range whole {
		n += b.N
	}
	scale := float64(max(n, 100_000))
	out := stats.Counts{}
	carry := 0.0
	for i, share := range own {
		carry += share * scale
		k := math.Floor(carry)
		if carry -= k; k > 0 {
			at := max(float64(i)+early, 0.1) * step
			out.Add(&stats.Counts{Latency: []stats.Bin{{Bucket: uint16(stats.Bucket(durationOf(at))), N: uint64(k)}}})
		}
	}
	return out.Latency
}

// middle is the mean of a distribution, in cells.
func middle(v []float64) (sum float64) {
	for i, share := range v {
		sum += (float64(i) + 0.5) * share
	}
	return sum
}

// guess is a log-normal distribution of a mean in cells: begun with the whole, the
// iteration would take far too long where the own time is a small part of it.
func guess(mean float64) []float64 {
	out, total := make([]float64, cells), 0.0
	at := math.Log(mean) - width*width/2
	for i := range out {
		x := float64(i) + 0.5
		z := (math.Log(x) - at) / width
		out[i] = math.Exp(-z*z/2) / x
		total += out[i]
	}
	for i := range out {
		out[i] /= total
	}
	return out
}

// grid lays a distribution on even cells of a width in nanoseconds; what is past
// the last falls into it.
func grid(bins []stats.Bin, step float64) []float64 {
	out, total := make([]float64, cells), 0.0
	for _, b := range bins {
		low := float64(stats.BucketMiddle(int(b.Bucket)))
		next := float64(stats.BucketMiddle(min(int(b.Bucket)+1, stats.NumBuckets-1)))
		wide := max(next-low, 1)
		from, to := (low-wide/2)/step, (low+wide/2)/step
		total += float64(b.N)
		for i := int(max(from, 0)); ; i++ { // what falls into each cell
			part := (min(to, float64(i+1)) - max(from, float64(i))) / (to - from)
			if i >= cells-1 {
				part = (to - max(from, float64(cells-1))) / (to - from)
			}
			out[min(i, cells-1)] += max(part, 0) * float64(b.N)
			if float64(i+1) >= to || i >= cells-1 {
				break
			}
		}
	}
	for i := range out {
		out[i] /= total
	}
	return out
}

// filter lets one distribution follow another.
type filter struct{ fft *fourier.FFT }

func newFilter() *filter { return &filter{fourier.NewFFT(2 * cells)} }

func (f *filter) spectrum(v []float64) []complex128 {
	padded := make([]float64, 2*cells)
	copy(padded, v)
	return f.fft.Coefficients(nil, padded)
}

func (f *filter) back(c []complex128) []float64 {
	v := f.fft.Sequence(nil, c)
	for i := range v {
		v[i] = max(v[i]/(2*cells), 0)
	}
	return v
}

// follow is the distribution of a sum; what is past the last cell falls into it.
func (f *filter) follow(a, b []float64) []float64 {
	x, y := f.spectrum(a), f.spectrum(b)
	for i := range x {
		x[i] *= y[i]
	}
	v := f.back(x)
	for _, past := range v[cells:] {
		v[cells-1] += past
	}
	return v[:cells]
}

// against is the correlation of a with b.
func (f *filter) against(a, b []float64) []float64 {
	x, y := f.spectrum(a), f.spectrum(b)
	for i := range x {
		x[i] *= complex(real(y[i]), -imag(y[i]))
	}
	return f.back(x)[:cells]
}
