package engine

import (
	"regexp"
	"strings"

	"nightjar/core/rules"
)

// ladder is the compiled routes of a service or gateway. A tree over path
// segments finds the few routes whose path fits, an index by equality those of
// them whose header, host or the like fits; only their other entries are
// tried. So the cost does not grow with routes that cannot match.
type ladder struct {
	routes []*Route
	byName map[string]*Route
	any    rungs // conditions without a path
	root   node
}

// rung is one condition of one route.
type rung struct {
	index int        // of the route; lists of rungs are in rising order of it
	found bool       // the place in the tree says all about the path
	cond  *condition // nil: always
}

type node struct {
	children map[string]*node
	star     *node // any segment that is not empty
	exact    rungs // the path ends here
	under    rungs // the path ends here or goes on
}

func newLadder(routes []*Route) (*ladder, error) {
	l := &ladder{routes: routes, byName: make(map[string]*Route, len(routes))}
	for i, rt := range routes {
		l.byName[rt.rule.Name] = rt
		if len(rt.rule.When) == 0 {
			l.any.list = append(l.any.list, rung{index: i})
		}
		for j := range rt.rule.When {
			c, err := newCondition(&rt.rule.When[j])
			if err != nil {
				return nil, err
			}
			rt.conds = append(rt.conds, c)
			places := anchors(c.rule)
			if len(places) == 0 {
				l.any.list = append(l.any.list, rung{index: i, cond: c})
			}
			for _, p := range places {
				l.add(rung{index: i, cond: c, found: c.rule.Path != ""}, p)
			}
		}
	}
	l.any.arrange()
	l.root.arrange()
	return l, nil
}

// anchors are path patterns of which one fits whenever the condition holds;
// none: it can hold anywhere.
func anchors(c *rules.Condition) []string {
	if c.Path != "" {
		return []string{c.Path}
	}
	if c.PathRegex != "" {
		if p := plainStart(c.PathRegex); p != "" {
			return []string{p}
		}
	}
	for i := range c.All {
		if p := anchors(&c.All[i]); len(p) > 0 {
			return p
		}
	}
	var out []string
	for i := range c.Any {
		p := anchors(&c.Any[i])
		if len(p) == 0 {
			return nil
		}
		for _, x := range p {
			out = appendNew(out, x)
		}
	}
	return out
}

func appendNew(list []string, s string) []string {
	for _, have := range list {
		if have == s {
			return list
		}
	}
	return append(list, s)
}

// plainStart is the pattern for the whole segments with which every path
// begins that fits an expression.
func plainStart(expr string) string {
	re, err := regexp.Compile(expr)
	if err != nil {
		return ""
	}
	start, _ := re.LiteralPrefix()
	last := strings.LastIndexByte(start, '/')
	if last < 1 || start[0] != '/' || strings.ContainsAny(start, "%*") {
		return ""
	}
	return start[:last] + "/**"
}

// add puts a rung where its path leads. Segments are kept decoded.
func (l *ladder) add(r rung, path string) {
	at := &l.root
	for rest, more := path[1:], true; more; {
		var seg string
		seg, rest, more = cut(rest)
		switch seg {
		case "**":
			at.under.list = append(at.under.list, r)
			return
		case "*":
			if at.star == nil {
				at.star = &node{}
			}
			at = at.star
		default:
			seg = decoded(seg)
			next := at.children[seg]
			if next == nil {
				if at.children == nil {
					at.children = map[string]*node{}
				}
				next = &node{}
				at.children[seg] = next
			}
			at = next
		}
	}
	at.exact.list = append(at.exact.list, r)
}

func (n *node) arrange() {
	n.exact.arrange()
	n.under.arrange()
	if n.star != nil {
		n.star.arrange()
	}
	for _, c := range n.children {
		c.arrange()
	}
}

// search is one walk through a ladder.
type search struct {
	v       View
	path    string
	encoded bool
	best    rung
}

// match finds the first route, in the order of the ladder, that takes the
// request, and the condition by which it does (nil: it has none).
func (l *ladder) match(v View, path string) (*Route, *condition) {
	s := search{v: v, path: path, best: rung{index: len(l.routes)}}
	if len(l.any.list) > 0 || l.any.keyed != nil {
		s.try(&l.any)
	}
	if len(path) > 0 && path[0] == '/' {
		s.encoded = strings.IndexByte(path, '%') >= 0
		s.walk(&l.root, path[1:], true)
	}
	if s.best.index == len(l.routes) {
		return nil, nil
	}
	return l.routes[s.best.index], s.best.cond
}

func (s *search) walk(at *node, rest string, more bool) {
	for at != nil {
		if len(at.under.list) > 0 || at.under.keyed != nil {
			s.try(&at.under)
		}
		if !more {
			if len(at.exact.list) > 0 || at.exact.keyed != nil {
				s.try(&at.exact)
			}
			return
		}
		var seg string
		seg, rest, more = cut(rest)
		if at.star != nil && seg != "" {
			s.walk(at.star, rest, more)
		}
		if at.children == nil {
			return
		}
		if s.encoded {
			seg = decoded(seg)
		}
		at = at.children[seg]
	}
}

// try looks for a better rung among some.
func (s *search) try(r *rungs) {
	s.first(r.list)
	for i := range r.keyed {
		r.keyed[i].each(s.v, func(value string) bool {
			s.first(r.keyed[i].by[value])
			return true
		})
	}
}

// first keeps the first rung before the best so far whose condition holds.
func (s *search) first(list []rung) {
	for _, r := range list {
		if r.index >= s.best.index {
			return
		}
		if r.cond == nil || r.cond.holds(s.v, s.path, r.found) {
			s.best = r
			return
		}
	}
}
