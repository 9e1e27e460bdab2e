package observe

import (
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

const (
	FeedTick    = 250 * time.Millisecond // how often records are sent
	maxPerTick  = 500                    // records of one watch; the rest is counted
	failuresPer = 10                     // records of failed requests that are kept in every tick, whoever watches
	faultsPer   = 5                      // the same of callers' faults, which cannot take the room of others
	maxRecorded = 1 << 10                // bytes of a path, a host or a header in a record
)

// Feed picks the records that somebody wants. While nobody does, requests that
// succeed pay for one look at a pointer.
type Feed struct {
	watches  atomic.Pointer[[]*watch] // replaced, never changed
	failures watch
	faults   watch
}

// watch is a wire.Watch made ready: a filter, and the records that passed it
// since the last tick.
type watch struct {
	wire.Watch
	low, high     int // statuses
	slower        time.Duration
	classes       [engine.NumClasses]bool
	header, value string
	valued        bool

	room    atomic.Int32 // records that this tick still takes
	dropped atomic.Uint64
	mu      sync.Mutex // taken for a record that is kept
	records []wire.Record
}

// NewFeed makes a feed that nobody watches.
func NewFeed() *Feed {
	f := &Feed{}
	f.failures.classes = [engine.NumClasses]bool{engine.Failed: true, engine.Refused: true, engine.Abandoned: true}
	f.failures.room.Store(failuresPer)
	f.faults.room.Store(faultsPer)
	return f
}

// Set replaces the watches. Those that go on keep what they have.
func (f *Feed) Set(list []wire.Watch, caller string) {
	old := map[string]*watch{}
	if now := f.watches.Load(); now != nil {
		for _, w := range *now {
			old[w.ID] = w
		}
	}
	var next []*watch
	for _, w := range list {
		if w.From != "" && w.From != caller {
			continue
		}
		if o := old[w.ID]; o != nil {
			next = append(next, o)
			continue
		}
		next = append(next, newWatch(w))
	}
	if next == nil {
		f.watches.Store(nil)
		return
	}
	f.watches.Store(&next)
}

func newWatch(w wire.Watch) *watch {
	o := &watch{Watch: w, slower: time.Duration(w.SlowerMS) * time.Millisecond}
	o.room.Store(maxPerTick)
	if s := w.Status; s != "" {
		n, _ := strconv.Atoi(strings.TrimSuffix(s, "xx"))
		if o.low, o.high = n, n; strings.HasSuffix(s, "xx") {
			o.low, o.high = 100*n, 100*n+99
		}
	}
	for c := range o.classes {
		word := engine.Class(c).String()
		o.classes[c] = w.Outcome == "" || w.Outcome == word || w.Outcome == wire.NotOK && engine.Class(c) != engine.OK
	}
	if w.Header != "" {
		o.header, o.value, o.valued = w.HeaderTest()
	}
	return o
}

// matches tells whether the filter takes a request of a caller at a site, the cheapest tests
// first.
func (w *watch) matches(r *Request, site string) bool {
	b, x := r.View, r.Exchange
	if !w.classes[r.Class] || w.low > 0 && (r.Status < w.low || r.Status > w.high) ||
		r.Took <= w.slower && w.slower > 0 || x.Attempts() < w.Attempts ||
		w.Reason != "" && w.Reason != string(r.Reason) || w.To != "" && w.To != x.Service() ||
		w.Version != "" && w.Version != x.Version() {
		return false
	}
	if w.Watch.Request != "" && w.Watch.Request != r.ID {
		return false
	}
	if w.Instance != "" && (x.Instance() == nil || x.Instance().ID != w.Instance) {
		return false
	}
	if w.Site != "" && w.Site != site && (x.Instance() == nil || x.Instance().Site != w.Site) {
		return false
	}
	if w.Route != "" {
		route, gate := x.Route()
		if (route == nil || route.Name() != w.Route) && (gate == nil || gate.Name() != w.Route) {
			return false
		}
	}
	if w.Method != "" && !strings.EqualFold(w.Method, b.Method()) ||
		w.Path != "" && !strings.HasPrefix(b.Path(), w.Path) {
		return false
	}
	if w.header == "" {
		return true
	}
	values := b.Header(w.header)
	if w.header == "Host" {
		values = []string{b.Host()}
	}
	for _, v := range values {
		if !w.valued || v == w.value {
			return true
		}
	}
	return false
}

// reserve takes room for one record.
func (w *watch) reserve() bool {
	if w.room.Load() > 0 && w.room.Add(-1) >= 0 {
		return true
	}
	w.dropped.Add(1)
	return false
}

func (w *watch) keep(r wire.Record) {
	w.mu.Lock()
	w.records = append(w.records, r)
	w.mu.Unlock()
}

// take is what came since the last time, and makes room for as much again.
func (w *watch) take(room int32) wire.Batch {
	w.mu.Lock()
	out := wire.Batch{Watch: w.ID, Records: w.records}
	w.records = nil
	w.mu.Unlock()
	out.Dropped = w.dropped.Swap(0)
	w.room.Store(room)
	return out
}

// Take is what all watches took since the last time, and some of the requests
// that did not succeed, whoever watches.
func (f *Feed) Take() (out []wire.Batch, failures []wire.Record) {
	if list := f.watches.Load(); list != nil {
		for _, w := range *list {
			if b := w.take(maxPerTick); len(b.Records) > 0 || b.Dropped > 0 {
				out = append(out, b)
			}
		}
	}
	return out, append(f.failures.take(failuresPer).Records, f.faults.take(faultsPer).Records...)
}

// offer makes a record of a request that is over, for everybody who wants it.
func (o *Observer) offer(r *Request, t *Trace) {
	if o.Feed == nil {
		return
	}
	list := o.Feed.watches.Load()
	if list == nil && r.Class == engine.OK {
		return
	}
	var record *wire.Record
	keep := func(w *watch) {
		if record == nil {
			made := o.record(r, t)
			record = &made
		}
		w.keep(*record)
	}
	switch r.Class {
	case engine.OK:
	case engine.CallerFault:
		if o.Feed.faults.reserve() {
			keep(&o.Feed.faults)
		}
	default:
		if o.Feed.failures.reserve() {
			keep(&o.Feed.failures)
		}
	}
	if list != nil {
		for _, w := range *list {
			if w.matches(r, o.Site) && w.reserve() {
				keep(w)
			}
		}
	}
}

// record makes a record that outlives the request's buffers.
func (o *Observer) record(r *Request, t *Trace) wire.Record {
	b, x := r.View, r.Exchange
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	out := wire.Record{
		At:            o.Epoch.Add(r.Began).UTC(),
		Proxy:         o.Proxy,
		Caller:        o.Caller,
		CallerVersion: o.CallerVersion,
		CallerSite:    o.Site,
		Service:       x.Service(),
		Version:       x.Version(),
		Revision:      r.Revision,
		Method:        clip(b.Method()),
		Host:          clip(b.Host()),
		Path:          clip(b.Path()),
		Status:        r.Status,
		Outcome:       r.Class.String(),
		Reason:        string(r.Reason),
		Detail:        r.Detail,
		MS:            ms(r.Took),
		Sent:          r.Sent,
		Received:      r.Received,
		ID:            r.ID,
		Trace:         t.Name(),
		Traced:        t.Sampled,
	}
	route, gate := x.Route()
	for _, rt := range []*engine.Route{gate, route} {
		if rt != nil && rt.Name() != "" {
			out.Written = rt.At().String()
		}
	}
	if route != nil {
		out.Route = route.Name()
	}
	if gate != nil {
		out.Gate = gate.Name()
	}
	if in := x.Instance(); in != nil {
		out.Instance, out.Site, out.Secured, out.Mutual = in.ID, in.Site, in.Secure || in.Mutual, in.Mutual
	}
	for _, s := range x.Segments() {
		if s.Ended == 0 {
			s.Ended = r.Began + r.Took
		}
		segment := wire.Segment{
			Kind:   s.Kind.String(),
			FromMS: ms(s.Began - r.Began),
			MS:     ms(s.Ended - s.Began),
			Status: s.Status,
			Reason: string(s.Reason),
		}
		if s.Instance != nil {
			segment.Instance = s.Instance.ID
		}
		out.Segments = append(out.Segments, segment)
	}
	return out
}

// clip copies a text that may lie in a buffer, and bounds it.
func clip(s string) string {
	if len(s) > maxRecorded {
		return strings.ToValidUTF8(s[:maxRecorded], "") + "…"
	}
	return strings.Clone(s)
}
