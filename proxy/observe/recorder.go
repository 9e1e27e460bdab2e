package observe

import (
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"nightjar/core/engine"
	"nightjar/core/hash"
	"nightjar/core/stats"
	"nightjar/metrics"
	"nightjar/wire"
)

// Recorder counts requests in shards. A connection keeps one shard for its life,
// so that connections do not write to the same memory; Collect alone visits all
// shards. Its memory is bounded: see maxSeries.
type Recorder struct {
	shards []Shard
	next   atomic.Uint32
	keep   int // collections for which a series without a request is kept

	totals *metrics.Totals // nil: nobody reads them
	caller string
	newest uint          // revision that a request followed
	others atomic.Uint64 // requests that were counted under wire.Other, for want of room
}

// Shard has the counts of some connections: of what the workload calls, and of
// who calls the workload.
type Shard struct {
	calls   cells[callKey]
	callers cells[callerKey]
	others  *atomic.Uint64
	_       [64]byte // shards are next to each other, and each is written to by other processors
}

// callKey is the series of a call. Routes and instances are told apart by
// identity, which outlives a table; names are looked up when collecting.
type callKey struct {
	route, gate *engine.RouteName
	instance    *engine.Instance
	service     string // without an instance
	version     string // without an instance
	revision    uint
}

func (k callKey) hash() uint64 {
	h := hashPointer(k.route)
	h = hash.Mix(h ^ hashPointer(k.gate))
	h = hash.Mix(h ^ hashPointer(k.instance))
	h = hash.Mix(h ^ uint64(k.revision))
	if k.instance == nil {
		h = hash.Mix(h ^ hashString(k.service))
		h = hash.Mix(h ^ hashString(k.version))
	}
	return h
}

// callerKey is who called the workload.
type callerKey struct {
	caller string
	isCopy bool
}

func (k callerKey) hash() uint64 {
	h := hashString(k.caller)
	if k.isCopy {
		h++
	}
	return hash.Mix(h)
}

// Bounds of the series of one shard. A series takes about 2 KB: 200 instances
// behind 20 routes fit, and a proxy with 8 shards stays below 64 MB whatever the
// rules and the callers do. What finds no room is counted under wire.Other.
const (
	maxSeries = 4096
	// A caller's name is what its proxy says, and anybody may say one.
	maxCallers = 256
	// A service's name comes from the rules or is empty, so these are few; the
	// bound holds should that ever change.
	maxOthers = 256
)

// How many collections a series without a request is kept: a minute, and much
// less when it is of a revision that is over.
const (
	keepUnused  = 60
	keepOutdate = 2
)

// NewRecorder makes a recorder of that many shards for the calls of a service or
// gateway.
func NewRecorder(shards int, caller string) *Recorder {
	r := &Recorder{shards: make([]Shard, shards), keep: keepUnused, caller: caller}
	for i := range r.shards {
		r.shards[i].others = &r.others
	}
	return r
}

// SetTotals adds everything that is collected to totals, too. Call it before
// requests come.
func (r *Recorder) SetTotals(t *metrics.Totals) { r.totals = t }

// Others is how many requests were counted under wire.Other for want of room.
func (r *Recorder) Others() uint64 { return r.others.Load() }

// Assign picks the shard of a new connection.
func (r *Recorder) Assign() *Shard {
	return &r.shards[int(r.next.Add(1))%len(r.shards)]
}

// Called counts one request of the workload that is over.
func (s *Shard) Called(x *engine.Exchange, revision uint, r *Result) *Cell {
	k := callKey{instance: x.Instance(), revision: revision}
	route, gate := x.Route()
	k.route, k.gate = route.Names(), gate.Names()
	if k.instance == nil {
		k.service, k.version = x.Service(), x.Version()
	}
	c := s.calls.find(k)
	if c == nil {
		c = s.addCall(k)
	}
	c.count(r, x.Attempts(), !x.FirstFailed())
	return c
}

func (s *Shard) addCall(k callKey) *Cell {
	c := s.calls.add(k, maxSeries)
	if c != nil {
		return c
	}
	s.others.Add(1)
	other := callKey{service: k.service, version: wire.Other}
	if k.instance != nil {
		other.service = k.instance.Service
	}
	if c = s.calls.add(other, maxSeries+maxOthers); c == nil {
		c = s.calls.add(callKey{service: wire.Other, version: wire.Other}, maxSeries+maxOthers+1)
	}
	return c
}

// Served counts one request to the workload that is over. The caller's name may
// lie in a buffer that is used again.
func (s *Shard) Served(caller string, isCopy bool, r *Result) *Cell {
	k := callerKey{caller, isCopy}
	c := s.callers.find(k)
	if c == nil {
		k.caller = validCaller(caller)
		if c = s.callers.add(k, maxCallers); c == nil {
			s.others.Add(1)
			c = s.callers.add(callerKey{wire.Other, isCopy}, maxCallers+2)
		}
	}
	c.count(r, 1, true)
	return c
}

// longestCaller bounds the name of a caller in bytes.
const longestCaller = 128

// validCaller is the name of a caller as others can take it: what a proxy says may
// come from anybody.
func validCaller(name string) string {
	if len(name) > longestCaller || !utf8.ValidString(name) {
		return wire.Other
	}
	return strings.Clone(name)
}

// Collect takes what was counted since the last time, and how many connections
// are open. self is the instance beside the proxy. Call it from one goroutine.
func (r *Recorder) Collect(self engine.Instance) (out []wire.Series, open []wire.Open) {
	newest := r.newest
	for i := range r.shards {
		s := &r.shards[i]
		s.calls.visit(func(k callKey, c *Cell) (keep bool) {
			newest = max(newest, k.revision)
			series := k.series()
			n := c.open.Load()
			if n > 0 {
				open = append(
					open,
					wire.Open{Service: series.Service, Version: series.Version, Instance: series.Instance, Count: n},
				)
			}
			if c.drain(&series.Counts) {
				out = append(out, series)
			} else if n == 0 {
				c.unused++
			}
			return c.unused <= keepOutdate || k.revision == r.newest && c.unused <= r.keep
		})
		s.callers.visit(func(k callerKey, c *Cell) (keep bool) {
			series := wire.Series{
				App:      true,
				Copy:     k.isCopy,
				Caller:   k.caller,
				Service:  self.Service,
				Version:  self.Version,
				Instance: self.ID,
			}
			if c.drain(&series.Counts) {
				out = append(out, series)
			} else if c.open.Load() == 0 {
				c.unused++
			}
			return c.unused <= r.keep
		})
	}
	r.newest = newest
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

func (k callKey) series() wire.Series {
	s := wire.Series{Revision: k.revision, Service: k.service, Version: k.version}
	if k.instance != nil {
		s.Service, s.Version, s.Instance = k.instance.Service, k.instance.Version, k.instance.ID
	}
	if k.route != nil {
		s.Route, s.RouteOf = k.route.Name, k.route.Of
	}
	if k.gate != nil {
		s.Gate = k.gate.Name
	}
	return s
}

// Cell is the counts of one series in one shard.
type Cell struct {
	classes  [engine.NumClasses]atomic.Uint64 // by engine.Class
	attempts atomic.Uint64                    // of requests that count
	firstOK  atomic.Uint64                    // requests whose first attempt went well
	sent     atomic.Uint64
	received atomic.Uint64
	status   [6]atomic.Uint64 // 1xx … 5xx at 1 … 5
	reasons  [len(engine.Reasons)]atomic.Uint64
	latency  histogram
	open     atomic.Int64 // connections that still carry bytes for it
	unused   int          // collections in a row without a request; Collect's own
}

// Stream counts a connection that carries bytes for this series until the end of
// do, which adds to sent and received as they go.
func (c *Cell) Stream(do func(sent, received *atomic.Uint64)) {
	c.open.Add(1)
	defer c.open.Add(-1)
	do(&c.sent, &c.received)
}

func (c *Cell) count(r *Result, attempts int, first bool) {
	// The class comes last: who sees it counted finds all the rest counted.
	defer c.classes[r.Class].Add(1)
	if r.Sent > 0 {
		c.sent.Add(r.Sent)
	}
	if r.Received > 0 {
		c.received.Add(r.Received)
	}
	if !r.Class.Counts() && r.Reason != engine.Denied {
		return
	}
	if r.Reason != "" {
		if i, ok := r.Reason.Number(); ok {
			c.reasons[i].Add(1)
		}
	}
	if !r.Class.Counts() { // a caller without identity: who was refused is counted, and nothing else
		return
	}
	c.attempts.Add(uint64(attempts))
	if first && r.Class == engine.OK {
		c.firstOK.Add(1)
	}
	if i := r.Status / 100; i > 0 && i < len(c.status) {
		c.status[i].Add(1)
	}
	c.latency.add(r.Took)
}

// drain moves what was counted to n. False: nothing was.
func (c *Cell) drain(n *stats.Counts) bool {
	n.OK, n.Failed = c.classes[engine.OK].Swap(0), c.classes[engine.Failed].Swap(0)
	n.Refused, n.Abandoned = c.classes[engine.Refused].Swap(0), c.classes[engine.Abandoned].Swap(0)
	n.CallerFault = c.classes[engine.CallerFault].Swap(0)
	n.Sent, n.Received = c.sent.Swap(0), c.received.Swap(0)
	if n.Requests()+n.Abandoned+n.CallerFault == 0 {
		if n.Sent+n.Received == 0 {
			return false
		}
		c.unused = 0
		return true
	}
	c.unused = 0
	n.Tries, n.FirstOK = c.attempts.Swap(0), c.firstOK.Swap(0)
	for i := range c.status {
		n.Status[i] = c.status[i].Swap(0)
	}
	for i := range c.reasons {
		n.Reasons[i] = c.reasons[i].Swap(0)
	}
	n.Latency = c.latency.drain(n.Latency)
	return true
}

// histogram counts latencies by their bucket. The buckets are made by pages when
// a latency first falls into one, since a series uses few: whole it is 6.4 KB.
type histogram struct {
	pages [stats.NumBuckets / pageLen]atomic.Pointer[[pageLen]atomic.Uint32]
}

const pageLen = 64 // buckets of one doubling of the latency

func (h *histogram) add(took time.Duration) {
	b := stats.Bucket(took)
	p := &h.pages[b/pageLen]
	page := p.Load()
	if page == nil {
		p.CompareAndSwap(nil, new([pageLen]atomic.Uint32))
		page = p.Load()
	}
	page[b%pageLen].Add(1)
}

func (h *histogram) drain(to []stats.Bin) []stats.Bin {
	for i := range h.pages {
		page := h.pages[i].Load()
		if page == nil {
			continue
		}
		for j := range page {
			if page[j].Load() != 0 {
				to = append(to, stats.Bin{Bucket: uint16(i*pageLen + j), N: uint64(page[j].Swap(0))})
			}
		}
	}
	return to
}
