package forward

import (
	"net/netip"
	"strings"

	"nightjar/core/rules"
	"nightjar/proxy/http1"
)

// Way is where a request came from: the entries that trusted proxies wrote, and who
// connected last.
type Way struct {
	kept [rules.MaxTrusted]string // of the trusted, the last of them first
	n    int
	isRF bool // they are elements of Forwarded
}

// WayOf takes the entries that stay. What is to the left of them an outsider may have written.
func WayOf(t *rules.Trust, in *http1.Fields) (w Way) {
	if t == nil {
		return w
	}
	w.isRF = t.Field == "Forwarded"
	for i := len(in.List) - 1; i >= 0 && w.n < t.Proxies; i-- {
		f := &in.List[i]
		if !strings.EqualFold(f.Name, t.Field) {
			continue
		}
		for rest, more := f.Value, true; more && w.n < t.Proxies; {
			var entry string
			if rest, entry, more = lastEntry(rest, w.isRF); entry != "" {
				w.kept[w.n] = entry
				w.n++
			}
		}
	}
	return w
}

// lastEntry cuts the last entry off a list, from its end: that one was written by a proxy
// that is trusted, and whatever stands before it cannot change where it begins.
func lastEntry(list string, hasQuotes bool) (rest, entry string, more bool) {
	isQuoted := false
	for i := len(list) - 1; i >= 0; i-- {
		switch c := list[i]; {
		case c == '"' && hasQuotes && !isEscaped(list, i):
			isQuoted = !isQuoted
		case c == ',' && !isQuoted:
			return list[:i], strings.Trim(list[i+1:], " \t"), true
		}
	}
	return "", strings.Trim(list, " \t"), false
}

// isEscaped tells whether an odd number of backslashes stands before a place.
func isEscaped(s string, at int) bool {
	n := 0
	for at--; at >= 0 && s[at] == '\\'; at-- {
		n++
	}
	return n%2 == 1
}

// Address is that of the caller, as far as it is known: what the first of the trusted
// proxies wrote, or else remote, which is HOST:PORT.
func (w *Way) Address(remote string) netip.Addr {
	if w.n == 0 {
		return address(remote)
	}
	entry := w.kept[w.n-1]
	if w.isRF {
		entry = forParameter(entry)
	}
	return address(entry)
}

// address reads an IP address, with a port or without; invalid: it is none.
func address(s string) netip.Addr {
	if ap, err := netip.ParseAddrPort(s); err == nil {
		return ap.Addr().Unmap().WithZone("")
	}
	if len(s) > 1 && s[0] == '[' && s[len(s)-1] == ']' {
		s = s[1 : len(s)-1]
	}
	a, err := netip.ParseAddr(s)
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}

// forParameter is the parameter for of an element of Forwarded (RFC 7239, section 4); empty:
// there is none that can be read.
func forParameter(element string) string {
	for element != "" {
		var pair string
		pair, element = element, ""
		isQuoted := false
		for i := 0; i < len(pair); i++ {
			if c := pair[i]; c == '"' && !isEscaped(pair, i) {
				isQuoted = !isQuoted
			} else if c == ';' && !isQuoted {
				pair, element = pair[:i], pair[i+1:]
				break
			}
		}
		if isQuoted {
			return ""
		}
		name, value, _ := strings.Cut(strings.Trim(pair, " \t"), "=")
		if !strings.EqualFold(name, "for") {
			continue
		}
		if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
			value = value[1 : len(value)-1]
		}
		return value
	}
	return ""
}

// write writes the fields that tell where a request came from: the entries that stay, and
// that of this gateway.
func (w *Way) write(out Writer, came *Came, replaces func(string) bool) {
	own := came.forwarded()
	if w.n > 0 && !w.isRF && !replaces("X-Forwarded-For") {
		var b strings.Builder
		for i := w.n - 1; i >= 0; i-- {
			b.WriteString(w.kept[i])
			b.WriteString(", ")
		}
		host, _ := hostOf(came.Remote)
		b.WriteString(host)
		out.Add("X-Forwarded-For", b.String())
	}
	if replaces("Forwarded") {
		return
	}
	if w.n == 0 {
		out.Add("Forwarded", own)
		return
	}
	var b strings.Builder
	for i := w.n - 1; i >= 0; i-- {
		if w.isRF {
			b.WriteString(w.kept[i])
		} else {
			b.WriteString("for=")
			b.WriteString(quoted(node(address(w.kept[i]))))
		}
		b.WriteString(", ")
	}
	b.WriteString(own)
	out.Add("Forwarded", b.String())
}

// node is an address as RFC 7239, section 6, writes it.
func node(a netip.Addr) string {
	switch {
	case !a.IsValid():
		return "unknown"
	case a.Is6():
		return "[" + a.String() + "]"
	}
	return a.String()
}
