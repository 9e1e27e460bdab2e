package proxy

import (
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

const (
	feedTick    = 250 * time.Millisecond
	maxPerTick  = 500     // records of one watch; the rest is counted
	troublePer  = 2       // records of requests without success that are kept in every tick, whoever watches
	maxRecorded = 1 << 10 // bytes of a path, a host or a header in a record
)

// feed picks the records that somebody wants. While nobody does, requests that
// succeed pay for one look at a pointer.
type feed struct {
	watches atomic.Pointer[[]*lookout] // replaced, never changed
	trouble lookout
}

// lookout is a wire.Watch made ready.
type lookout struct {
	wire.Watch
	low, high     int // statuses
	slower        time.Duration
	classes       [4]bool
	header, value string
	valued        bool

	room    atomic.Int32 // records that this tick still takes
	dropped atomic.Uint64
	mu      sync.Mutex // taken for a record that is kept
	records []wire.Record
}

func newFeed() *feed {
	f := &feed{}
	f.trouble.classes = [4]bool{engine.Failed: true, engine.Refused: true, engine.Abandoned: true}
	f.trouble.room.Store(troublePer)
	return f
}

// set replaces the watches. Those that go on keep what they have.
func (f *feed) set(list []wire.Watch, caller string) {
	old := map[string]*lookout{}
	if now := f.watches.Load(); now != nil {
		for _, w := range *now {
			old[w.ID] = w
		}
	}
	var next []*lookout
	for _, w := range list {
		if w.From != "" && w.From != caller {
			continue
		}
		if o := old[w.ID]; o != nil {
			next = append(next, o)
			continue
		}
		next = append(next, newLookout(w))
	}
	if next == nil {
		f.watches.Store(nil)
		return
	}
	f.watches.Store(&next)
}

func newLookout(w wire.Watch) *lookout {
	o := &lookout{Watch: w, slower: time.Duration(w.SlowerMS) * time.Millisecond}
	o.room.Store(maxPerTick)
	if s := w.Status; s != "" {
		n, _ := strconv.Atoi(strings.TrimSuffix(s, "xx"))
		if o.low, o.high = n, n; strings.HasSuffix(s, "xx") {
			o.low, o.high = 100*n, 100*n+99
		}
	}
	for c := range o.classes {
		word := engine.Class(c).String()
		o.classes[c] = w.Outcome == "" || w.Outcome == word || w.Outcome == wire.Trouble && engine.Class(c) != engine.OK
	}
	if w.Header != "" {
		o.header, o.value, o.valued = w.HeaderTest()
	}
	return o
}

// takes tells whether the filter takes a request, the cheapest tests first.
func (w *lookout) takes(b engine.View, x *engine.Exchange, r *result) bool {
	if !w.classes[r.class] || w.low > 0 && (r.status < w.low || r.status > w.high) || r.took <= w.slower && w.slower > 0 || x.Tries() < w.Tries ||
		w.Reason != "" && w.Reason != string(r.reason) || w.To != "" && w.To != x.Service() || w.Version != "" && w.Version != x.Version() {
		return false
	}
	if w.Instance != "" && (x.Instance() == nil || x.Instance().ID != w.Instance) {
		return false
	}
	if w.Route != "" {
		route, gate := x.Route()
		if (route == nil || route.Name() != w.Route) && (gate == nil || gate.Name() != w.Route) {
			return false
		}
	}
	if w.Method != "" && !strings.EqualFold(w.Method, b.Method()) || w.Path != "" && !strings.HasPrefix(b.Path(), w.Path) {
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
func (w *lookout) reserve() bool {
	if w.room.Load() > 0 && w.room.Add(-1) >= 0 {
		return true
	}
	w.dropped.Add(1)
	return false
}

func (w *lookout) keep(r wire.Record) {
	w.mu.Lock()
	w.records = append(w.records, r)
	w.mu.Unlock()
}

// take is what came since the last time, and makes room for as much again.
func (w *lookout) take(room int32) wire.Batch {
	w.mu.Lock()
	out := wire.Batch{Watch: w.ID, Records: w.records}
	w.records = nil
	w.mu.Unlock()
	out.Dropped = w.dropped.Swap(0)
	w.room.Store(room)
	return out
}

// take is what all watches took.
func (f *feed) take() (out []wire.Batch, trouble []wire.Record) {
	if list := f.watches.Load(); list != nil {
		for _, w := range *list {
			if b := w.take(maxPerTick); len(b.Records) > 0 || b.Dropped > 0 {
				out = append(out, b)
			}
		}
	}
	return out, f.trouble.take(troublePer).Records
}

// offer makes a record of a request that is over, for everybody who wants it.
func (c *carrier) offer(t *tracing, b engine.View, x *engine.Exchange, revision uint, begun time.Duration, r *result) {
	if c.feed == nil { // nobody watches
		return
	}
	list := c.feed.watches.Load()
	if list == nil && r.class == engine.OK {
		return
	}
	var record *wire.Record
	keep := func(w *lookout) {
		if record == nil {
			made := c.record(t, b, x, revision, begun, r)
			record = &made
		}
		w.keep(*record)
	}
	if r.class != engine.OK && c.feed.trouble.reserve() {
		keep(&c.feed.trouble)
	}
	if list != nil {
		for _, w := range *list {
			if w.takes(b, x, r) && w.reserve() {
				keep(w)
			}
		}
	}
}

// record makes a record that outlives the request's buffers.
func (c *carrier) record(t *tracing, b engine.View, x *engine.Exchange, revision uint, begun time.Duration, r *result) wire.Record {
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	out := wire.Record{At: c.epoch.Add(begun).UTC(), Proxy: c.name, Caller: c.caller, CallerVersion: c.callerVersion, Service: x.Service(), Version: x.Version(), Revision: revision,
		Method: clip(b.Method()), Host: clip(b.Host()), Path: clip(b.Path()), Status: r.status, Outcome: r.class.String(), Reason: string(r.reason), Detail: r.detail,
		MS: ms(r.took), Sent: r.sent, Received: r.received, Trace: t.name(), Traced: t.sampled}
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
		out.Instance, out.Secured = in.ID, in.Secure
	}
	for _, s := range x.Trail() {
		if s.Ended == 0 {
			s.Ended = begun + r.took
		}
		stretch := wire.Stretch{Kind: s.Kind.String(), FromMS: ms(s.Began - begun), MS: ms(s.Ended - s.Began), Status: s.Status, Reason: string(s.Reason)}
		if s.Instance != nil {
			stretch.Instance = s.Instance.ID
		}
		out.Tries = append(out.Tries, stretch)
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

// tell sends what there is to tell of single requests. What the service does
// not take is lost, and counted.
func (s *session) tell() {
	var seen wire.Seen
	seen.Watches, seen.Trouble = s.p.feed.take()
	seen.Spans, seen.Lost = s.p.spans.take()
	seen.Lost += s.lost
	if len(seen.Watches)+len(seen.Trouble)+len(seen.Spans) == 0 {
		return
	}
	if err := s.call(s.talk, http.MethodPost, "/seen", seen, nil); err != nil {
		s.lost = seen.Lost + uint64(len(seen.Spans))
		return
	}
	s.lost = 0
}
