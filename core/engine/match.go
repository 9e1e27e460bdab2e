package engine

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"nightjar/core/rules"
)

// View is all that the engine sees of a request. Its methods must be cheap and
// must not allocate.
type View interface {
	Method() string
	Host() string               // as the caller wrote it, port included
	Path() string               // as it came on the wire, percent-encoded, without the query
	Header(key string) []string // by canonical name; nil when absent
}

// ladder is the compiled routes of a service or gateway. A tree over path
// segments finds the few routes whose path fits; only their other predicates
// are tried, so the cost does not grow with routes that cannot match.
type ladder struct {
	routes []*Route
	any    []rung // conditions without a path
	root   node
}

// rung is one condition of one route, without its path.
type rung struct {
	index int // of the route; lists of rungs are in rising order of it
	cond  *condition
}

type node struct {
	children map[string]*node
	exact    []rung // the path ends here
	one      []rung // exactly one more segment
	under    []rung // the path ends here or goes on
}

// condition is a compiled rules.Condition. A nil condition always holds.
type condition struct {
	rule    *rules.Condition
	prefix  int // length of the path before /**, -1 without
	methods []string
	headers []test
	cookies []test
}

type test struct {
	rule  *rules.Test
	regex *regexp.Regexp
}

func newLadder(routes []*Route) (*ladder, error) {
	l := &ladder{routes: routes}
	for i, rt := range routes {
		if len(rt.rule.When) == 0 {
			l.any = append(l.any, rung{index: i})
		}
		for j := range rt.rule.When {
			c, err := newCondition(&rt.rule.When[j])
			if err != nil {
				return nil, err
			}
			rt.conds = append(rt.conds, c)
			l.add(rung{index: i, cond: c}, c.rule.Path)
		}
	}
	return l, nil
}

func newCondition(rule *rules.Condition) (*condition, error) {
	c := &condition{rule: rule, methods: rule.Methods, prefix: -1}
	if p, ok := strings.CutSuffix(rule.Path, "/**"); ok {
		c.prefix = len(p)
	}
	for _, group := range []struct {
		from []rules.Test
		to   *[]test
	}{{rule.Headers, &c.headers}, {rule.Cookies, &c.cookies}} {
		for i := range group.from {
			t := test{rule: &group.from[i]}
			if t.rule.Op == rules.Regex {
				re, err := regexp.Compile("^(?:" + t.rule.Values[0] + ")$")
				if err != nil {
					return nil, err
				}
				t.regex = re
			}
			*group.to = append(*group.to, t)
		}
	}
	return c, nil
}

func (l *ladder) add(r rung, path string) {
	if path == "" {
		l.any = append(l.any, r)
		return
	}
	at := &l.root
	for rest := path[1:]; ; {
		seg, more, cut := strings.Cut(rest, "/")
		switch {
		case seg == "**":
			at.under = append(at.under, r)
			return
		case seg == "*":
			at.one = append(at.one, r)
			return
		}
		next := at.children[decoded(seg)]
		if next == nil {
			if at.children == nil {
				at.children = map[string]*node{}
			}
			next = &node{}
			at.children[decoded(seg)] = next
		}
		at = next
		if !cut {
			at.exact = append(at.exact, r)
			return
		}
		rest = more
	}
}

// match finds the first route, in the order of the ladder, that takes the
// request, and the condition by which it does (nil: it has none).
func (l *ladder) match(v View, path string) (*Route, *condition) {
	best := rung{index: len(l.routes)}
	if len(l.any) > 0 { // most lists are empty, and a call costs more than a look
		best = first(l.any, v, best)
	}
	if len(path) > 0 && path[0] == '/' {
		at, rest, more := &l.root, path[1:], true
		encoded := strings.IndexByte(path, '%') >= 0
		for at != nil {
			if len(at.under) > 0 {
				best = first(at.under, v, best)
			}
			if !more {
				best = first(at.exact, v, best)
				break
			}
			var seg string
			if i := strings.IndexByte(rest, '/'); i >= 0 {
				seg, rest = rest[:i], rest[i+1:]
			} else {
				seg, rest, more = rest, "", false
			}
			if !more && seg != "" && len(at.one) > 0 {
				best = first(at.one, v, best)
			}
			if encoded {
				seg = decoded(seg)
			}
			if at.children == nil {
				break
			}
			at = at.children[seg]
		}
	}
	if best.index == len(l.routes) {
		return nil, nil
	}
	return l.routes[best.index], best.cond
}

// first returns the first rung before best whose predicates hold, or best.
func first(list []rung, v View, best rung) rung {
	for _, r := range list {
		if r.index >= best.index {
			break
		}
		if r.cond == nil || r.cond.holds(v) {
			return r
		}
	}
	return best
}

// decoded resolves percent-encoding in one segment. A segment cannot be cut in
// two by an encoded slash: paths are cut first and decoded then.
func decoded(seg string) string {
	if strings.IndexByte(seg, '%') < 0 {
		return seg
	}
	if s, err := url.PathUnescape(seg); err == nil {
		return s
	}
	return seg
}

// holds tells whether everything but the path fits.
func (c *condition) holds(v View) bool {
	if len(c.methods) > 0 && !slices.Contains(c.methods, v.Method()) {
		return false
	}
	for i := range c.headers {
		if !c.headers[i].holdsHeader(v) {
			return false
		}
	}
	for i := range c.cookies {
		if !c.cookies[i].holdsCookie(v) {
			return false
		}
	}
	return true
}

// holdsHeader tests every value of the header; one that fits is enough.
func (t *test) holdsHeader(v View) bool {
	values := v.Header(t.rule.Name)
	if t.rule.Op == rules.Absent {
		return (len(values) == 0) != t.rule.Not
	}
	return slices.ContainsFunc(values, t.fits) != t.rule.Not
}

func (t *test) holdsCookie(v View) bool {
	found, hit := false, false
	eachCookie(v, t.rule.Name, func(value string) {
		found = true
		hit = hit || t.fits(value)
	})
	if t.rule.Op == rules.Absent {
		hit = !found
	}
	return hit != t.rule.Not
}

// eachCookie calls do with every value of a cookie (RFC 6265, section 4.2.1).
func eachCookie(v View, name string, do func(value string)) {
	for _, line := range v.Header("Cookie") {
		for pair := range strings.SplitSeq(line, ";") {
			k, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if k == name {
				do(strings.Trim(value, `"`))
			}
		}
	}
}

func (t *test) fits(value string) bool {
	switch t.rule.Op {
	case rules.Is:
		return value == t.rule.Values[0]
	case rules.In:
		return slices.Contains(t.rule.Values, value)
	case rules.Prefix:
		return strings.HasPrefix(value, t.rule.Values[0])
	case rules.Suffix:
		return strings.HasSuffix(value, t.rule.Values[0])
	case rules.Contains:
		return strings.Contains(value, t.rule.Values[0])
	case rules.Regex:
		return t.regex.MatchString(value)
	case rules.Present:
		return true
	}
	return false
}

// pathFits tells whether the path alone fits the condition; match does the
// same by walking the tree.
func (c *condition) pathFits(path string) bool {
	pattern := c.rule.Path
	if pattern == "" {
		return true
	}
	if path == "" || path[0] != '/' {
		return false
	}
	want, have := strings.Split(pattern[1:], "/"), strings.Split(path[1:], "/")
	for i, w := range want {
		switch {
		case w == "**":
			return true
		case i >= len(have):
			return false
		case w == "*":
			return len(have) == i+1 && have[i] != ""
		case decoded(w) != decoded(have[i]):
			return false
		}
	}
	return len(have) == len(want)
}
