package telemetry

import (
	"maps"
	"slices"

	"nightjar/core/stats"
)

// Named is a series with its number, which is never used again.
type Named struct {
	ID uint32
	Names
}

// Slot is the counts of ten seconds, or a part of them: slots of the same time add up.
type Slot struct {
	At     int64  // start, in seconds since 1970
	Sealed []byte // see Merge
}

// Batch must be written to disk as a whole or not at all.
type Batch struct {
	Series []Named
	Slots  []Slot
	Seen   map[string]uint64 // last Delta of each process that is in the batch
}

// Take returns everything that is in no Batch yet; nil: there is nothing. Batches must
// be written in their order.
func (t *Store) Take() *Batch {
	t.mu.Lock()
	defer t.mu.Unlock()
	b := &Batch{Series: t.unsaved, Seen: map[string]uint64{}}
	for nonce, p := range t.seen {
		if p.changed {
			b.Seen[nonce], p.changed = p.counted, false
		}
	}
	for _, at := range slices.Sorted(maps.Keys(t.pending)) {
		b.Slots = append(b.Slots, Slot{at, seal(t.pending[at])})
	}
	if len(b.Seen) == 0 {
		return nil
	}
	t.unsaved = nil
	clear(t.pending)
	return b
}

// Written records that a Batch is on disk.
func (t *Store) Written(b *Batch) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for nonce, seq := range b.Seen {
		if p := t.seen[nonce]; p != nil {
			p.durable = seq
		}
	}
}

// Recall fills an empty store from disk: all series, the slots of the time that is
// kept in memory, and the last Delta of each process in them. A slot counts in its
// first second.
func (t *Store) Recall(known []Named, slots []Slot, seen map[string]uint64, first, now int64) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, n := range known {
		t.addSeries(n.Names, n.ID)
	}
	for nonce, seq := range seen {
		t.seen[nonce] = &process{counted: seq, durable: seq, last: now}
	}
	t.first = first
	for _, s := range slots {
		sec := t.second(s.At)
		if sec == nil {
			continue
		}
		sec.sealed = append(sec.sealed, s.Sealed)
		err := unseal(s.Sealed, func(k key, _ *stats.Counts) {
			if int(k.id) >= len(t.byID) || t.byID[k.id] == nil {
				return
			}
			one := t.byID[k.id]
			if one.last == 0 {
				t.active++
			}
			one.last = max(one.last, s.At)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Read visits the counts of a sealed slot.
func (t *Store) Read(sealed []byte, visit Visit) error {
	t.mu.Lock()
	byID := t.byID
	t.mu.Unlock()
	return unseal(sealed, func(k key, c *stats.Counts) {
		if int(k.id) < len(byID) && byID[k.id] != nil {
			visit(&byID[k.id].Names, uint(k.revision), c)
		}
	})
}

// Forget drops series that nothing on disk counts any more.
func (t *Store) Forget(ids []uint32) {
	t.mu.Lock()
	defer t.mu.Unlock()
	byID := slices.Clone(t.byID) // readers use the old one
	for _, id := range ids {
		if int(id) < len(byID) && byID[id] != nil && byID[id].last == 0 {
			delete(t.series, byID[id].Names)
			byID[id] = nil
		}
	}
	t.byID = byID
}

// Merge makes one sealed slot of several.
func Merge(sealed [][]byte) ([]byte, error) {
	sum := map[key]*stats.Counts{}
	for _, b := range sealed {
		if err := unseal(b, func(k key, c *stats.Counts) { countsOf(sum, k).Add(c) }); err != nil {
			return nil, err
		}
	}
	return seal(sum), nil
}

// IDs adds the numbers of the series in a sealed slot to a set.
func IDs(sealed []byte, set map[uint32]bool) error {
	return unseal(sealed, func(k key, _ *stats.Counts) { set[k.id] = true })
}
