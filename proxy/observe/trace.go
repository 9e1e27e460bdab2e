package observe

import (
	"encoding/binary"
	"encoding/hex"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

// Fields of W3C Trace Context, level 1.
const (
	HeaderTraceparent = "Traceparent"
	HeaderTracestate  = "Tracestate"
)

type (
	traceID     [16]byte
	spanID      [8]byte
	Traceparent [55]byte // 00-TRACE-PARENT-FLAGS in hexadecimal
)

// maxAttemptIDs bounds the tries of one request whose spans can have children.
const maxAttemptIDs = 12

// Trace is a request's part in a trace. The zero value has none, so that the
// fields of the request, if any, go on as they came.
type Trace struct {
	id       traceID
	parent   spanID // whose child this hop is; zero: the trace begins here
	flags    byte
	Own      bool                  // the field that goes on is this hop's own
	Sampled  bool                  // spans are kept
	Invalid  bool                  // a field came that cannot be read; it does not go on, nor does the state
	span     spanID                // of the request at this proxy
	attempts [maxAttemptIDs]spanID // zero where nothing was sent
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
	if !unhex(version[:], s[:2]) || version[0] == 0xff || !unhex(id[:], s[3:35]) || !unhex(parent[:], s[36:52]) ||
		!unhex(one[:], s[53:55]) {
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

// Trace reads the trace context of a request: the values of its field
// Traceparent. starts tells whether a trace begins here when there is
// none; it is kept for that share of the requests. What the caller decided holds,
// but not what an outsider did: at a gateway the share decides for all.
func (o *Observer) Trace(came []string, starts bool) (t Trace) {
	if o.Spans == nil {
		return t
	}
	if len(came) > 0 {
		var ok bool
		if t.id, t.parent, t.flags, ok = readTraceparent(came[0]); ok && len(came) == 1 {
			if o.IsGateway {
				t.Own, t.span, t.flags = true, newSpanID(), t.flags&^sampledFlag
				o.sample(&t)
				return t
			}
			if t.Sampled = t.flags&sampledFlag != 0; t.Sampled {
				t.Own, t.span = true, newSpanID()
			}
			return t
		}
		t = Trace{Invalid: true}
	}
	if !starts {
		return t
	}
	t.Own = true
	binary.BigEndian.PutUint64(t.id[:], rand.Uint64()|1<<63)
	binary.BigEndian.PutUint64(t.id[8:], rand.Uint64())
	t.span = newSpanID()
	o.sample(&t)
	return t
}

// sample decides by the share whether the spans of a trace are kept.
func (o *Observer) sample(t *Trace) {
	if share := o.Spans.share(); share > 0 && rand.Float64() < share {
		t.Sampled, t.flags = true, t.flags|sampledFlag
	}
}

// Field is the field that goes on with an attempt, the first of which is 0.
func (t *Trace) Field(attempt int) (f Traceparent) {
	id := newSpanID()
	if attempt < maxAttemptIDs {
		t.attempts[attempt] = id
	}
	copy(f[:], "00-")
	hex.Encode(f[3:], t.id[:])
	f[35] = '-'
	hex.Encode(f[36:], id[:])
	f[52] = '-'
	hex.Encode(f[53:], []byte{t.flags})
	return f
}

// Name is the trace id as people see it; empty: there is none.
func (t *Trace) Name() string {
	if t.id == (traceID{}) {
		return ""
	}
	return hex.EncodeToString(t.id[:])
}

// Spans are what is kept of traces until it is sent.
type Spans struct {
	traced atomic.Uint64 // share, in thousandths of a percent
	mu     sync.Mutex    // taken by traced requests alone
	list   []wire.Span
	lost   uint64
}

// maxSpans bounds what is kept between two sendings.
const maxSpans = 4096

// SetShare sets the share of the requests without a trace context that are
// traced, 0 to 1.
func (s *Spans) SetShare(share float64) { s.traced.Store(uint64(share * 100_000)) }

func (s *Spans) share() float64 {
	return float64(s.traced.Load()) / 100_000
}

func (s *Spans) add(list ...wire.Span) {
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

// Take is what was kept since the last time, and how many there was no room for.
func (s *Spans) Take() (list []wire.Span, lost uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, lost = s.list, s.lost
	s.list, s.lost = nil, 0
	return list, lost
}

// keepSpans keeps the spans of a request that is over: its own, and one for each try
// and each wait.
func (o *Observer) keepSpans(r *Request, t *Trace) {
	b, x := r.View, r.Exchange
	at := func(since time.Duration) int64 { return o.Epoch.Add(since).UnixMicro() }
	trace, own := t.Name(), hex.EncodeToString(t.span[:])
	route, gate := x.Route()
	if route == nil || route.Name() == "" {
		route = gate
	}
	whole := wire.Span{
		Trace:   trace,
		ID:      own,
		Kind:    "request",
		BeganUS: at(r.Began),
		TookUS:  r.Took.Microseconds(),
		Proxy:   o.Proxy,
		Edge:    o.IsGateway,
		Caller:  o.Caller,
		Service: x.Service(),
		Version: x.Version(),
		Method:  clip(b.Method()),
		Path:    clip(b.Path()),
		Status:  r.Status,
		Outcome: r.Class.String(),
		Reason:  string(r.Reason),
		Detail:  r.Detail,
	}
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
	for _, s := range x.Segments() {
		if s.Ended == 0 {
			s.Ended = r.Began + r.Took
		}
		part := wire.Span{
			Trace:   trace,
			Parent:  own,
			Kind:    s.Kind.String(),
			BeganUS: at(s.Began),
			TookUS:  (s.Ended - s.Began).Microseconds(),
			Proxy:   o.Proxy,
			Edge:    whole.Edge,
			Caller:  o.Caller,
			Service: x.Service(),
			Version: x.Version(),
			Status:  s.Status,
			Reason:  string(s.Reason),
		}
		id := newSpanID()
		if s.Kind == engine.SegmentAttempt {
			part.Instance, part.Version = s.Instance.ID, s.Instance.Version
			part.Outcome = engine.Classify(s.Reason, s.Status).String()
			if n < maxAttemptIDs && t.attempts[n] != (spanID{}) {
				id = t.attempts[n]
			}
			n++
		}
		part.ID = hex.EncodeToString(id[:])
		list = append(list, part)
	}
	o.Spans.add(list...)
}

// keepServed keeps the span of the workload's own work.
func (o *Observer) keepServed(self *engine.Instance, caller string, r *Request, t *Trace) {
	b := r.View
	o.Spans.add(
		wire.Span{
			Trace:    t.Name(),
			ID:       hex.EncodeToString(t.attempts[0][:]),
			Parent:   hex.EncodeToString(t.parent[:]),
			Kind:     "workload",
			BeganUS:  o.Epoch.Add(r.Began).UnixMicro(),
			TookUS:   r.Took.Microseconds(),
			Proxy:    o.Proxy,
			Caller:   clip(caller),
			Service:  self.Service,
			Version:  self.Version,
			Instance: self.ID,
			Method:   clip(b.Method()),
			Path:     clip(b.Path()),
			Status:   r.Status,
			Outcome:  r.Class.String(),
			Reason:   string(r.Reason),
			Detail:   r.Detail,
		},
	)
}
