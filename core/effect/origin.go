package effect

import (
	"cmp"
	"slices"
	"strings"

	"nightjar/core/stats"
)

// siblings is what groups among which requests move have in common: versions their
// service, routes their ladder, links the service that is called; callers are all alike.
func (g group) siblings() (of string, hasSome bool) {
	switch g.Kind {
	case Version, Route:
		of, _, _ = strings.Cut(g.name, "/")
		return of, true
	case Link:
		_, of, _ = strings.Cut(g.name, " > ")
		return of, true
	case Caller:
		return "", true
	}
	return "", false
}

// origin is the group that a group with too few requests before, and enough after, took
// its requests from: the one among its siblings that lost the largest share. It is the
// group itself when there is none, and when it had half of its requests before. A caller
// or a link can bring requests that nobody sent before; it took them from another one
// only if that one lost half as many, and not by chance.
func (t *Tally) origin(g group, after *Tally) group {
	of, hasSome := g.siblings()
	if !hasSome || t.of(g).Requests() >= Least || after.of(g).Requests() < Least || 2*t.rateOf(g) > after.rateOf(g) {
		return g
	}
	var siblings []group
	var n, m uint64
	for other := range t.groups {
		if common, _ := other.siblings(); other.Kind == g.Kind && common == of {
			siblings = append(siblings, other)
			n += t.of(other).Requests()
			m += after.of(other).Requests()
		}
	}
	m += after.of(g).Requests()
	out, most := g, 0.0
	slices.SortFunc(siblings, func(a, b group) int { return cmp.Compare(a.name, b.name) })
	for _, other := range siblings {
		had := t.of(other).Requests()
		lost := float64(had)/float64(n) - float64(after.of(other).Requests())/float64(m)
		if other != g && had >= Least && lost > most && t.couldGive(other, g, after) {
			out, most = other, lost
		}
	}
	return out
}

// couldGive: a group may have had the requests before that another one has after.
func (t *Tally) couldGive(from, to group, after *Tally) bool {
	if to.Kind != Link && to.Kind != Caller {
		return true
	}
	change, _, high := stats.RateChange(
		t.of(from).Requests(), t.secondsOf(from),
		after.of(from).Requests(), after.secondsOf(from),
	)
	return high < 0 && -change >= after.rateOf(to)/2
}

// rateOf is the requests of a group per second.
func (t *Tally) rateOf(g group) float64 { return perSecond(t.of(g).Requests(), t.secondsOf(g)) }

// compareNew compares a group with the one that its requests went to before. b is what
// it had itself.
func compareNew(b, instead, a *stats.Counts) Row {
	r := compare(instead, a)
	r.Before = Side{Requests: b.Requests(), Failed: b.Failed, Refused: b.Refused}
	return r
}

// secondsOf is how long a group was counted.
func (t *Tally) secondsOf(g group) float64 {
	name, hasSome := g.siblings()
	if g.Kind == Service {
		name, hasSome = g.name, true
	}
	if s, isShorter := t.SecondsOf[name]; hasSome && isShorter && g.Kind != Caller {
		return s
	}
	return t.Seconds
}
