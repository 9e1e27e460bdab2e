// Package figures adds up what proxies counted: the last fifteen minutes from
// memory, and what is older from disk.
package figures

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/metrics"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/wire"
)

const (
	// WriteEvery is how often telemetry is written to disk.
	WriteEvery = telemetry.Step * time.Second
	// AgeEvery is how often old telemetry is merged into coarser steps.
	AgeEvery = time.Minute

	pruneEvery = time.Hour // looking for unused series reads all telemetry
	writeTime  = 10 * time.Second
	// maxBatches bounds what waits for a disk that takes nothing: an hour.
	maxBatches = 360
	// reportTime is how long proxies take to report a second that is over.
	reportTime = 400 * time.Millisecond
	// trafficSeconds is how far back Traffic looks.
	trafficSeconds = 60
)

// Records is what figures need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Telemetry(ctx context.Context, from, to int64, visit func(telemetry.Slot) error) error
	TelemetryState(
		ctx context.Context,
	) (known []telemetry.Named, seen map[string]telemetry.Seen, first int64, err error)
	FirstTelemetry(ctx context.Context) (int64, error)
	RollUps(ctx context.Context, now int64) (changes []store.Change, hasMore bool, err error)
	UnusedSeries(ctx context.Context) ([]uint32, error)
}

// Figures is the telemetry of a mesh. It is safe for concurrent use.
type Figures struct {
	records Records
	now     func() time.Time
	memory  *telemetry.Store
	totals  *metrics.Totals // since the service started

	writing   sync.Mutex         // guards what follows
	unwritten []*telemetry.Batch // in their order
	pruned    time.Time
}

// Open reads the telemetry that is kept in memory.
func Open(ctx context.Context, records Records, now func() time.Time) (*Figures, error) {
	f := &Figures{records: records, now: now, memory: telemetry.New(), totals: &metrics.Totals{}}
	known, seen, first, err := records.TelemetryState(ctx)
	if err != nil {
		return nil, err
	}
	at := now().Unix()
	var slots []telemetry.Slot
	err = records.Telemetry(ctx, memoryFrom(at), at+telemetry.Step, func(s telemetry.Slot) error {
		slots = append(slots, s)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return f, f.memory.Recall(known, slots, seen, first)
}

// memoryFrom is the second from which on everything is in memory.
func memoryFrom(now int64) int64 {
	from := now - telemetry.Kept
	return from - from%telemetry.Step
}

// Count counts what a proxy reported. isNew is false for a report that came
// before, and for one that must come again in its order.
func (f *Figures) Count(d *wire.Delta) (kept wire.Kept, isNew bool) {
	kept, isNew = f.memory.Count(d, f.now())
	if isNew {
		f.totals.Add(d.Caller, d.Series)
	}
	return kept, isNew
}

// Totals are the counts since the service started.
func (f *Figures) Totals() *metrics.Totals { return f.totals }

// State tells how many sets of names have requests now, and how many requests
// were counted without names.
func (f *Figures) State() (series int, unnamed uint64) { return f.memory.State() }

// First is the second of the first request that is known; 0: there is none.
func (f *Figures) First() int64 { return f.memory.First() }

// Tidy closes seconds that are over.
func (f *Figures) Tidy(now time.Time) { f.memory.Tidy(now) }

// Write writes what was counted to disk. What cannot be written waits for the next
// time, and proxies keep it meanwhile.
func (f *Figures) Write(ctx context.Context) error {
	f.writing.Lock()
	defer f.writing.Unlock()
	if b := f.memory.Take(); b != nil {
		if f.unwritten = append(f.unwritten, b); len(f.unwritten) > maxBatches {
			lost, next := f.unwritten[0], f.unwritten[1]
			next.Series = append(lost.Series, next.Series...) // later batches count them too
			f.unwritten = slices.Delete(f.unwritten, 0, 1)
		}
	}
	for len(f.unwritten) > 0 {
		b := f.unwritten[0]
		if err := f.apply(ctx, store.AddTelemetry{Batch: b, At: f.now().Unix()}); err != nil {
			return err
		}
		f.memory.Written(b)
		f.unwritten = f.unwritten[1:]
	}
	return nil
}

func (f *Figures) apply(ctx context.Context, changes ...store.Change) error {
	ctx, stop := context.WithTimeout(ctx, writeTime)
	defer stop()
	return f.records.Apply(ctx, changes...)
}

// Age merges old telemetry on disk into coarser steps, and deletes what is too old.
func (f *Figures) Age(ctx context.Context) error {
	now := f.now()
	for hasMore := true; hasMore && ctx.Err() == nil; {
		var changes []store.Change
		var err error
		if changes, hasMore, err = f.records.RollUps(ctx, now.Unix()); err != nil {
			return err
		}
		for _, c := range changes { // one by one: others write in between
			if err := f.apply(ctx, c); err != nil {
				return err
			}
		}
	}
	f.writing.Lock()
	defer f.writing.Unlock()
	if now.Sub(f.pruned) < pruneEvery {
		return nil
	}
	if err := f.prune(ctx, now.Unix()); err != nil {
		return err
	}
	f.pruned = now
	return nil
}

// prune deletes what is too old, and series that are not used any more.
func (f *Figures) prune(ctx context.Context, now int64) error {
	first, err := f.records.FirstTelemetry(ctx)
	if err != nil {
		return err
	}
	if err := f.apply(ctx, store.PruneTelemetry{Before: now - store.CoarseTime, Now: now}); err != nil {
		return err
	}
	if first == 0 || first >= now-store.CoarseTime {
		return nil // nothing was deleted, so no series lost its last use
	}
	unused, err := f.records.UnusedSeries(ctx)
	if err != nil {
		return err
	}
	// First from memory, so that nothing is counted under a name that is not kept.
	gone, err := f.memory.Retire(unused, f.unwritten)
	if err != nil || len(gone) == 0 {
		return err
	}
	return f.apply(ctx, store.DeleteSeries(gone))
}

// Sum visits every series with what it counted from from to before to. Times that
// are only on disk are exact for whole steps.
func (f *Figures) Sum(ctx context.Context, from, to int64, visit telemetry.Visit) error {
	if memory := memoryFrom(f.now().Unix()); from < memory {
		err := f.records.Telemetry(
			ctx,
			from,
			min(to, memory),
			func(s telemetry.Slot) error { return f.memory.Read(s.Sealed, visit) },
		)
		if err != nil {
			return err
		}
		from = memory
	}
	f.memory.Sum(from, to, visit)
	return nil
}

// VisitAt is called with what a series counted in the second, or the step, at.
type VisitAt func(at int64, n *telemetry.Names, revision uint, c *stats.Counts)

// Each visits what every series counted in each second, or step, from from to
// before to.
func (f *Figures) Each(ctx context.Context, from, to int64, visit VisitAt) error {
	if memory := memoryFrom(f.now().Unix()); from < memory {
		err := f.records.Telemetry(ctx, from, min(to, memory), func(s telemetry.Slot) error {
			return f.memory.Read(
				s.Sealed,
				func(n *telemetry.Names, revision uint, c *stats.Counts) { visit(s.At, n, revision, c) },
			)
		})
		if err != nil {
			return err
		}
		from = memory
	}
	f.memory.Each(from, to, visit)
	return nil
}

// Span returns the first and the last second of a window that ends at end (0: the
// last complete second). It is shorter when the first request came within it.
func (f *Figures) Span(seconds, end int64) (from, to int64) {
	now := f.Complete()
	if end <= 0 || end > now {
		end = now
	}
	from = end - seconds
	if first := f.memory.First(); first > from {
		from = min(first, end-1)
	}
	return from, end
}

// Complete is the end of the last second that all proxies have reported.
func (f *Figures) Complete() int64 { return f.now().Add(-reportTime).Unix() }

// Traffic tells who called whom in the last minute, and for every SERVICE/VERSION
// how many requests one proxy of its busiest caller had in flight, on average.
// proxies is the number of proxies of each caller.
func (f *Figures) Traffic(proxies map[string]int) (links []rules.Link, inFlight map[string]float64) {
	type edge struct{ from, to, version string }
	seconds := map[edge]float64{} // that requests took
	type pair struct{ from, to string }
	requests := map[pair]uint64{}
	from, to := f.Span(trafficSeconds, 0)
	f.memory.Sum(from, to, func(n *telemetry.Names, _ uint, c *stats.Counts) {
		if n.App || n.Service == "" || n.Service == wire.Other || c.Requests() == 0 {
			return
		}
		requests[pair{n.Caller, n.Service}] += c.Requests()
		if n.Version == "" {
			return
		}
		for _, b := range c.Latency {
			seconds[edge{n.Caller, n.Service, n.Version}] += stats.BucketMiddle(int(b.Bucket)).Seconds() * float64(b.N)
		}
	})
	for p, n := range requests {
		links = append(links, rules.Link{From: p.from, To: p.to, Rate: float64(n) / float64(max(to-from, 1))})
	}
	slices.SortFunc(
		links,
		func(a, b rules.Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) },
	)
	inFlight = map[string]float64{}
	for e, sum := range seconds { // Little's law: requests in flight are their rate times their latency
		target := e.to + "/" + e.version
		inFlight[target] = max(inFlight[target], sum/float64(to-from)/float64(max(proxies[e.from], 1)))
	}
	return links, inFlight
}
