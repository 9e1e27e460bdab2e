// Package forward is the policy of what a proxy does to a message on its way:
// which fields go on and which belong to one connection, the host, Via and
// Forwarded, what the mesh adds, the edits of routes, interim answers, trailers,
// and the refusals of the mesh's own. Whoever carries bytes, in whatever
// protocol, writes what this package decides, and decides nothing.
package forward

import (
	"cmp"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/http1"
	"nightjar/wire"
)

// Writer takes the fields of a header as they go on, in order.
type Writer interface {
	Add(name, value string)
	// AddBytes is Add for a value that is good during the call alone.
	AddBytes(name string, value []byte)
}

// Edits are what routes do to a header, in the order in which a request passes
// them: the gateway's route, the service's. Either may be nil.
type Edits [2]*rules.HeaderEdits

// EditsOf are the edits of the routes that took a request.
func EditsOf(x *engine.Exchange) (e Edits) {
	route, gate := x.Route()
	if gate != nil {
		e[0] = gate.Headers()
	}
	if route != nil {
		e[1] = route.Headers()
	}
	return e
}

func (e *Edits) isEmpty() bool { return e[0] == nil && e[1] == nil }

// part is what the i-th of the edits do to a request or an answer; nil: nothing.
func (e *Edits) part(i int, isAnswer bool) *rules.Edits {
	switch {
	case e[i] == nil:
		return nil
	case isAnswer:
		return &e[i].Response
	}
	return &e[i].Request
}

// replaces tells whether edits from the i-th on remove or set a field.
func (e *Edits) replaces(name string, isAnswer bool, from int) bool {
	for i := from; i < len(e); i++ {
		p := e.part(i, isAnswer)
		if p == nil {
			continue
		}
		for _, n := range p.Remove {
			if strings.EqualFold(n, name) {
				return true
			}
		}
		for j := range p.Set {
			if strings.EqualFold(p.Set[j].Name, name) {
				return true
			}
		}
	}
	return false
}

// write writes what the edits set and add. What the first of two sets or adds,
// the second may remove or set anew.
func (e *Edits) write(w Writer, isAnswer bool) {
	for i := range e {
		p := e.part(i, isAnswer)
		if p == nil {
			continue
		}
		for _, fields := range [...][]rules.Field{p.Set, p.Add} {
			for j := range fields {
				if !e.replaces(fields[j].Name, isAnswer, i+1) {
					w.Add(fields[j].Name, fields[j].Value)
				}
			}
		}
	}
}

// backwards are the edits in the order in which an answer passes them.
func (e Edits) backwards() Edits { return Edits{e[1], e[0]} }

// Hop is the proxy that a message passes.
type Hop struct {
	Caller    string // service or gateway whose requests it sends; empty beside a called workload
	IsGateway bool
}

// owns tells whether a field of a request is for the mesh alone to set, so that what the
// caller wrote does not go on. The name may be in any case.
func (r *Request) owns(name string) bool {
	if isOurs(name) {
		return true
	}
	is := func(list []string) bool {
		for _, n := range list {
			if strings.EqualFold(n, name) {
				return true
			}
		}
		return false
	}
	return r.Hop.IsGateway && (isClaim(name) && !is(r.Came.Kept) || is(r.Came.Owned))
}

// isOurs tells whether a field belongs to the mesh, whether or not it knows it.
func isOurs(name string) bool {
	const prefix = "Nightjar-"
	return len(name) >= len(prefix) && name[0]|0x20 == 'n' && strings.EqualFold(name[:len(prefix)], prefix)
}

// isClaim tells whether an outsider would say by a field where it comes from or
// for how long workloads may work for it. A gateway knows the first itself, and
// the rules say the second: a route may set the field.
func isClaim(name string) bool {
	switch name[0] {
	case 'F', 'f':
		return strings.EqualFold(name, "Forwarded")
	case 'G', 'g':
		return strings.EqualFold(name, "Grpc-Timeout")
	case 'X', 'x':
		const prefix = "X-Forwarded-"
		return strings.EqualFold(name, "X-Real-Ip") ||
			len(name) > len(prefix) && strings.EqualFold(name[:len(prefix)], prefix)
	}
	return false
}

// informs tells whether an instance is told who calls and how long it may take:
// those of the mesh are, and the workload beside this proxy.
func (h *Hop) informs(to *engine.Instance) bool { return h.Caller == "" || !to.Outside }

// Trace is what becomes of the trace context of a request.
type Trace struct {
	Own   [55]byte // the field Traceparent that goes on in place of what came
	IsOwn bool
	Drops bool // what came cannot be read: neither it nor the state goes on
}

// drops tells whether a field of a request goes no further for its trace's sake.
func (t *Trace) drops(name string) bool {
	switch len(name) {
	case len("Traceparent"):
		return (t.IsOwn || t.Drops) && strings.EqualFold(name, "Traceparent")
	case len("Tracestate"):
		return t.Drops && strings.EqualFold(name, "Tracestate")
	}
	return false
}

// Came is how a request came to this proxy.
type Came struct {
	Fields   *http1.Fields
	Host     string // as the caller wrote it
	Protocol string // 1.0, 1.1 or 2
	Remote   string // address of the caller
	IsSecure bool   // by TLS

	// At a gateway, what else decides about its fields.
	Trust *rules.Trust  // in what they tell about the way; nil: none
	Kept  []string      // that tell about the way, and are trusted
	Owned []string      // that callers may not set
	Shown []rules.Field // of the token that the request showed
}

// Request is what is done to a request on its way to an instance.
type Request struct {
	Hop      *Hop
	Came     Came
	To       *engine.Instance
	Host     string // in place of the one that came; empty: that one
	Edits    Edits
	TimeLeft time.Duration // that the caller will still wait
	Trace    Trace
	Trailers bool // the instance is told that trailers are welcome (HTTP/2)

	// Beside a called workload, what that is told: who calls, and whether it is a copy.
	Caller string
	IsCopy bool

	number [20]byte // room for one
}

// SendHost is the host that goes on.
func (r *Request) SendHost() string {
	if r.Host != "" {
		return r.Host
	}
	return r.Came.Host
}

// WriteHeader writes the fields that go on; the bearer adds the host and what
// frames the body. Edits change what came, Via and Forwarded; not what the mesh
// says.
func (r *Request) WriteHeader(w Writer) {
	isEdited := !r.Edits.isEmpty()
	came := r.Came.Fields
	for i := range came.List {
		f := &came.List[i]
		if came.OneHop(f) || r.owns(f.Name) || r.Trace.drops(f.Name) ||
			isEdited && r.Edits.replaces(f.Name, false, 0) {
			continue
		}
		w.Add(f.Name, f.Value)
	}
	if r.Trace.IsOwn {
		w.AddBytes("Traceparent", r.Trace.Own[:])
	}
	if r.Trailers {
		w.Add("Te", "trailers")
	}
	if r.Hop.informs(r.To) {
		if caller := cmp.Or(r.Hop.Caller, r.Caller); caller != "" {
			w.Add(wire.HeaderCaller, caller)
		}
		if r.IsCopy {
			w.Add(wire.HeaderMirror, "1")
		}
		w.AddBytes(wire.HeaderTimeLeft, strconv.AppendInt(r.number[:0], max(1, r.TimeLeft.Milliseconds()), 10))
	}
	if r.Hop.Caller != "" && (!isEdited || !r.Edits.replaces("Via", false, 0)) {
		w.Add("Via", via(r.Came.Protocol))
	}
	if r.Hop.IsGateway {
		replaces := func(name string) bool { return isEdited && r.Edits.replaces(name, false, 0) }
		way := WayOf(r.Came.Trust, came)
		way.write(w, &r.Came, replaces)
		for i := range r.Came.Shown {
			if f := &r.Came.Shown[i]; !replaces(f.Name) {
				w.Add(f.Name, f.Value)
			}
		}
	}
	if isEdited {
		r.Edits.write(w, false)
	}
}

// via is the element that this hop adds (RFC 9110, section 7.6.3). The proxies of a
// request are one organisation's under one pseudonym, so that of its caller stands
// for both: the inbound proxy adds none.
func via(protocol string) string {
	switch protocol {
	case "1.0":
		return "1.0 nightjar"
	case "2":
		return "2 nightjar"
	}
	return "1.1 nightjar"
}

// forwarded is the element that a gateway adds (RFC 7239, section 4).
func (c *Came) forwarded() string {
	remote, isIPv6 := hostOf(c.Remote)
	if isIPv6 {
		remote = "[" + remote + "]"
	}
	proto := "http"
	if c.IsSecure {
		proto = "https"
	}
	return `for=` + quoted(remote) + `;host=` + quoted(c.Host) + `;proto=` + proto
}

// hostOf is an address without its port.
func hostOf(remote string) (host string, isIPv6 bool) {
	if host, _, err := net.SplitHostPort(remote); err == nil {
		return host, strings.Contains(host, ":")
	}
	return remote, false
}

// quoted is a quoted-string (RFC 9110, section 5.6.4); what cannot stand in
// one is left out.
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c >= ' ' && c < 0x7f:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// Answer is what is done to an answer on its way to the caller.
type Answer struct {
	Edits    Edits
	Extra    []rules.Field // that this proxy adds
	IsInside bool          // it goes to another proxy: Via is for that one to add
}

// WriteHeader writes the fields of an answer that go on; the bearer adds what
// frames the body. protocol is the one in which it came. hasDate tells that Date
// is among them.
func (a *Answer) WriteHeader(came *http1.Fields, protocol string, w Writer) (hasDate bool) {
	isEdited := !a.Edits.isEmpty()
	for i := range came.List {
		f := &came.List[i]
		if came.OneHop(f) || isOurs(f.Name) {
			continue
		}
		hasDate = hasDate || len(f.Name) == 4 && strings.EqualFold(f.Name, "date")
		if !isEdited || !a.Edits.replaces(f.Name, true, 0) {
			w.Add(f.Name, f.Value)
		}
	}
	if !a.IsInside && (!isEdited || !a.Edits.replaces("Via", true, 0)) {
		w.Add("Via", via(protocol))
	}
	if isEdited {
		back := a.Edits.backwards()
		back.write(w, true)
	}
	for i := range a.Extra {
		w.Add(a.Extra[i].Name, a.Extra[i].Value)
	}
	return hasDate
}

// MaxInterim bounds the interim answers of one attempt. What a workload needs is
// one or two; each costs a write, and they put no end to the wait.
const MaxInterim = 16

// PassesInterim tells whether an interim answer goes on (RFC 9110, section 15.2).
// 100 is between two hops, and 101 ends the talk of HTTP.
func PassesInterim(status int) bool { return status > 101 && status < 200 }

// WriteInterim writes the fields of an interim answer that go on.
func WriteInterim(came *http1.Fields, w Writer) {
	for i := range came.List {
		if f := &came.List[i]; !came.OneHop(f) && !isOurs(f.Name) {
			w.Add(f.Name, f.Value)
		}
	}
}

// notInTrailers are the fields that do not go on in a trailer (RFC 9110, section
// 6.5.1): those that frame or route a message, say who asks or how an answer may
// be kept, or belong to a connection.
var notInTrailers = [...]string{
	"Authorization", "Cache-Control", "Connection", "Content-Encoding", "Content-Length", "Content-Range",
	"Content-Type", "Cookie", "Expect", "Forwarded", "Host", "Http2-Settings", "Keep-Alive", "Max-Forwards",
	"Proxy-Authenticate", "Proxy-Authorization", "Proxy-Connection", "Range", "Set-Cookie", "Te", "Trailer",
	"Transfer-Encoding", "Upgrade",
}

// KeepsTrailer tells whether a field in the trailer of a message goes on. The mesh's
// own do not.
func KeepsTrailer(name string) bool {
	if isOurs(name) {
		return false
	}
	for _, no := range notInTrailers {
		if strings.EqualFold(name, no) {
			return false
		}
	}
	return true
}

// LimitFields tells the caller what is left of a limit (draft-ietf-httpapi-
// ratelimit-headers-10, sections 3 and 4); none without a limit.
func LimitFields(x *engine.Exchange) []rules.Field {
	route, limit, taken := x.Limit()
	if route == nil {
		return nil
	}
	name := quoted(route.Name())
	left := fmt.Sprintf("%s;r=%d", name, taken.Left)
	if taken.Wait > 0 {
		left += fmt.Sprintf(";t=%d", wholeSeconds(taken.Wait))
	}
	policy := fmt.Sprintf("%s;q=%d;w=%d", name, limit.Count, int(limit.Per/time.Second))
	return []rules.Field{{Name: "RateLimit-Policy", Value: policy}, {Name: "RateLimit", Value: left}}
}

// wholeSeconds rounds up, to 1 at least.
func wholeSeconds(d time.Duration) int { return int(max(1, (d+time.Second-1)/time.Second)) }

// MaxTimeLeft is the longest that a caller can say it will wait.
const MaxTimeLeft = 24 * time.Hour

// TimeLeft is what the caller says it will still wait, in our field or in that
// of gRPC; 0: it says nothing that can be read.
func TimeLeft(v engine.View, isHTTP2 bool) (left time.Duration) {
	if v := v.Header(wire.HeaderTimeLeft); len(v) > 0 {
		ms, err := strconv.ParseInt(v[0], 10, 64)
		if err == nil && ms > 0 && ms <= int64(MaxTimeLeft/time.Millisecond) {
			left = time.Duration(ms) * time.Millisecond
		}
	}
	if isHTTP2 {
		if v := v.Header("Grpc-Timeout"); len(v) > 0 {
			if d := grpcTimeout(v[0]); d > 0 && (left == 0 || d < left) {
				left = d
			}
		}
	}
	return left
}

// Map is a Writer into a header of net/http. The values of fields share room, so
// that a field costs no allocation of its own.
type Map struct {
	Header http.Header
	room   []string
}

// mapRoom is how many values are allocated at once: more than most messages have.
const mapRoom = 16

// Add adds a value. The name is to be canonical.
func (m *Map) Add(name, value string) {
	if have := m.Header[name]; len(have) > 0 {
		m.Header[name] = append(have[:len(have):len(have)], value)
		return
	}
	if len(m.room) == cap(m.room) {
		m.room = make([]string, 0, mapRoom)
	}
	n := len(m.room)
	m.room = append(m.room, value)
	m.Header[name] = m.room[n : n+1 : n+1]
}

// AddBytes adds a value.
func (m *Map) AddBytes(name string, value []byte) { m.Add(name, string(value)) }

// Own is the header of an answer that a route gives by itself, as it goes on.
func (a *Answer) Own(h http.Header) http.Header {
	out := &Map{Header: http.Header{}}
	for k, values := range h {
		if !a.Edits.replaces(k, true, 0) {
			out.Header[k] = values
		}
	}
	back := a.Edits.backwards()
	back.write(out, true)
	for _, f := range a.Extra {
		out.Add(f.Name, f.Value)
	}
	return out.Header
}
