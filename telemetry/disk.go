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

// Batch must be written to disk once, as a whole or not at all.
type Batch struct {
	Writer string // with Number, tells batches apart
	Number uint64 // rises with each batch of a writer, from 1
	Series []Named
	Slots  []Slot
	Seen   map[string]uint64 // last Delta of each process that is in the batch
}

// Seen is the last report of a process of a proxy.
type Seen struct {
	Sequence uint64
	At       int64 // when it was stored, in seconds since 1970
}

// Take returns everything that is in no Batch yet; nil: there is nothing. Batches must
// be written in their order.
func (t *Store) Take() *Batch {
	t.mu.Lock()
	defer t.mu.Unlock()
	b := &Batch{Writer: t.writer, Series: t.unsaved, Seen: map[string]uint64{}}
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
	t.batches++
	b.Number = t.batches
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
func (t *Store) Recall(known []Named, slots []Slot, seen map[string]Seen, first int64) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, n := range known {
		t.addSeries(n.Names, n.ID)
	}
	for nonce, p := range seen {
		t.seen[nonce] = &process{counted: p.Sequence, durable: p.Sequence, last: p.At}
	}
	t.first = first
	for _, s := range slots {
		sec := t.second(s.At)
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

// Retire drops those of some series, which nothing on disk counts, that nothing else
// counts either, and returns them. waiting are batches that are not on disk yet.
func (t *Store) Retire(ids []uint32, waiting []*Batch) (gone []uint32, err error) {
	used := map[uint32]bool{}
	for _, b := range waiting {
		for _, slot := range b.Slots {
			if err := IDs(slot.Sealed, used); err != nil {
				return nil, err
			}
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, slot := range t.pending {
		for k := range slot {
			used[k.id] = true
		}
	}
	byID := slices.Clone(t.byID) // readers use the old one
	for _, id := range ids {
		switch {
		case used[id] || int(id) >= len(byID):
			continue
		case byID[id] == nil: // dropped before, but not on disk
		case byID[id].last != 0:
			continue
		default:
			if t.series[byID[id].Names] == byID[id] {
				delete(t.series, byID[id].Names)
			}
			byID[id] = nil
		}
		gone = append(gone, id)
	}
	t.byID = byID
	return gone, nil
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
