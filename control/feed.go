package control

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

const (
	maxWatches  = 32   // at once
	maxWaiting  = 4096 // records that wait for one who watches
	keptTrouble = 2000 // requests without success that are remembered, and as many faults of callers
)

// feed hands records of single requests to who asked for them.
type feed struct {
	mu      sync.Mutex // guards what follows
	next    int
	watches map[string]*Watching
	trouble ring
	faults  ring // of callers, which cannot push the others out
}

// ring keeps the newest records.
type ring struct {
	list   []wire.Record
	oldest int
}

func (r *ring) add(one wire.Record) {
	if len(r.list) < keptTrouble {
		r.list = append(r.list, one)
		return
	}
	r.list[r.oldest] = one
	r.oldest = (r.oldest + 1) % keptTrouble
}

// Watching is somebody's view of the requests that a filter takes. Call End.
type Watching struct {
	// Records are the requests, in about the order in which they ended.
	Records <-chan wire.Record

	records chan wire.Record
	watch   wire.Watch
	dropped atomic.Uint64
	control *Control
	once    sync.Once
}

// Watch asks all proxies for the requests that a filter takes.
func (c *Control) Watch(f wire.Filter) (*Watching, error) {
	if err := f.Check(); err != nil {
		return nil, Unusable{err.Error()}
	}
	c.feed.mu.Lock()
	if len(c.feed.watches) >= maxWatches {
		c.feed.mu.Unlock()
		return nil, Unusable{fmt.Sprintf("%d people watch requests already: end one of those", maxWatches)}
	}
	c.feed.next++
	records := make(chan wire.Record, maxWaiting)
	w := &Watching{Records: records, records: records, control: c, watch: wire.Watch{ID: strconv.Itoa(c.feed.next), Filter: f}}
	if c.feed.watches == nil {
		c.feed.watches = map[string]*Watching{}
	}
	c.feed.watches[w.watch.ID] = w
	c.feed.mu.Unlock()
	c.tellWatches()
	return w, nil
}

// Dropped is how many more requests the filter took since the last call, for
// which there was no room on the way.
func (w *Watching) Dropped() uint64 { return w.dropped.Swap(0) }

// End tells the proxies that nobody watches any more.
func (w *Watching) End() {
	w.once.Do(func() {
		w.control.feed.mu.Lock()
		delete(w.control.feed.watches, w.watch.ID)
		w.control.feed.mu.Unlock()
		w.control.tellWatches()
	})
}

// tellWatches tells all proxies which watches there are.
func (c *Control) tellWatches() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.feed.mu.Lock()
	list := []wire.Watch{}
	for _, w := range c.feed.watches {
		list = append(list, w.watch)
	}
	c.feed.mu.Unlock()
	slices.SortFunc(list, func(a, b wire.Watch) int { return cmp.Compare(a.ID, b.ID) })
	c.ledger.noteWatches(list)
	c.bump(false, false)
}

// Saw takes what a proxy tells of single requests.
func (c *Control) Saw(s wire.Seen) {
	c.feed.mu.Lock()
	for _, b := range s.Watches {
		w := c.feed.watches[b.Watch]
		if w == nil {
			continue
		}
		w.dropped.Add(b.Dropped)
		for _, r := range b.Records {
			select {
			case w.records <- r:
			default:
				w.dropped.Add(1)
			}
		}
	}
	for _, r := range s.Trouble {
		to := &c.feed.trouble
		if r.Outcome == engine.CallerFault.String() {
			to = &c.feed.faults
		}
		to.add(r)
	}
	c.feed.mu.Unlock()
	c.Traces.Add(s.Spans, s.Lost, c.now())
}

// Trouble lists some of the latest requests that did not succeed, newest first:
// each proxy tells of a few a second. A zero before does not matter.
func (c *Control) Trouble(f wire.Filter, before time.Time, limit int) []wire.Record {
	c.feed.mu.Lock()
	all := slices.Concat(c.feed.trouble.list, c.feed.faults.list)
	c.feed.mu.Unlock()
	all = slices.DeleteFunc(all, func(r wire.Record) bool { return !before.IsZero() && !r.At.Before(before) || !f.Takes(&r) })
	slices.SortFunc(all, func(a, b wire.Record) int { return b.At.Compare(a.At) })
	return append([]wire.Record{}, all[:min(limit, len(all))]...)
}
