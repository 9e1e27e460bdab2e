package observe

import (
	"sync"
	"testing"
)

// TestTally: nothing is lost or counted twice while it is taken, also when keys are more
// than it tells apart; and a key that it has costs no memory.
func TestTally(t *testing.T) {
	c := Tally[int]{Most: 4, Other: -1}
	var adding, taking sync.WaitGroup
	ended := make(chan struct{})
	sum := map[int]uint64{}
	take := func() {
		for k, n := range c.Take() {
			sum[k] += n
		}
	}
	taking.Go(func() {
		for {
			select {
			case <-ended:
				return
			default:
				take()
			}
		}
	})
	const each = 20_000
	for i := range 8 {
		adding.Go(func() {
			for range each {
				c.Add(i)
			}
		})
	}
	adding.Wait()
	close(ended)
	taking.Wait()
	take()
	total := uint64(0)
	for k, n := range sum {
		if total += n; k < -1 || k > 7 || k >= 0 && n > each {
			t.Errorf("%d: %d", k, n)
		}
	}
	if total != 8*each {
		t.Errorf("%d were counted, want %d", total, 8*each)
	}
	c.Add(1)
	if n := testing.AllocsPerRun(100, func() { c.Add(1) }); n > 0 {
		t.Errorf("%v allocations", n)
	}
}
