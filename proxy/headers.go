package proxy

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

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

// outHeader is the header to send on: what goes beyond this hop, with Via and
// Forwarded, and without what only the mesh may say.
func (c *carrier) outHeader(r *http.Request, left time.Duration) http.Header {
	h := make(http.Header, len(r.Header)+5)
	copyEndToEnd(h, r.Header)
	delete(h, wire.HeaderAsk)
	delete(h, wire.HeaderReason)
	if c.caller != "" { // only the mesh says that a request is a copy
		delete(h, wire.HeaderMirror)
	}
	if _, ok := h["User-Agent"]; !ok {
		h["User-Agent"] = nil // none came, so none is added
	}
	h["Via"] = append(r.Header["Via"][:len(r.Header["Via"]):len(r.Header["Via"])], viaText(r))
	if c.caller != "" {
		h[wire.HeaderCaller] = c.callerValue
	}
	h[wire.HeaderTimeLeft] = []string{strconv.FormatInt(max(1, left.Milliseconds()), 10)}
	if c.gateway != "" {
		h["Forwarded"] = append(r.Header["Forwarded"][:len(r.Header["Forwarded"]):len(r.Header["Forwarded"])], forwarded(r))
	}
	return h
}

func viaText(r *http.Request) string {
	if r.ProtoMajor == 1 && r.ProtoMinor == 0 {
		return "1.0 nightjar"
	}
	if r.ProtoMajor == 2 {
		return "2 nightjar"
	}
	return "1.1 nightjar"
}

// forwarded is the element that this hop adds (RFC 7239, section 4).
func forwarded(r *http.Request) string {
	host := r.RemoteAddr
	if i := strings.LastIndexByte(host, ':'); i > 0 {
		host = host[:i]
	}
	proto := "http"
	if r.TLS != nil {
		proto = "https"
	}
	return `for=` + quoted(host) + `;host=` + quoted(r.Host) + `;proto=` + proto
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

// timeLeft is what the caller says it will still wait; 0: it says nothing that
// can be read.
func timeLeft(h http.Header) time.Duration {
	v := h[wire.HeaderTimeLeft]
	if len(v) == 0 {
		return 0
	}
	ms, err := strconv.ParseInt(v[0], 10, 64)
	if err != nil || ms <= 0 || ms > int64(24*time.Hour/time.Millisecond) {
		return 0
	}
	return time.Duration(ms) * time.Millisecond
}

// edits are what the routes that took the request do to its header, in the
// order in which it passes them.
func edits(e *exchange) (out [2]*rules.HeaderEdits) {
	route, gate := e.Route()
	if gate != nil {
		out[0] = gate.Headers()
	}
	if route != nil {
		out[1] = route.Headers()
	}
	return out
}

// editAnswer does to an answer what the routes say, on the way back.
func editAnswer(h http.Header, e *exchange) {
	list := edits(e)
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
func limitFields(h http.Header, e *exchange) {
	route, limit, taken := e.Limit()
	if route == nil {
		return
	}
	name := quoted(route.Name())
	h["RateLimit-Policy"] = []string{fmt.Sprintf("%s;q=%d;w=%d", name, limit.Count, int(limit.Per/time.Second))}
	left := fmt.Sprintf("%s;r=%d", name, taken.Left)
	if taken.Wait > 0 {
		left += fmt.Sprintf(";t=%d", wholeSeconds(taken.Wait))
	}
	h["RateLimit"] = []string{left}
}

// wholeSeconds rounds up, to 1 at least.
func wholeSeconds(d time.Duration) int { return int(max(1, (d+time.Second-1)/time.Second)) }
