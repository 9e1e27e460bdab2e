package engine

import (
	"math"
	"strings"

	"nightjar/core/hash"
	"nightjar/core/rules"
)

// rewritten is the path after a rewrite or for a redirect: to, with the part
// of path that the condition's /** stands for. It never begins with two
// slashes, which would name another host.
func rewritten(to, path string, cond *condition) string {
	base, keep := strings.CutSuffix(to, "/**")
	if !keep {
		return to
	}
	if cond == nil || cond.keep < 0 {
		return path
	}
	rest := remainder(path, cond.keep)
	if base == "" {
		rest = "/" + strings.TrimLeft(rest, "/")
	}
	return base + rest
}

// remainder is what of path stands after its first segments. It is found by
// counting, since path may be percent-encoded.
func remainder(path string, segments int) string {
	for range segments {
		i := strings.IndexByte(path[1:], '/')
		if i < 0 {
			return ""
		}
		path = path[1+i:]
	}
	return path
}

// location is where a redirect leads (RFC 9110, section 10.2.2). What a
// browser could read in another way than the mesh is percent-encoded.
func location(r *rules.Redirect, v View, path string, cond *condition) string {
	var b strings.Builder
	if r.Scheme != "" || r.Host != "" {
		if r.Scheme != "" {
			b.WriteString(r.Scheme + ":")
		}
		b.WriteString("//")
		if r.Host != "" {
			b.WriteString(r.Host)
		} else {
			escape(&b, bareHost(v.Host()))
		}
	}
	if r.Path != "" {
		path = rewritten(r.Path, path, cond)
	}
	if strings.HasPrefix(path, "//") {
		path = "/" + strings.TrimLeft(path, "/")
	}
	escape(&b, path)
	if q := v.Query(); q != "" {
		b.WriteByte('?')
		escape(&b, q)
	}
	return b.String()
}

// escape writes text for a Location field, with all that is not plain ASCII,
// or has a second meaning to some readers, percent-encoded.
func escape(b *strings.Builder, text string) {
	const hex = "0123456789ABCDEF"
	for i := range len(text) {
		if c := text[i]; c <= ' ' || c >= 0x7f || strings.IndexByte("\\\"<>^`{|}#", c) >= 0 {
			b.WriteByte('%')
			b.WriteByte(hex[c>>4])
			b.WriteByte(hex[c&15])
		} else {
			b.WriteByte(c)
		}
	}
}

// keyValue is the value that a key has in a request; false: it has none.
func keyValue(k *rules.Key, v View) (value string, ok bool) {
	take := func(s string) bool {
		value, ok = s, true
		return false
	}
	switch k.Kind {
	case "header":
		if values := headerValues(v, k.Name); len(values) > 0 {
			return values[0], true
		}
	case "cookie":
		eachCookie(v, k.Name, take)
	case "query":
		eachQuery(v, k.Name, take)
	case "claim":
		if values := v.Claim(k.Name); len(values) > 0 {
			return values[0], true
		}
	case "address":
		if p := Block(v.Address()); p.IsValid() {
			return p.Addr().String(), true
		}
	case "from":
		return v.Caller(), v.Caller() != ""
	}
	return value, ok
}

// stuck is the target that a visitor keeps. Each target draws a number from
// the visitor's value and its own name, scaled by its weight, and the best
// wins; so a visitor only ever moves to a target whose weight rose against the
// one that it leaves (C. Schindelhauer and G. Schomaker, "Weighted Distributed
// Hash Tables", SPAA 2005).
func (r *Route) stuck(value string) int {
	h := visitorHash(value)
	best, least := 0, math.Inf(1)
	for i := range r.targets {
		w := r.split.plan.weights[i]
		if w == 0 {
			continue
		}
		if cost := -math.Log(hash.Fraction(hash.Mix(h^r.targets[i].seed))) / float64(w); cost < least {
			best, least = i, cost
		}
	}
	return best
}

// headerView is a request as a service's own routes see it after a gateway's
// route has changed its header fields and its host.
type headerView struct {
	host  string
	edits *rules.Edits
	set   map[string][]string
}

func newHeaderView(rule *rules.Route) *headerView {
	h := &headerView{set: map[string][]string{}, edits: &rules.Edits{}}
	if rule.Rewrite != nil {
		h.host = rule.Rewrite.Host
	}
	if rule.Headers != nil {
		h.edits = &rule.Headers.Request
	}
	for _, f := range h.edits.Set {
		h.set[f.Name] = append(h.set[f.Name], f.Value)
	}
	return h
}

// edited is a View through a headerView.
type edited struct {
	View
	by *headerView
}

func (e *edited) Host() string {
	if e.by.host != "" {
		return e.by.host
	}
	return e.View.Host()
}

func (e *edited) Header(key string) []string {
	values := e.View.Header(key)
	for _, name := range e.by.edits.Remove {
		if name == key {
			values = nil
		}
	}
	if set, ok := e.by.set[key]; ok {
		values = set
	}
	for _, f := range e.by.edits.Add {
		if f.Name == key {
			values = append(values[:len(values):len(values)], f.Value)
		}
	}
	return values
}
