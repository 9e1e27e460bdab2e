// Package upgrade decides how a fleet takes a new program: which proxies come in which
// wave, and whether those that have it do as well as before.
package upgrade

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"nightjar/core/hash"
	"nightjar/core/stats"
)

// Waves divides proxies into waves, by the shares that have the program when each is over:
// they rise, and the last is 1. The order is the same for the same ids, and mixes services,
// which have ids of the same beginning. A wave that would be empty is left out.
func Waves(ids []string, shares []float64, seed uint64) [][]string {
	order := slices.Clone(ids)
	slices.SortFunc(order, func(a, b string) int {
		return cmp.Or(cmp.Compare(hash.Mix(hash.Text(seed, a)), hash.Mix(hash.Text(seed, b))), cmp.Compare(a, b))
	})
	var out [][]string
	begun := 0
	for _, share := range shares {
		end := min(int(math.Ceil(share*float64(len(order))-1e-9)), len(order))
		if end > begun {
			out = append(out, order[begun:end:end])
			begun = end
		}
	}
	return out
}

// Count is requests of proxies, as callers and beside the called workloads.
type Count struct{ Requests, OK uint64 }

// Minus is what came since before.
func (c Count) Minus(before Count) Count {
	return Count{c.Requests - before.Requests, c.OK - before.OK}
}

// Add adds another count.
func (c *Count) Add(o Count) { c.Requests, c.OK = c.Requests+o.Requests, c.OK+o.OK }

// Bounds of what is still well.
const (
	leastRequests = 20   // below it requests say nothing
	leastDrop     = 0.01 // of success, that is looked at
	leastSuccess  = 0.5  // where nothing is known of before
	memoryGrows   = 1.5  // times what the program before had
	memoryMore    = 64 << 20
)

// Proxy is one proxy that has the new program.
type Proxy struct {
	ID           string
	Before, Now  Count // with the program before, and with the new one
	MemoryBefore uint64
	Memory       uint64   // bytes
	IsGone       bool     // it is not connected any more
	HasRestarted bool     // another process has come since it took the program
	NewProblems  []string // that it did not have before
}

// hasGrown tells whether it takes far more memory than before.
func (p *Proxy) hasGrown() bool {
	return p.MemoryBefore > 0 && p.Memory > p.MemoryBefore+memoryMore &&
		float64(p.Memory) > memoryGrows*float64(p.MemoryBefore)
}

// Judge tells why proxies do worse with the new program; empty: they do not, as far as is
// known.
func Judge(list []Proxy) string {
	var before, now Count
	for i := range list {
		p := &list[i]
		switch {
		case p.HasRestarted:
			return fmt.Sprintf("restarts: %s ended, and was started again", p.ID)
		case p.IsGone:
			return fmt.Sprintf("restarts: %s is gone", p.ID)
		case len(p.NewProblems) > 0:
			return fmt.Sprintf("problems: %s: %s", p.ID, p.NewProblems[0])
		case p.hasGrown():
			return fmt.Sprintf("memory: %s has %d MiB instead of %d", p.ID, p.Memory>>20, p.MemoryBefore>>20)
		}
		before.Add(p.Before)
		now.Add(p.Now)
	}
	if now.Requests < leastRequests {
		return ""
	}
	rate := func(c Count) float64 { return float64(c.OK) / float64(max(c.Requests, 1)) }
	if before.Requests < leastRequests {
		if _, high := stats.Wilson(now.OK, now.Requests); high < leastSuccess {
			return fmt.Sprintf("success: %.2f%% of %d requests", 100*rate(now), now.Requests)
		}
		return ""
	}
	diff, _, high := stats.Newcombe(before.OK, before.Requests, now.OK, now.Requests)
	if diff <= -leastDrop && high < 0 {
		return fmt.Sprintf("success: %.2f%% of %d requests, %.2f%% of %d before",
			100*rate(now), now.Requests, 100*rate(before), before.Requests)
	}
	return ""
}
