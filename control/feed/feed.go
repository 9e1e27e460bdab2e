// Package feed hands single requests, as proxies report them, to people who watch
// them, and remembers the latest that did not succeed.
package feed

import (
	"cmp"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/control/problem"
	"nightjar/core/engine"
	"nightjar/traces"
	"nightjar/wire"
)

const (
	maxWatches   = 64   // at once
	maxQueued    = 4096 // records that wait for one watcher
	keptFailures = 2000 // requests without success that are remembered, and as many faults of callers
)

// Fleet is the proxies, which filter the requests.
type Fleet interface {
	SetWatches(list []wire.Watch)
	AddSpanSites(list []wire.Span)
}

// Feed is the watches, and the latest failures. It is safe for concurrent use.
type Feed struct {
	fleet  Fleet
	traces *traces.Store
	now    func() time.Time

	mu       sync.Mutex // guards what follows, and the order of calls of fleet
	last     int        // number of the newest watch
	watches  map[string]*Watch
	failures ring
	faults   ring // of callers: they do not displace failures
}

// New makes a feed. Spans go to t.
func New(f Fleet, t *traces.Store, now func() time.Time) *Feed {
	return &Feed{fleet: f, traces: t, now: now, watches: map[string]*Watch{}}
}

// ring keeps the newest records. The zero value is empty.
type ring struct {
	list   []wire.Record
	oldest int
}

func (r *ring) add(one wire.Record) {
	if len(r.list) < keptFailures {
		r.list = append(r.list, one)
		return
	}
	r.list[r.oldest] = one
	r.oldest = (r.oldest + 1) % keptFailures
}

// Watch is somebody's view of the requests that match a filter. Call End.
type Watch struct {
	// Records are the requests, about in the order in which they ended.
	Records <-chan wire.Record

	records chan wire.Record
	spec    wire.Watch
	dropped atomic.Uint64
	feed    *Feed
	once    sync.Once
}

// Watch asks all proxies for the requests that match a filter.
func (f *Feed) Watch(filter wire.Filter) (*Watch, error) {
	if err := filter.Check(); err != nil {
		return nil, problem.InvalidRequest{Why: err.Error()}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.watches) >= maxWatches {
		return nil, problem.Later(
			"%d people are watching requests already: end one of their commands or pages",
			maxWatches,
		)
	}
	f.last++
	records := make(chan wire.Record, maxQueued)
	w := &Watch{Records: records, records: records, feed: f, spec: wire.Watch{ID: strconv.Itoa(f.last), Filter: filter}}
	f.watches[w.spec.ID] = w
	f.tell()
	return w, nil
}

// Dropped is how many more requests matched since the last call, for which there
// was no room on the way.
func (w *Watch) Dropped() uint64 { return w.dropped.Swap(0) }

// End tells the proxies that nobody watches any more.
func (w *Watch) End() {
	w.once.Do(func() {
		w.feed.mu.Lock()
		defer w.feed.mu.Unlock()
		delete(w.feed.watches, w.spec.ID)
		w.feed.tell()
	})
}

// tell gives all watches to the proxies. The caller holds mu.
func (f *Feed) tell() {
	list := make([]wire.Watch, 0, len(f.watches))
	for _, w := range f.watches {
		list = append(list, w.spec)
	}
	slices.SortFunc(list, func(a, b wire.Watch) int { return cmp.Compare(a.ID, b.ID) })
	f.fleet.SetWatches(list)
}

// Report takes what a proxy reports of single requests.
func (f *Feed) Report(s wire.Seen) {
	f.fleet.AddSpanSites(s.Spans)
	f.traces.Add(s.Spans, s.Lost, f.now())
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, b := range s.Watches {
		w := f.watches[b.Watch]
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
	for _, r := range s.Failures {
		to := &f.failures
		if r.Outcome == engine.CallerFault.String() {
			to = &f.faults
		}
		to.add(r)
	}
}

// Failures lists some of the latest requests that did not succeed, newest first:
// those that match a filter, and ended before a time unless it is zero.
func (f *Feed) Failures(filter wire.Filter, before time.Time, limit int) []wire.Record {
	f.mu.Lock()
	all := slices.Concat(f.failures.list, f.faults.list)
	f.mu.Unlock()
	all = slices.DeleteFunc(all, func(r wire.Record) bool {
		return !before.IsZero() && !r.At.Before(before) || !filter.Takes(&r)
	})
	slices.SortFunc(all, func(a, b wire.Record) int { return b.At.Compare(a.At) })
	return slices.Clone(all[:min(limit, len(all))])
}
