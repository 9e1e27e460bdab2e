package proxy

import (
	"encoding/binary"
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

// Fields of W3C Trace Context, level 1.
const (
	headerTraceparent = "Traceparent"
	headerTracestate  = "Tracestate"
)

type (
	traceID     [16]byte
	spanID      [8]byte
	traceparent [55]byte // 00-TRACE-PARENT-FLAGS in hexadecimal
)

// maxTryIDs bounds the tries of one request whose spans can have children.
const maxTryIDs = 12

// tracing is a request's part in a trace. The zero value has none, so that the
// fields of the request, if any, go on as they came.
type tracing struct {
	id      traceID
	parent  spanID // whose child this hop is; zero: the trace begins here
	flags   byte
	on      bool              // the field that goes on is this hop's own
	sampled bool              // spans are kept
	invalid bool              // a field came that cannot be read; it does not go on, nor does the state
	span    spanID            // of the request at this proxy
	tries   [maxTryIDs]spanID // zero where nothing was sent
}

const sampledFlag = 1

func newSpanID() (id spanID) {
	for id == (spanID{}) {
		binary.BigEndian.PutUint64(id[:], rand.Uint64())
	}
	return id
}

// readTraceparent reads the field. A later version counts by what it has in
// common with version 00.
func readTraceparent(s string) (id traceID, parent spanID, flags byte, ok bool) {
	if len(s) < 55 || s[2] != '-' || s[35] != '-' || s[52] != '-' || len(s) > 55 && (s[:2] == "00" || s[55] != '-') {
		return id, parent, 0, false
	}
	for i := range 55 { // upper case is not allowed
		if c := s[i]; c >= 'A' && c <= 'F' {
			return id, parent, 0, false
		}
	}
	var one [1]byte
	version := [1]byte{}
	if !unhex(version[:], s[:2]) || version[0] == 0xff || !unhex(id[:], s[3:35]) || !unhex(parent[:], s[36:52]) || !unhex(one[:], s[53:55]) {
		return id, parent, 0, false
	}
	return id, parent, one[0], id != (traceID{}) && parent != (spanID{})
}

func unhex(to []byte, s string) bool {
	for i := range to {
		high, low := nibble(s[2*i]), nibble(s[2*i+1])
		if high > 15 || low > 15 {
			return false
		}
		to[i] = high<<4 | low
	}
	return true
}

func nibble(c byte) byte {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10
	}
	return 255
}

// trace reads what came. starts tells whether a trace begins here when there is
// none; it is kept for that share of the requests. What the caller decided holds.
func (c *carrier) trace(b bearer, starts bool) (t tracing) {
	if c.spans == nil { // nobody traces
		return t
	}
	came := b.Header(headerTraceparent)
	if len(came) > 0 {
		var ok bool
		if t.id, t.parent, t.flags, ok = readTraceparent(came[0]); ok && len(came) == 1 {
			if t.sampled = t.flags&sampledFlag != 0; t.sampled {
				t.on, t.span = true, newSpanID()
			}
			return t
		}
		t = tracing{invalid: true}
	}
	if !starts {
		return t
	}
	t.on = true
	binary.BigEndian.PutUint64(t.id[:], rand.Uint64()|1<<63)
	binary.BigEndian.PutUint64(t.id[8:], rand.Uint64())
	t.span = newSpanID()
	if share := c.spans.share(); share > 0 && rand.Float64() < share {
		t.sampled, t.flags = true, sampledFlag
	}
	return t
}

// field is the field for a try, the first of which is 0.
func (t *tracing) field(try int) (f traceparent) {
	id := newSpanID()
	if try < maxTryIDs {
		t.tries[try] = id
	}
	copy(f[:], "00-")
	hex.Encode(f[3:], t.id[:])
	f[35] = '-'
	hex.Encode(f[36:], id[:])
	f[52] = '-'
	hex.Encode(f[53:], []byte{t.flags})
	return f
}

// retraces tells whether a field of the request is not to go on as it came. The
// name may be in any case.
func (to *call) retraces(name string) bool {
	switch len(name) {
	case len(headerTraceparent):
		return (to.traced || to.untraced) && strings.EqualFold(name, headerTraceparent)
	case len(headerTracestate):
		return to.untraced && strings.EqualFold(name, headerTracestate)
	}
	return false
}

// name is the trace id as people see it; empty: there is none.
func (t *tracing) name() string {
	if t.id == (traceID{}) {
		return ""
	}
	return hex.EncodeToString(t.id[:])
}

// spans are what is kept of traces until it is sent.
type spans struct {
	traced atomic.Uint64 // share, in thousandths of a percent
	mu     sync.Mutex    // taken by traced requests alone
	list   []wire.Span
	lost   uint64
}

// maxSpans bounds what is kept between two sendings.
const maxSpans = 4096

func (s *spans) share() float64 {
	return float64(s.traced.Load()) / 100_000
}

func (s *spans) add(list ...wire.Span) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range list {
		if len(s.list) >= maxSpans {
			s.lost += uint64(len(list) - i)
			return
		}
		s.list = append(s.list, list[i])
	}
}

func (s *spans) take() (list []wire.Span, lost uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, lost = s.list, s.lost
	s.list, s.lost = nil, 0
	return list, lost
}

// keep keeps the spans of a request that is over: its own, and one for each try
// and each wait.
func (c *carrier) keep(t *tracing, b engine.View, x *engine.Exchange, begun time.Duration, r *result) {
	at := func(since time.Duration) int64 { return c.epoch.Add(since).UnixMicro() }
	trace, own := t.name(), hex.EncodeToString(t.span[:])
	route, gate := x.Route()
	if route == nil || route.Name() == "" {
		route = gate
	}
	whole := wire.Span{Trace: trace, ID: own, Kind: "request", BeganUS: at(begun), TookUS: r.took.Microseconds(), Proxy: c.name, Edge: c.gateway != "", Caller: c.caller,
		Service: x.Service(), Version: x.Version(), Method: clip(b.Method()), Path: clip(b.Path()), Status: r.status, Outcome: r.class.String(), Reason: string(r.reason), Detail: r.detail}
	if t.parent != (spanID{}) {
		whole.Parent = hex.EncodeToString(t.parent[:])
	}
	if route != nil {
		whole.Route = route.Name()
	}
	if in := x.Instance(); in != nil {
		whole.Instance = in.ID
	}
	list := []wire.Span{whole}
	n := 0
	for _, s := range x.Trail() {
		if s.Ended == 0 {
			s.Ended = begun + r.took
		}
		part := wire.Span{Trace: trace, Parent: own, Kind: s.Kind.String(), BeganUS: at(s.Began), TookUS: (s.Ended - s.Began).Microseconds(), Proxy: c.name, Edge: whole.Edge,
			Caller: c.caller, Service: x.Service(), Version: x.Version(), Status: s.Status, Reason: string(s.Reason)}
		id := newSpanID()
		if s.Kind == engine.Tried {
			part.Instance, part.Version, part.Outcome = s.Instance.ID, s.Instance.Version, engine.Classify(s.Reason, s.Status).String()
			if n < maxTryIDs && t.tries[n] != (spanID{}) {
				id = t.tries[n]
			}
			n++
		}
		part.ID = hex.EncodeToString(id[:])
		list = append(list, part)
	}
	c.spans.add(list...)
}

// keepApp keeps the span of the workload's own work.
func (in *inbound) keepApp(t *tracing, b engine.View, caller string, begun time.Duration, r *result) {
	in.spans.add(wire.Span{Trace: t.name(), ID: hex.EncodeToString(t.tries[0][:]), Parent: hex.EncodeToString(t.parent[:]), Kind: "app", BeganUS: in.epoch.Add(begun).UnixMicro(),
		TookUS: r.took.Microseconds(), Proxy: in.name, Caller: clip(caller), Service: in.self.Service, Version: in.self.Version, Instance: in.self.ID,
		Method: clip(b.Method()), Path: clip(b.Path()), Status: r.status, Outcome: r.class.String(), Reason: string(r.reason), Detail: r.detail})
}
