package engine

import (
	"maps"
	"slices"
	"strings"

	"nightjar/core/rules"
)

// rungs are the conditions that meet at one place of the tree. When they are
// many, those that want a value equal to something are found by that value.
type rungs struct {
	list  []rung
	keyed []keyed
}

// keyed holds the rungs that compare one value of the request, such as a
// header, with something.
type keyed struct {
	what equality // without the value
	by   map[string][]rung
}

// equality is a value of the request, and what it has to be.
type equality struct {
	kind  entry
	name  string
	value string
}

// fewRungs are tried one after the other; an index would cost more.
const fewRungs = 8

// arrange puts rungs into an index when they are many.
func (r *rungs) arrange() {
	if len(r.list) <= fewRungs {
		return
	}
	// The comparison that tells most rungs apart becomes the key of a rung.
	spread := map[equality]map[string]bool{}
	for _, x := range r.list {
		for _, e := range equalities(x.cond) {
			k := equality{kind: e.kind, name: e.name}
			if spread[k] == nil {
				spread[k] = map[string]bool{}
			}
			spread[k][e.value] = true
		}
	}
	groups := map[equality]map[string][]rung{}
	var rest []rung
	for _, x := range r.list {
		all := equalities(x.cond)
		var best equality
		for _, e := range all {
			k := equality{kind: e.kind, name: e.name}
			if best.kind == nothing || len(spread[k]) > len(spread[best]) {
				best = k
			}
		}
		if best.kind == nothing || len(spread[best]) == 1 {
			rest = append(rest, x)
			continue
		}
		if groups[best] == nil {
			groups[best] = map[string][]rung{}
		}
		for _, e := range all {
			if e.kind == best.kind && e.name == best.name {
				list := groups[best][e.value]
				if n := len(list); n == 0 || list[n-1] != x {
					groups[best][e.value] = append(list, x)
				}
			}
		}
	}
	r.list = rest
	for _, k := range slices.SortedFunc(maps.Keys(groups), func(a, b equality) int {
		return strings.Compare(string(rune(a.kind))+a.name, string(rune(b.kind))+b.name)
	}) {
		r.keyed = append(r.keyed, keyed{k, groups[k]})
	}
}

// equalities are comparisons by value. For each kind and name, one of them has
// to succeed so that the condition can hold.
func equalities(c *condition) []equality {
	if c == nil {
		return nil
	}
	var out []equality
	list := func(kind entry, values []string) {
		for _, v := range values {
			out = append(out, equality{kind: kind, value: v})
		}
	}
	list(byMethod, c.rule.Methods)
	if !slices.ContainsFunc(c.rule.Hosts, func(h string) bool { return strings.HasPrefix(h, "*") }) {
		list(byHost, c.rule.Hosts)
	}
	list(byFrom, c.rule.From)
	list(bySite, c.rule.Sites)
	for _, g := range []struct {
		kind  entry
		tests []test
	}{{byHeader, c.headers}, {byQuery, c.query}, {byCookie, c.cookies}, {byClaim, c.claims}} {
		for i := range g.tests {
			t := g.tests[i].rule
			if !t.Not && (t.Op == rules.Is || t.Op == rules.In) {
				for _, v := range t.Values {
					out = append(out, equality{g.kind, t.Name, v})
				}
			}
		}
	}
	return out
}

// each calls do with every value that the request has.
func (k *keyed) each(v View, do func(value string) bool) {
	switch k.what.kind {
	case byMethod:
		do(v.Method())
	case byHost:
		do(bareHost(v.Host()))
	case byFrom:
		do(v.Caller())
	case bySite:
		do(v.Site())
	case byHeader:
		for _, value := range headerValues(v, k.what.name) {
			do(value)
		}
	case byQuery:
		eachQuery(v, k.what.name, do)
	case byCookie:
		eachCookie(v, k.what.name, do)
	case byClaim:
		for _, value := range v.Claim(k.what.name) {
			do(value)
		}
	}
}
