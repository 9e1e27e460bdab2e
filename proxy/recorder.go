package proxy

import (
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/metrics"
	"nightjar/wire"
)

// recorder counts requests in shards. A connection keeps one shard for its
// life, so that connections do not write to the same memory; the collector
// alone visits all shards.
type recorder struct {
	shards []shard
	next   atomic.Uint32
	keep   int // collections for which a series without a request is kept

	totals *metrics.Totals // nil: nobody reads them
	caller string
}

// shard has cells for what the workload calls, and for who calls the workload.
type shard struct {
	calls   cells[callKey]
	callers cells[callerKey]
	_       [64]byte
}

// cells are the counts by names. The map is replaced, never changed.
type cells[K comparable] struct {
	now    atomic.Pointer[map[K]*cell]
	growth sync.Mutex // held only to add or drop a cell
}

// callKey tells series apart by identity; names are looked up when collecting.
type callKey struct {
	route, gate *engine.Route
	instance    *engine.Instance
	service     string
	version     string
	revision    uint
}

// callerKey is who called the workload.
type callerKey struct {
	caller string
	copied bool
}

// maxCallers bounds the callers that are told apart; a name is what the caller's
// proxy says, and anybody may say one.
const maxCallers = 256

// cell is the counts of one series in one shard.
type cell struct {
	classes  [4]atomic.Uint64 // by engine.Class
	tries    atomic.Uint64
	firstOK  atomic.Uint64 // requests whose first try went well
	sent     atomic.Uint64
	received atomic.Uint64
	status   [6]atomic.Uint64 // 1xx … 5xx at 1 … 5
	reasons  [len(engine.Reasons)]atomic.Uint64
	latency  [stats.NumBuckets]atomic.Uint32
	open     atomic.Int64 // connections that carry bytes for it still
	idle     int          // collections without a request; the collector's own
}

// result is what came of a request.
type result struct {
	class    engine.Class
	reason   engine.Reason
	detail   string // of the reason
	status   int
	took     time.Duration
	sent     uint64 // bytes of bodies
	received uint64
}

func newRecorder(shards int) *recorder {
	r := &recorder{shards: make([]shard, shards), keep: 60}
	for i := range r.shards {
		r.shards[i].calls.now.Store(&map[callKey]*cell{})
		r.shards[i].callers.now.Store(&map[callerKey]*cell{})
	}
	return r
}

// assign picks the shard of a new connection.
func (r *recorder) assign() *shard {
	return &r.shards[int(r.next.Add(1))%len(r.shards)]
}

// add makes a cell. own makes a key that is safe to keep.
func (c *cells[K]) add(k K, own func(K, int) K) *cell {
	c.growth.Lock()
	defer c.growth.Unlock()
	old := *c.now.Load()
	if own != nil {
		k = own(k, len(old))
	}
	if c := old[k]; c != nil {
		return c
	}
	next := make(map[K]*cell, len(old)+1)
	for k, c := range old {
		next[k] = c
	}
	made := new(cell)
	next[k] = made
	c.now.Store(&next)
	return made
}

// prune drops idle cells. A request that looked its cell up before and adds to
// it only now is lost to the count: between the two lie some nanoseconds, and
// the cell was idle for a minute.
func (c *cells[K]) prune(keep int) {
	c.growth.Lock()
	defer c.growth.Unlock()
	left := map[K]*cell{}
	for k, c := range *c.now.Load() {
		if c.idle <= keep {
			left[k] = c
		}
	}
	c.now.Store(&left)
}

// called counts one request of the workload that is over.
func (s *shard) called(x *engine.Exchange, revision uint, r *result) *cell {
	k := callKey{instance: x.Instance(), revision: revision}
	k.route, k.gate = x.Route()
	if k.instance == nil { // the names are not those of an instance
		k.service, k.version = x.Service(), x.Version()
	}
	c := (*s.calls.now.Load())[k]
	if c == nil {
		c = s.calls.add(k, nil)
	}
	c.count(r, x.Tries(), !x.FirstFailed())
	return c
}

// served counts one request to the workload that is over. The caller's name may
// lie in a buffer that is used again.
func (s *shard) served(caller string, copied bool, r *result) *cell {
	k := callerKey{caller, copied}
	c := (*s.callers.now.Load())[k]
	if c == nil {
		c = s.callers.add(k, func(k callerKey, known int) callerKey {
			if known >= maxCallers {
				return callerKey{wire.Other, k.copied}
			}
			return callerKey{strings.Clone(k.caller), k.copied}
		})
	}
	c.count(r, 1, true)
	return c
}

func (c *cell) count(r *result, tries int, first bool) {
	// The class comes last: who sees it counted finds all the rest counted.
	defer c.classes[r.class].Add(1)
	c.tries.Add(uint64(tries))
	if r.sent > 0 {
		c.sent.Add(r.sent)
	}
	if r.received > 0 {
		c.received.Add(r.received)
	}
	if r.class == engine.Abandoned {
		return
	}
	if first && r.class == engine.OK {
		c.firstOK.Add(1)
	}
	if i := r.status / 100; i > 0 && i < len(c.status) {
		c.status[i].Add(1)
	}
	if r.reason != "" {
		if i, ok := r.reason.Number(); ok {
			c.reasons[i].Add(1)
		}
	}
	c.latency[stats.Bucket(r.took)].Add(1)
}

// collect takes what was counted since the last time, and how many connections
// are open. Series that stayed without a request for a minute are dropped.
func (r *recorder) collect(self engine.Instance) (out []wire.Series, open []wire.Open) {
	for i := range r.shards {
		s := &r.shards[i]
		drain(&s.calls, r.keep, func(k callKey, c *cell) bool {
			series := k.series()
			if n := c.open.Load(); n > 0 {
				open = append(open, wire.Open{Service: series.Service, Version: series.Version, Instance: series.Instance, Count: n})
			}
			any := c.drain(&series.Counts)
			if any {
				out = append(out, series)
			}
			return any
		})
		drain(&s.callers, r.keep, func(k callerKey, c *cell) bool {
			series := wire.Series{App: true, Copy: k.copied, Caller: k.caller, Service: self.Service, Version: self.Version, Instance: self.ID}
			any := c.drain(&series.Counts)
			if any {
				out = append(out, series)
			}
			return any
		})
	}
	out = merged(out)
	r.totals.Add(r.caller, out)
	return out, open
}

// merged adds up series of the same names, which several shards counted.
func merged(list []wire.Series) []wire.Series {
	type names struct {
		app, copied                                              bool
		caller, gate, service, version, instance, route, routeOf string
		revision                                                 uint
	}
	at := make(map[names]int, len(list))
	out := list[:0]
	for _, s := range list {
		k := names{s.App, s.Copy, s.Caller, s.Gate, s.Service, s.Version, s.Instance, s.Route, s.RouteOf, s.Revision}
		if i, ok := at[k]; ok {
			out[i].Counts.Add(&s.Counts)
			continue
		}
		at[k] = len(out)
		out = append(out, s)
	}
	return out
}

func drain[K comparable](c *cells[K], keep int, take func(K, *cell) bool) {
	stale := false
	for k, cell := range *c.now.Load() {
		if take(k, cell) || cell.open.Load() > 0 {
			cell.idle = 0
		} else if cell.idle++; cell.idle > keep {
			stale = true
		}
	}
	if stale {
		c.prune(keep)
	}
}

func (k callKey) series() wire.Series {
	s := wire.Series{Revision: k.revision, Service: k.service, Version: k.version}
	if k.instance != nil {
		s.Service, s.Version, s.Instance = k.instance.Service, k.instance.Version, k.instance.ID
	}
	if k.route != nil {
		s.Route, s.RouteOf = k.route.Name(), k.route.Of()
	}
	if k.gate != nil {
		s.Gate = k.gate.Name()
	}
	return s
}

// drain moves what was counted to n. False: nothing was.
func (c *cell) drain(n *stats.Counts) bool {
	n.OK, n.Failed = c.classes[engine.OK].Swap(0), c.classes[engine.Failed].Swap(0)
	n.Refused, n.Abandoned = c.classes[engine.Refused].Swap(0), c.classes[engine.Abandoned].Swap(0)
	n.Sent, n.Received = c.sent.Swap(0), c.received.Swap(0)
	if n.Requests()+n.Abandoned == 0 {
		return n.Sent+n.Received > 0
	}
	n.Tries, n.FirstOK = c.tries.Swap(0), c.firstOK.Swap(0)
	for i := range c.status {
		n.Status[i] = c.status[i].Swap(0)
	}
	for i := range c.reasons {
		n.Reasons[i] = c.reasons[i].Swap(0)
	}
	for b := range c.latency {
		if c.latency[b].Load() != 0 {
			n.Latency = append(n.Latency, stats.Bin{Bucket: uint16(b), N: uint64(c.latency[b].Swap(0))})
		}
	}
	return true
}
