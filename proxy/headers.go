package proxy

import (
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// hopByHop are the fields that belong to one connection (RFC 9110, section
// 7.6.1), besides those that Connection names.
var hopByHop = []string{"Connection", "Keep-Alive", "Proxy-Connection", "Proxy-Authenticate", "Proxy-Authorization",
	"Te", "Trailer", "Transfer-Encoding", "Upgrade", "Http2-Settings"}

// copyEndToEnd copies the fields of from that go beyond this hop into to.
func copyEndToEnd(to, from http.Header) {
	var named []string
	for _, line := range from["Connection"] {
		for name := range strings.SplitSeq(line, ",") {
			named = append(named, http.CanonicalHeaderKey(strings.TrimSpace(name)))
		}
	}
next:
	for k, values := range from {
		for _, h := range hopByHop {
			if k == h {
				continue next
			}
		}
		for _, h := range named {
			if k == h {
				continue next
			}
		}
		to[k] = values
	}
}

// owned tells whether a field of a request is for the mesh to set, so that what
// the caller wrote does not go on. The name may be in any case.
func (c *carrier) owned(name string) bool {
	const prefix = "Nightjar-"
	if len(name) < len(prefix) || !strings.EqualFold(name[:len(prefix)], prefix) {
		return false
	}
	switch {
	case strings.EqualFold(name, wire.HeaderAsk), strings.EqualFold(name, wire.HeaderReason), strings.EqualFold(name, wire.HeaderTimeLeft):
		return true
	case strings.EqualFold(name, wire.HeaderCaller), strings.EqualFold(name, wire.HeaderMirror):
		return c.caller != "" // else it comes from a proxy
	}
	return false
}

// tells whether an instance is told who calls and how long: those of the mesh
// are, and the workload beside this proxy.
func (c *carrier) tells(to *engine.Instance) bool { return c.caller == "" || !to.Outside }

// millis writes the time left for wire.HeaderTimeLeft, rounded down to 1 ms at least.
func millis(left time.Duration) int64 { return max(1, left.Milliseconds()) }

// forwarded is the element that a gateway adds (RFC 7239, section 4).
func forwarded(remote, host string, secure bool) string {
	if i := strings.LastIndexByte(remote, ':'); i > 0 {
		remote = remote[:i]
	}
	proto := "http"
	if secure {
		proto = "https"
	}
	return `for=` + quoted(remote) + `;host=` + quoted(host) + `;proto=` + proto
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

// timeLeft is what the caller says it will still wait, in our field or in that
// of gRPC; 0: it says nothing that can be read.
func timeLeft(b bearer) (left time.Duration) {
	if v := b.Header(wire.HeaderTimeLeft); len(v) > 0 {
		ms, err := strconv.ParseInt(v[0], 10, 64)
		if err == nil && ms > 0 && ms <= int64(endless/time.Millisecond) {
			left = time.Duration(ms) * time.Millisecond
		}
	}
	if b.version() == 2 {
		if v := b.Header("Grpc-Timeout"); len(v) > 0 {
			if d := grpcTimeout(v[0]); d > 0 && (left == 0 || d < left) {
				left = d
			}
		}
	}
	return left
}

// edits are what the routes that took the request do to its header, in the
// order in which it passes them.
func edits(x *engine.Exchange) (out [2]*rules.HeaderEdits) {
	route, gate := x.Route()
	if gate != nil {
		out[0] = gate.Headers()
	}
	if route != nil {
		out[1] = route.Headers()
	}
	return out
}

// editAnswer does to an answer what the routes say, on the way back.
func editAnswer(h http.Header, list [2]*rules.HeaderEdits) {
	for i := len(list) - 1; i >= 0; i-- {
		if list[i] != nil {
			edit(h, &list[i].Response)
		}
	}
}

// edit removes, sets and adds fields, in this order. Values that h shares with
// another header are left alone.
func edit(h http.Header, e *rules.Edits) {
	for _, name := range e.Remove {
		h[name] = nil // a missing User-Agent or Content-Type would be made up
	}
	for i, f := range e.Set {
		if i > 0 && e.Set[i-1].Name == f.Name { // several values of one field stand together
			h[f.Name] = append(h[f.Name], f.Value)
		} else {
			h[f.Name] = []string{f.Value}
		}
	}
	for _, f := range e.Add {
		have := h[f.Name]
		h[f.Name] = append(have[:len(have):len(have)], f.Value)
	}
}

// limitFields tells the caller what is left of a limit (draft-ietf-httpapi-
// ratelimit-headers-10, sections 3 and 4).
func limitFields(x *engine.Exchange) []rules.Field {
	route, limit, taken := x.Limit()
	if route == nil {
		return nil
	}
	name := quoted(route.Name())
	left := fmt.Sprintf("%s;r=%d", name, taken.Left)
	if taken.Wait > 0 {
		left += fmt.Sprintf(";t=%d", wholeSeconds(taken.Wait))
	}
	return []rules.Field{{Name: "RateLimit-Policy", Value: fmt.Sprintf("%s;q=%d;w=%d", name, limit.Count, int(limit.Per/time.Second))}, {Name: "RateLimit", Value: left}}
}

// wholeSeconds rounds up, to 1 at least.
func wholeSeconds(d time.Duration) int { return int(max(1, (d+time.Second-1)/time.Second)) }

// sameMachine tells whether both ends of a connection are on this machine.
func sameMachine(remote, local string) bool {
	from, _, err := net.SplitHostPort(remote)
	to, _, err2 := net.SplitHostPort(local)
	return err == nil && err2 == nil && (from == to || net.ParseIP(from).IsLoopback())
}
