package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// shadows warns of routes that no request can reach.
func (c *checker) shadows(routes []*Route, path string) {
	seen := coverage{by: map[string][]covering{}}
	var always *Route
	for i, rt := range routes {
		if slices.ContainsFunc(rt.When, func(c Condition) bool { return c.broken }) {
			continue
		}
		by := always
		if by == nil {
			by = seen.covers(rt)
		}
		if by != nil {
			what := "takes every request"
			if always == nil {
				what = "takes every request that it could take"
			}
			c.warn(
				rt.At,
				fmt.Sprintf("%s.routes[%d]", path, i),
				CodeShadowed,
				fmt.Sprintf("no request can reach route %s: the earlier route %s %s", rt.Name, by.Name, what),
				"the more specific route first",
				by.At,
			)
			continue
		}
		if len(rt.When) == 0 {
			always = rt
		}
		seen.add(rt)
	}
}

// coverage finds earlier conditions that may cover a later one without looking
// at all of them: by the plain beginning of the path and one equality.
type coverage struct {
	by    map[string][]covering
	looks int
}

type covering struct {
	route *Route
	when  *Condition
}

// maxLooks bounds the search in one ladder; past it, shadows may go unnoticed.
const maxLooks = 1_000_000

func (v *coverage) add(rt *Route) {
	for i := range rt.When {
		c := &rt.When[i]
		beginnings := plainBeginnings(c.Path)
		key := beginnings[len(beginnings)-1] + "\x00"
		if s := signatures(c); len(s) > 0 {
			key += s[0]
		}
		v.by[key] = append(v.by[key], covering{rt, c})
	}
}

// covers returns an earlier route that takes all that rt could; for several
// conditions the first of the routes that together do.
func (v *coverage) covers(rt *Route) *Route {
	var first *Route
	for i := range rt.When {
		hit := v.one(&rt.When[i])
		if hit == nil {
			return nil
		}
		if first == nil {
			first = hit
		}
	}
	return first
}

func (v *coverage) one(later *Condition) *Route {
	keys := append(signatures(later), "")
	for _, p := range plainBeginnings(later.Path) {
		for _, s := range keys {
			for _, e := range v.by[p+"\x00"+s] {
				if v.looks++; v.looks > maxLooks {
					return nil
				}
				if implies(later, e.when) {
					return e.route
				}
			}
		}
	}
	return nil
}

// plainBeginnings are the beginnings of a path, segment by segment, up to its
// first star, the empty one first.
func plainBeginnings(path string) []string {
	out := []string{""}
	for i := 1; i < len(path); i++ {
		if path[i] == '/' || i == len(path)-1 {
			end := i
			if path[i] != '/' {
				end = i + 1
			}
			from := strings.LastIndexByte(path[:end], '/')
			if seg := path[from+1 : end]; seg == "*" || seg == "**" {
				return out
			}
			out = append(out, path[:end])
		}
	}
	if path == "/" {
		out = append(out, "/")
	}
	return out
}

// signatures are the equalities of a condition in words.
func signatures(c *Condition) []string {
	var out []string
	for kind, tests := range [][]Test{c.Headers, c.Query, c.Cookies, c.Claims} {
		for _, t := range tests {
			if t.Op == Is && !t.Not {
				out = append(out, fmt.Sprint(kind, t.Name, "=", t.Values[0]))
			}
		}
	}
	return out
}

// implies tells whether every request for which a holds is one for which b
// holds. It may say no where the truth is yes.
func implies(a, b *Condition) bool {
	if b.Path != "" && !(a.Path != "" && pathCovers(b.Path, a.Path)) ||
		b.PathRegex != "" && b.PathRegex != a.PathRegex ||
		!within(a.Methods, b.Methods) ||
		!within(a.From, b.From) ||
		!within(a.Sites, b.Sites) ||
		!addressesWithin(a.Addresses, b.Addresses) {
		return false
	}
	if len(b.Hosts) > 0 && (len(a.Hosts) == 0 || slices.ContainsFunc(a.Hosts, func(h string) bool {
		return !slices.ContainsFunc(b.Hosts, func(w string) bool { return hostCovers(w, h) })
	})) {
		return false
	}
	for i, tests := range [][]Test{b.Headers, b.Query, b.Cookies, b.Claims} {
		have := [][]Test{a.Headers, a.Query, a.Cookies, a.Claims}[i]
		for _, want := range tests {
			if !slices.ContainsFunc(have, func(t Test) bool { return testImplies(t, want) }) {
				return false
			}
		}
	}
	if len(b.Any) > 0 && !slices.ContainsFunc(b.Any, func(x Condition) bool { return implies(a, &x) }) &&
		!sameGroup(a.Any, b.Any) {
		return false
	}
	for i := range b.All {
		if !implies(a, &b.All[i]) && !sameGroup(a.All, b.All) {
			return false
		}
	}
	return len(b.Not) == 0 || sameGroup(a.Not, b.Not)
}

func within(a, b []string) bool {
	return len(b) == 0 || len(a) > 0 && !slices.ContainsFunc(a, func(s string) bool { return !slices.Contains(b, s) })
}

// addressesWithin tells whether every network of a is in one of b.
func addressesWithin(a, b []netip.Prefix) bool {
	if len(b) == 0 {
		return true
	}
	return len(a) > 0 && !slices.ContainsFunc(a, func(p netip.Prefix) bool {
		return !slices.ContainsFunc(b, func(q netip.Prefix) bool { return q.Bits() <= p.Bits() && q.Contains(p.Addr()) })
	})
}

func sameGroup(a, b []Condition) bool { return describeAll(a, ";") == describeAll(b, ";") }

// testImplies tells whether a value that passes a passes b.
func testImplies(a, b Test) bool {
	if a.Name != b.Name {
		return false
	}
	if a.Not || b.Not || a.Op == Absent || b.Op == Absent {
		return a.Not == b.Not && a.Op == b.Op && slices.Equal(a.Values, b.Values)
	}
	switch {
	case a.Op == b.Op && slices.Equal(a.Values, b.Values):
		return true
	case b.Op == Present:
		return true
	case b.Op == Regex:
		return false
	case a.Op == Is || a.Op == In:
		return !slices.ContainsFunc(a.Values, func(v string) bool { return !b.Holds(v) })
	case a.Op == b.Op && (a.Op == Prefix || a.Op == Suffix || a.Op == Contains):
		return b.Holds(a.Values[0])
	}
	return false
}

// pathCovers tells whether every path that b means is one that a means.
func pathCovers(a, b string) bool {
	as, bs := strings.Split(a, "/")[1:], strings.Split(b, "/")[1:]
	for i, x := range as {
		switch {
		case x == "**":
			return true
		case i >= len(bs) || bs[i] == "**":
			return false
		case x == "*":
			if bs[i] == "" {
				return false
			}
		case x != bs[i]:
			return false
		}
	}
	return len(as) == len(bs)
}
