package observe

import (
	"maps"
	"sync"
	"sync/atomic"
)

// Tally counts by key. Adding to a key that it has takes no lock and no memory.
type Tally[K comparable] struct {
	Most  int // keys that are told apart until they are taken
	Other K   // stands for those beyond

	counts atomic.Pointer[map[K]*atomic.Uint64]
	mu     sync.Mutex // guards changes of counts
}

// closed is in a count that was taken for the last time: whoever adds to it then has to
// look for another.
const closed = 1 << 63

// Add counts one of a key, which is kept.
func (t *Tally[K]) Add(k K) {
	if list := t.counts.Load(); list != nil {
		if n := (*list)[k]; n != nil && n.Add(1) < closed {
			return
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	now := map[K]*atomic.Uint64{}
	if list := t.counts.Load(); list != nil {
		now = *list
	}
	if now[k] == nil && len(now) >= t.Most {
		k = t.Other
	}
	if now[k] == nil {
		now = maps.Clone(now)
		now[k] = new(atomic.Uint64)
		t.counts.Store(&now)
	}
	now[k].Add(1)
}

// Take is what was counted since the last time. Nothing is lost or counted twice, also
// while others add.
func (t *Tally[K]) Take() map[K]uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := map[K]uint64{}
	list := t.counts.Load()
	if list == nil {
		return out
	}
	left := uint64(0)
	if len(*list) >= t.Most { // begin anew, so that other keys find room
		t.counts.Store(nil)
		left = closed
	}
	for k, n := range *list {
		if n := n.Swap(left); n > 0 {
			out[k] = n
		}
	}
	return out
}
