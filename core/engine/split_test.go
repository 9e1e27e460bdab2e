package engine

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"nightjar/core/rules"
)

// TestSplitIsExact holds the two promises of a split over several of its
// periods: totals after every block, and every window of 1,000 draws.
func TestSplitIsExact(t *testing.T) {
	cases := [][]rules.Percent{
		{85000, 15000}, {50000, 50000}, {0, 100000}, {99000, 1000}, {99999, 1}, {33333, 33333, 33334},
		{70000, 0, 30000}, {12500, 12500, 25000, 50000}, {100, 33300, 66600}, {1, 1, 1, 99997}, {10, 20, 99970},
	}
	rnd := rand.New(rand.NewPCG(1, 2))
	for range 12 {
		k := 2 + rnd.IntN(5)
		ws, left := make([]rules.Percent, k), rules.Whole
		for i := range k - 1 {
			ws[i] = rules.Percent(rnd.IntN(int(left) + 1))
			left -= ws[i]
		}
		ws[k-1] = left
		cases = append(cases, ws)
	}
	for n, ws := range cases {
		t.Run(fmt.Sprint(ws), func(t *testing.T) {
			const draws, window = 130_000, 1000
			s := &split{plan: newPlan(ws), seed: uint64(n) * 77}
			total, inWindow := make([]int, len(ws)), make([]int, len(ws))
			history := make([]int, draws)
			for d := range draws {
				i := s.draw()
				history[d] = i
				total[i]++
				inWindow[i]++
				if d >= window {
					inWindow[history[d-window]]--
				}
				for j, w := range ws {
					if (d+1)%blockLen == 0 {
						if off := math.Abs(float64(total[j]) - float64(d+1)*w.Share()); off > 1 {
							t.Fatalf("after %d draws target %d is off by %.3f requests", d+1, j, off)
						}
					}
					if off := math.Abs(float64(inWindow[j]) - window*w.Share()); d >= window && off > 15 {
						t.Fatalf("in the 1,000 draws up to %d target %d is off by %.1f", d, j, off)
					}
				}
			}
		})
	}
}

func TestShuffledIsAPermutationAndUnpredictable(t *testing.T) {
	const blocks = 20_000
	var at [blockLen][blockLen]int
	follows := map[[2]uint32]int{}
	for b := range uint64(blocks) {
		var seen, last uint32
		for pos := range uint32(blockLen) {
			v := shuffled(99, b, pos)
			if v >= blockLen || seen>>v&1 == 1 {
				t.Fatalf("block %d: %d at %d is out of range or comes twice", b, v, pos)
			}
			seen |= 1 << v
			at[pos][v]++
			if pos > 0 {
				follows[[2]uint32{last, v}]++
			}
			last = v
		}
	}
	// Every value is about equally likely at every position, and after every
	// other value: within 25% of the mean, with 800 expected a cell (σ = 3.5%).
	mean := float64(blocks) / blockLen
	for pos := range at {
		for v, n := range at[pos] {
			if math.Abs(float64(n)-mean) > mean/4 {
				t.Errorf("value %d stands at position %d in %d blocks, expected about %.0f", v, pos, n, mean)
			}
		}
	}
	for pair, n := range follows {
		if math.Abs(float64(n)-mean) > mean/4 {
			t.Errorf("%d is followed by %d in %d blocks, expected about %.0f", pair[0], pair[1], n, mean)
		}
	}
}
