package proxy

import (
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/wire"
)

// recorder counts requests in shards. A connection keeps one shard for its
// life, so that connections do not write to the same memory; the collector
// alone visits all shards.
type recorder struct {
	shards []shard
	next   atomic.Uint32
	keep   int // collections for which a series without a request is kept
}

type shard struct {
	cells  atomic.Pointer[map[cellKey]*cell] // replaced, never changed
	growth sync.Mutex                        // held only to add or drop a cell
	_      [64]byte
}

// cellKey tells series apart by identity; names are looked up when collecting.
type cellKey struct {
	route, gate *engine.Route
	instance    *engine.Instance
	service     string
	version     string
	revision    uint
}

// cell is the counts of one series in one shard.
type cell struct {
	classes [4]atomic.Uint64 // by engine.Class
	tries   atomic.Uint64
	firstOK atomic.Uint64    // requests whose first try went well
	status  [6]atomic.Uint64 // 1xx … 5xx at 1 … 5
	reasons [reasonSlots]atomic.Uint64
	latency [stats.NumBuckets]atomic.Uint32
	idle    int // collections without a request; the collector's own
}

// reasons in the order of their slots; the last slot is for any other.
var reasons = [...]engine.Reason{engine.Unreachable, engine.Reset, engine.TimedOut, engine.NoInstance, engine.NoRoute, engine.BadRequest, engine.Limited, engine.Fault, engine.TLS, engine.Draining, engine.BreakerOpen, engine.Overflow}

const reasonSlots = len(reasons)

func newRecorder(shards int) *recorder {
	r := &recorder{shards: make([]shard, shards), keep: 60}
	for i := range r.shards {
		r.shards[i].cells.Store(&map[cellKey]*cell{})
	}
	return r
}

// assign picks the shard of a new connection.
func (r *recorder) assign() *shard {
	return &r.shards[int(r.next.Add(1))%len(r.shards)]
}

func (s *shard) cell(k cellKey) *cell {
	if c := (*s.cells.Load())[k]; c != nil {
		return c
	}
	s.growth.Lock()
	defer s.growth.Unlock()
	old := *s.cells.Load()
	if c := old[k]; c != nil {
		return c
	}
	cells := make(map[cellKey]*cell, len(old)+1)
	for k, c := range old {
		cells[k] = c
	}
	c := new(cell)
	cells[k] = c
	s.cells.Store(&cells)
	return c
}

// record counts one request that is over.
func (s *shard) record(x *engine.Exchange, revision uint, in *engine.Instance, class engine.Class, reason engine.Reason, status int, took time.Duration) {
	k := cellKey{instance: in, revision: revision}
	k.route, k.gate = x.Route()
	if in == nil { // the names are not those of an instance
		k.service, k.version = x.Service(), x.Version()
	}
	c := s.cell(k)
	// The class comes last: who sees it counted finds all the rest counted.
	defer c.classes[class].Add(1)
	c.tries.Add(uint64(x.Tries()))
	if class == engine.Abandoned {
		return
	}
	if class == engine.OK && !x.FirstFailed() {
		c.firstOK.Add(1)
	}
	if i := status / 100; i > 0 && i < len(c.status) {
		c.status[i].Add(1)
	}
	if reason != "" {
		for i, r := range reasons {
			if r == reason {
				c.reasons[i].Add(1)
			}
		}
	}
	c.latency[stats.Bucket(took)].Add(1)
}

// collect takes what was counted since the last time. Series that stayed
// without a request for a minute are dropped.
func (r *recorder) collect() []wire.Series {
	var out []wire.Series
	for i := range r.shards {
		s := &r.shards[i]
		stale := false
		for k, c := range *s.cells.Load() {
			if series, any := c.drain(k); any {
				c.idle = 0
				out = append(out, series)
			} else if c.idle++; c.idle > r.keep {
				stale = true
			}
		}
		if stale {
			s.prune(r.keep)
		}
	}
	return out
}

// prune drops idle cells. A request that looked its cell up before and adds to
// it only now is lost to the count: between the two lie some nanoseconds, and
// the cell was idle for a minute.
func (s *shard) prune(keep int) {
	s.growth.Lock()
	defer s.growth.Unlock()
	cells := map[cellKey]*cell{}
	for k, c := range *s.cells.Load() {
		if c.idle <= keep {
			cells[k] = c
		}
	}
	s.cells.Store(&cells)
}

func (c *cell) drain(k cellKey) (wire.Series, bool) {
	s := wire.Series{Revision: k.revision, Service: k.service, Version: k.version, OK: c.classes[engine.OK].Swap(0), Failed: c.classes[engine.Failed].Swap(0),
		Refused: c.classes[engine.Refused].Swap(0), Abandoned: c.classes[engine.Abandoned].Swap(0)}
	counted := s.OK + s.Failed + s.Refused
	if counted+s.Abandoned == 0 {
		return s, false
	}
	if k.instance != nil {
		s.Service, s.Version, s.Instance = k.instance.Service, k.instance.Version, k.instance.ID
	}
	if k.route != nil {
		s.Route, s.RouteOf = k.route.Name(), k.route.Of()
	}
	if k.gate != nil {
		s.Gate = k.gate.Name()
	}
	s.Tries, s.FirstOK = c.tries.Swap(0), c.firstOK.Swap(0)
	for i := range c.status {
		if n := c.status[i].Swap(0); n > 0 {
			if s.Status == nil {
				s.Status = map[string]uint64{}
			}
			s.Status[strconv.Itoa(i)+"xx"] = n
		}
	}
	for i := range c.reasons {
		if n := c.reasons[i].Swap(0); n > 0 {
			if s.Reasons == nil {
				s.Reasons = map[string]uint64{}
			}
			s.Reasons[string(reasons[i])] = n
		}
	}
	for b := range c.latency {
		if c.latency[b].Load() == 0 {
			continue
		}
		s.Latency = append(s.Latency, [2]uint32{uint32(b), c.latency[b].Swap(0)})
	}
	return s, true
}
