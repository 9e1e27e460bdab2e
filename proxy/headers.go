package proxy

import (
	"net/http"
	"strconv"
	"strings"
	"time"

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
