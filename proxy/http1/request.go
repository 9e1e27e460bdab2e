package http1

import (
	"strings"
)

// Preface begins a connection of HTTP/2 (RFC 9113, section 3.4).
const Preface = "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"

// Request is the head of a request.
type Request struct {
	Method string
	Host   string // of the target when that has one, or else of the Host field
	Path   string // as it came, percent-encoded; begins with a slash
	Query  string // with its question mark; empty when there is none
	Body   int64  // its length in bytes
	Fields
}

// Parse reads a head from the beginning of b and returns its length. The error
// is ErrIncomplete, ErrElsewhere, or a Refusal.
func (r *Request) Parse(b []byte) (n int, err error) {
	r.Reset()
	start := 0
	if len(b) >= 2 && b[0] == '\r' && b[1] == '\n' { // one empty line before it is forgiven (RFC 9112, section 2.2)
		start = 2
	}
	l, used, err := line(b[start:], false)
	if err != nil {
		return 0, err
	}
	start += used
	first := text(l)
	method, rest, ok := strings.Cut(first, " ")
	target, version, ok2 := strings.Cut(rest, " ")
	if !ok || !ok2 || method == "" || !all(l[:len(method)], &tokens) {
		return 0, refuse("the first line is not that of an HTTP request")
	}
	elsewhere := false
	switch version {
	case "HTTP/1.1":
	case "HTTP/1.0":
		elsewhere = true
	default:
		if strings.HasPrefix(version, "HTTP/") && len(version) == 8 {
			if strings.HasPrefix(Preface, first) {
				return 0, ErrElsewhere
			}
			return 0, &Refusal{505, "the version of HTTP is neither 1.0 nor 1.1"}
		}
		return 0, refuse("the first line is not that of an HTTP request")
	}
	if n, err = r.read(b[start:], false); err != nil {
		return 0, err
	}
	n += start
	switch {
	case r.hosts > 1:
		return 0, refuse("more than one Host")
	case r.hosts == 0 && version != "HTTP/1.0":
		return 0, refuse("no Host")
	case r.transfers > 0 && r.lengths > 0:
		return 0, refuse("both Content-Length and Transfer-Encoding")
	case r.lengths > 1:
		return 0, refuse("more than one Content-Length")
	case r.transfers > 1, r.transfers == 1 && !r.chunked:
		return 0, &Refusal{501, "a Transfer-Encoding other than chunked alone"}
	case r.transfers > 0 && version == "HTTP/1.0":
		return 0, refuse("Transfer-Encoding in HTTP/1.0")
	}
	r.Method, r.Host = method, r.host
	if method == "CONNECT" || target == "*" && method == "OPTIONS" {
		elsewhere = true
	} else if err := r.setTarget(target); err != nil {
		return 0, err
	}
	if !IsHost(r.Host) {
		return 0, refuse("%.60q is not a host", r.Host)
	}
	if elsewhere || r.upgrade || r.expect || r.chunked {
		return n, ErrElsewhere
	}
	r.Body = max(r.length, 0)
	return n, nil
}

// IsHost tells whether h is a name or an address, with or without a port.
func IsHost(h string) bool {
	end := 0
	if strings.HasPrefix(h, "[") {
		for end = 1; end < len(h) && (hex(h[end]) || h[end] == ':' || h[end] == '.'); end++ {
		}
		if end == len(h) || h[end] != ']' {
			return false
		}
		end++
	} else {
		for end < len(h) && hosts[h[end]] {
			end++
		}
	}
	if end < len(h) && h[end] != ':' {
		return false
	}
	for _, c := range []byte(h[min(end+1, len(h)):]) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// setTarget reads the origin form and the absolute form (RFC 9112, section 3.2).
func (r *Request) setTarget(t string) error {
	if len(t) > 7 && strings.EqualFold(t[:7], "http://") {
		t = t[7:]
		end := strings.IndexAny(t, "/?")
		if end < 0 {
			end = len(t)
		}
		r.Host, t = t[:end], t[end:]
		if r.Host == "" {
			return refuse("the target names no host")
		}
		if t == "" || t[0] == '?' {
			r.Path, r.Query = "/", t
			return CheckTarget(r.Path, r.Query)
		}
	}
	if t == "" || t[0] != '/' {
		return refuse("the target %.60q begins neither with a slash nor with http://", t)
	}
	r.Path, r.Query = t, ""
	if i := strings.IndexByte(t, '?'); i >= 0 {
		r.Path, r.Query = t[:i], t[i:]
	}
	return CheckTarget(r.Path, r.Query)
}

// CheckTarget tells whether a path and a query, as they came on the wire by any
// protocol, can be written into the first line of a request without being read
// there as something else. The error is a Refusal.
func CheckTarget(path, query string) error {
	for i := 0; i < len(path); i++ {
		switch c := path[i]; {
		case c <= ' ' || c == 0x7f || c == '#':
			return refuse("the path has a character that no path has")
		case c == '%' && (i+2 >= len(path) || !hex(path[i+1]) || !hex(path[i+2])):
			return refuse("the path has a percent sign without two hexadecimal digits")
		}
	}
	for i := range len(query) {
		if c := query[i]; c <= ' ' || c == 0x7f || c == '#' {
			return refuse("the query has a character that no query has")
		}
	}
	return nil
}

func hex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}
