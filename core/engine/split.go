package engine

import (
	"math/bits"
	"sync/atomic"

	"nightjar/core/hash"
	"nightjar/core/rules"
)

// blockLen is how many draws are shuffled together. With 25, after every block
// each target's total is within one of its exact share, and any 1,000 draws in
// a row are within 1.5 percentage points for certain: the two broken blocks at
// the ends are off by at most 6.25 draws each, the boundaries by less than one.
const blockLen = 25

// A split deals requests out to weighted targets. It is safe for concurrent
// use and takes one atomic addition a draw.
type split struct {
	plan *plan
	seed uint64
	next atomic.Uint64
}

// plan says how many draws of each block go to each target, over one period
// after which the weights come out even.
type plan struct {
	weights []rules.Percent
	rows    []uint8 // for each block, for each target: draws up to and with this target
	blocks  uint64  // in a period
}

// draw returns the index of the next target.
func (s *split) draw() int {
	k := len(s.plan.weights)
	if k == 1 {
		return 0
	}
	n := s.next.Add(1) - 1
	block := n / blockLen
	slot := shuffled(s.seed, block, uint32(n%blockLen))
	at := 0
	if s.plan.blocks > 1 {
		at = int(block%s.plan.blocks) * k
	}
	for i, upTo := range s.plan.rows[at : at+k] {
		if slot < uint32(upTo) {
			return i
		}
	}
	return k - 1 // not reached: the last entry of a row is blockLen
}

// newPlan deals the draws one by one so that every target's total stays within
// one of its exact share at every draw (R. Tijdeman, "The chairman assignment
// problem", Discrete Mathematics 32, 1980), then keeps the totals by block.
func newPlan(weights []rules.Percent) *plan {
	const whole = int64(rules.Whole)
	g, used := whole, int64(0)
	for _, w := range weights {
		g = gcd(g, int64(w))
		if w > 0 {
			used++
		}
	}
	p := &plan{weights: weights}
	if len(weights) < 2 {
		return p
	}
	period := whole / g
	period *= blockLen / gcd(period, blockLen)
	dealt := make([]int64, len(weights))
	row := make([]uint8, len(weights))
	d := max(2*used-2, 1)
	for n := int64(1); n <= period; n++ {
		best, bestRank, bestW := -1, int64(0), int64(1)
		for i, w := range weights {
			due := int64(w)*n - dealt[i]*whole // how far behind, × whole
			if w == 0 || (used > 1 && due*d < whole) {
				continue
			}
			rank := whole*(d-1) - due*d
			if best < 0 || rank*bestW < bestRank*int64(w) {
				best, bestRank, bestW = i, rank, int64(w)
			}
		}
		dealt[best]++
		row[best]++
		if n%blockLen == 0 {
			var upTo uint8
			for i := range row {
				upTo += row[i]
				p.rows = append(p.rows, upTo)
				row[i] = 0
			}
		}
	}
	p.blocks = uint64(period / blockLen)
	return p
}

func gcd(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// reversed are the five bits of a number, the last first.
var reversed = func() (out [32]uint8) {
	for i := range out {
		out[i] = bits.Reverse8(uint8(i)) >> 3
	}
	return out
}()

// shuffled is a permutation of 0 … blockLen-1, another one for every seed and
// block. It permutes five bits and walks on until the value lies in range
// (J. Black and P. Rogaway, "Ciphers with Arbitrary Finite Domains", 2002).
func shuffled(seed, block uint64, pos uint32) uint32 {
	key := hash.Mix(seed ^ hash.Mix(block))
	for {
		k := key
		for range 4 {
			pos = (pos*(uint32(k)&0x1e|1) + uint32(k>>8)) & 31
			pos = uint32(reversed[(pos^pos>>2)&31])
			k >>= 13
		}
		if pos < blockLen {
			return pos
		}
	}
}
