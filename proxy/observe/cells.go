package observe

import (
	"hash/maphash"
	"sync"
	"sync/atomic"
	"unsafe"

	"nightjar/core/hash"
)

// cells finds the counts of a series by its key: a hash table with open
// addressing whose readers take no lock.
//
// Slots are only ever filled, under mu, so a reader that meets an empty slot has
// seen every key that was there when it began. Growing and dropping make a new
// table. A request that found its cell before a table without it was put in its
// place, and adds to it after, is lost to the count: between the two lie
// nanoseconds, and a cell is dropped only after seconds without a request.
type cells[K key] struct {
	table atomic.Pointer[cellTable[K]]
	mu    sync.Mutex // guards what is written; never held by a request that finds its cell
	used  int        // filled slots of table
}

// key is what a table is searched by.
type key interface {
	comparable
	hash() uint64
}

type cellTable[K key] struct {
	slots []atomic.Pointer[entry[K]] // a power of two, at most half of them filled
}

type entry[K key] struct {
	key  K
	cell Cell
}

// find returns the cell of a key, or nil.
func (c *cells[K]) find(k K) *Cell {
	t := c.table.Load()
	if t == nil {
		return nil
	}
	mask := uint64(len(t.slots) - 1)
	for i := k.hash() & mask; ; i = (i + 1) & mask {
		e := t.slots[i].Load()
		if e == nil {
			return nil
		}
		if e.key == k {
			return &e.cell
		}
	}
}

// add finds the cell of a key or makes it. nil: there are most cells already.
func (c *cells[K]) add(k K, most int) *Cell {
	c.mu.Lock()
	defer c.mu.Unlock()
	if found := c.find(k); found != nil {
		return found
	}
	if c.used >= most {
		return nil
	}
	t := c.table.Load()
	switch {
	case t == nil:
		t = newCellTable[K](8)
	case 2*(c.used+1) > len(t.slots):
		t = t.copied(2*len(t.slots), nil)
	}
	e := &entry[K]{key: k}
	t.put(e)
	c.used++
	c.table.Store(t)
	return &e.cell
}

// visit calls do with every cell, and drops those that it does not want to keep.
func (c *cells[K]) visit(do func(K, *Cell) (keep bool)) {
	t := c.table.Load()
	if t == nil {
		return
	}
	var dropped map[*entry[K]]bool
	for i := range t.slots {
		if e := t.slots[i].Load(); e != nil && !do(e.key, &e.cell) {
			if dropped == nil {
				dropped = map[*entry[K]]bool{}
			}
			dropped[e] = true
		}
	}
	if dropped == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.used -= len(dropped)
	size := 8
	for size < 2*(c.used+1) {
		size *= 2
	}
	c.table.Store(c.table.Load().copied(size, dropped)) // others may have been added meanwhile
}

func newCellTable[K key](size int) *cellTable[K] {
	return &cellTable[K]{make([]atomic.Pointer[entry[K]], size)}
}

// copied is a table of another size with the same entries but for some.
func (t *cellTable[K]) copied(size int, but map[*entry[K]]bool) *cellTable[K] {
	next := newCellTable[K](size)
	for i := range t.slots {
		if e := t.slots[i].Load(); e != nil && !but[e] {
			next.put(e)
		}
	}
	return next
}

// put fills the first free slot of an entry whose key is not there.
func (t *cellTable[K]) put(e *entry[K]) {
	mask := uint64(len(t.slots) - 1)
	i := e.key.hash() & mask
	for t.slots[i].Load() != nil {
		i = (i + 1) & mask
	}
	t.slots[i].Store(e)
}

var seed = maphash.MakeSeed()

func hashString(s string) uint64 { return maphash.String(seed, s) }

// hashPointer is the hash of an identity. Go does not move what lies on the heap,
// and the key that is kept keeps it there.
func hashPointer[T any](p *T) uint64 { return hash.Mix(uint64(uintptr(unsafe.Pointer(p)))) }
