// Package effect compares what requests came to on two sides: before and after
// a change, in two trials, or by the rules in force and by a draft. It calls a
// difference one only where chance does not explain it.
package effect

import (
	"cmp"
	"slices"

	"nightjar/core/engine"
	"nightjar/core/stats"
)

// Verdict says what can be told of a difference.
type Verdict string

// The verdicts. Success is better or worse, latency faster or slower, each only
// when the 95% interval of the difference leaves 0 out.
const (
	Better   Verdict = "better"
	Worse    Verdict = "worse"
	Faster   Verdict = "faster"
	Slower   Verdict = "slower"
	NoChange Verdict = "no clear change"
	TooFew   Verdict = "too few requests"
)

// Least is how many requests each side needs for a verdict.
const Least = 30

// Kind is what the requests of a row have in common.
type Kind string

// The kinds.
const (
	Mesh    Kind = "mesh"    // all requests, each hop by itself
	Caller  Kind = "caller"  // service or gateway whose requests they are
	Service Kind = "service" // that was called
	Version Kind = "version" // SERVICE/VERSION that took them
	Route   Kind = "route"   // LADDER/ROUTE, of a service or a gateway, that took them
	Link    Kind = "link"    // CALLER > SERVICE
)

// Kinds are all kinds, from the whole to the parts.
var Kinds = []Kind{Mesh, Caller, Service, Route, Version, Link}

// Names say of which caller, route and target requests were.
type Names struct{ Caller, Gate, RouteOf, Route, Service, Version string }

type group struct {
	Kind
	name string
}

// Tally adds up one side. The zero value is empty.
type Tally struct {
	Seconds float64 // that it covers, for rates per second; 0: not known
	// SecondsOf are those of services and ladders (services with routes, gateways) that
	// were counted for a shorter time, by name.
	SecondsOf map[string]float64

	groups  map[group]*stats.Counts
	targets map[string]map[string]uint64 // requests by route and SERVICE/VERSION
}

// Add counts requests in every group that they belong to.
func (t *Tally) Add(n Names, c *stats.Counts) { t.add(n, c, true) }

// AddParts counts requests in every group but the mesh and their caller.
func (t *Tally) AddParts(n Names, c *stats.Counts) { t.add(n, c, false) }

func (t *Tally) add(n Names, c *stats.Counts, isWhole bool) {
	if t.groups == nil {
		t.groups, t.targets = map[group]*stats.Counts{}, map[string]map[string]uint64{}
	}
	into := func(k Kind, name string) {
		g := t.groups[group{k, name}]
		if g == nil {
			g = &stats.Counts{}
			t.groups[group{k, name}] = g
		}
		g.Add(c)
	}
	route := func(ladder, name string) {
		route := ladder + "/" + name
		into(Route, route)
		if n.Version == "" {
			return
		}
		if t.targets[route] == nil {
			t.targets[route] = map[string]uint64{}
		}
		t.targets[route][n.Service+"/"+n.Version] += c.Requests()
	}
	if isWhole {
		into(Mesh, "")
		into(Caller, n.Caller)
	}
	if n.Service != "" {
		into(Service, n.Service)
		into(Link, n.Caller+" > "+n.Service)
	}
	if n.Version != "" {
		into(Version, n.Service+"/"+n.Version)
	}
	if n.Gate != "" {
		route(n.Caller, n.Gate)
	}
	if n.RouteOf != "" {
		route(n.RouteOf, n.Route)
	}
}

// Whole is all that was counted.
func (t *Tally) Whole() *stats.Counts { return t.of(group{Mesh, ""}) }

// Of is what was counted of one group; empty when nothing was.
func (t *Tally) Of(k Kind, name string) *stats.Counts { return t.of(group{k, name}) }

func (t *Tally) of(g group) *stats.Counts {
	if c := t.groups[g]; c != nil {
		return c
	}
	return &stats.Counts{}
}

// Figure is one measurement on both sides.
type Figure struct {
	Before *float64 `json:"before"` // null without requests
	After  *float64 `json:"after"`
	Change *float64 `json:"change"` // after less before
	// 95% interval of the change; null where the requests are too few to bound it, and of load
	Low  *float64 `json:"low"`
	High *float64 `json:"high"`
	// better or worse, faster or slower, no clear change, or too few requests
	Verdict Verdict `json:"verdict"`
}

// Row is one group of requests on both sides.
type Row struct {
	Kind Kind `json:"kind"` // mesh, caller, service, route, version or link
	// NAME, SERVICE/VERSION, LADDER/ROUTE or CALLER > SERVICE; empty of the mesh
	Name string `json:"name"`
	// Against is the group of the same kind whose requests before stand for those of this
	// one, which had too few: the one that lost most to others. Empty: its own.
	Against  string  `json:"against,omitempty"`
	Before   Side    `json:"before"`
	After    Side    `json:"after"`
	Verdict  Verdict `json:"verdict"`  // of success
	Success  Figure  `json:"success"`  // 0 to 1
	FirstTry Figure  `json:"firstTry"` // success of first tries, 0 to 1
	P50MS    Figure  `json:"p50MS"`
	P95MS    Figure  `json:"p95MS"`
	P99MS    Figure  `json:"p99MS"`
	Load     Figure  `json:"load"` // tries for each request
	// why the mesh answered by itself, or saw no answer
	Reasons []Reason `json:"reasons,omitempty"`
	// of a route with several targets: what each got against its weight, on the side after
	Shares []ShareCheck `json:"shares,omitempty"`
	// probability that chance alone deviates so far from the weights (chi-square); absent
	// where the test does not hold
	ShareP *float64 `json:"shareP,omitempty"`
}

// Side is how many requests a group had on one side.
type Side struct {
	Requests uint64  `json:"requests"`
	RPS      float64 `json:"rps"`
	Failed   uint64  `json:"failed"`
	Refused  uint64  `json:"refused"`
}

// Reason is how often the mesh gave a reason.
type Reason struct {
	Reason string `json:"reason"`
	Before uint64 `json:"before"` // requests
	After  uint64 `json:"after"`
	Share  Figure `json:"share"` // of the requests, 0 to 1; worse is more often
}

// ShareCheck is the requests of one target of a route against its weight.
type ShareCheck struct {
	Target   string  `json:"target"`   // SERVICE/VERSION
	Intended float64 `json:"intended"` // 0 to 1, by the weights
	Observed float64 `json:"observed"`
	Low      float64 `json:"low"` // 95% interval of what was observed (Wilson)
	High     float64 `json:"high"`
	Requests uint64  `json:"requests"`
}

// Target is where a route sends, with its weight from 0 to 1.
type Target struct {
	Name   string // SERVICE/VERSION
	Weight float64
}

// Compare makes the rows of everything that has requests on a side: the mesh
// first, then the worst first. weights are those of the side after, by
// LADDER/ROUTE; nil where a route sends to one target, or nobody knows.
func Compare(before, after *Tally, weights func(route string) []Target) []Row {
	all := map[group]bool{}
	for g := range before.groups {
		all[g] = true
	}
	for g := range after.groups {
		all[g] = true
	}
	rows := make([]Row, 0, len(all))
	for g := range all {
		b, a := before.of(g), after.of(g)
		if b.Requests()+a.Requests() == 0 {
			continue
		}
		r := compare(b, a)
		if from := before.origin(g, after); from != g {
			r = compareNew(b, before.of(from), a)
			r.Against = from.name
		}
		r.Kind, r.Name = g.Kind, g.name
		r.Before.RPS, r.After.RPS = before.rateOf(g), after.rateOf(g)
		if g.Kind == Route && weights != nil {
			r.share(after.targets[g.name], weights(g.name))
		}
		rows = append(rows, r)
	}
	slices.SortFunc(rows, worstFirst)
	return rows
}

func perSecond(n uint64, seconds float64) float64 {
	if seconds <= 0 {
		return 0
	}
	return float64(n) / seconds
}

// compare compares two groups of requests.
func compare(b, a *stats.Counts) Row {
	r := Row{
		Before: Side{Requests: b.Requests(), Failed: b.Failed, Refused: b.Refused},
		After:  Side{Requests: a.Requests(), Failed: a.Failed, Refused: a.Refused},
	}
	n, m := b.Requests(), a.Requests()
	r.Success = rate(b.OK, n, a.OK, m, Better, Worse)
	r.Verdict = r.Success.Verdict
	r.FirstTry = rate(b.FirstOK, n, a.FirstOK, m, Better, Worse)
	r.P50MS, r.P95MS, r.P99MS = latency(b, a, 0.5), latency(b, a, 0.95), latency(b, a, 0.99)
	r.Load = sides(ratio(b.Tries, n), ratio(a.Tries, m))
	for i, reason := range engine.Reasons {
		if b.Reasons[i]+a.Reasons[i] > 0 {
			r.Reasons = append(
				r.Reasons,
				Reason{
					string(reason),
					b.Reasons[i],
					a.Reasons[i],
					rate(b.Reasons[i], n, a.Reasons[i], m, Worse, Better),
				},
			)
		}
	}
	slices.SortStableFunc(r.Reasons, func(x, y Reason) int { return cmp.Compare(y.Before+y.After, x.Before+x.After) })
	return r
}

func ratio(part, whole uint64) *float64 {
	if whole == 0 {
		return nil
	}
	f := float64(part) / float64(whole)
	return &f
}

// sides is a figure that has no interval.
func sides(before, after *float64) Figure {
	f := Figure{Before: before, After: after, Verdict: NoChange}
	if before != nil && after != nil {
		d := *after - *before
		f.Change = &d
	} else {
		f.Verdict = TooFew
	}
	return f
}

func rate(hits1, n1, hits2, n2 uint64, more, fewer Verdict) Figure {
	f := sides(ratio(hits1, n1), ratio(hits2, n2))
	if f.Change == nil {
		return f
	}
	_, low, high := stats.Newcombe(hits1, n1, hits2, n2)
	f.Low, f.High = &low, &high
	f.judge(min(n1, n2), more, fewer)
	return f
}

func latency(b, a *stats.Counts, q float64) Figure {
	n := min(b.Requests(), a.Requests())
	if n == 0 {
		var f Figure
		if f = sides(nil, nil); b.Requests() > 0 {
			f.Before = millis(b.Quantile(q).Seconds())
		} else if a.Requests() > 0 {
			f.After = millis(a.Quantile(q).Seconds())
		}
		return f
	}
	f := sides(millis(b.Quantile(q).Seconds()), millis(a.Quantile(q).Seconds()))
	_, low, high, bounded := stats.QuantileShift(b, a, q)
	if f.Verdict = TooFew; bounded {
		f.Low, f.High = millis(low.Seconds()), millis(high.Seconds())
		f.judge(n, Slower, Faster)
	}
	return f
}

// millis is a time in milliseconds with three decimals.
func millis(seconds float64) *float64 {
	us := int64(seconds * 1e6)
	ms := float64(us) / 1000
	return &ms
}

func (f *Figure) judge(least uint64, up, down Verdict) {
	const hair = 1e-12 // of floating point
	switch {
	case least < Least:
		f.Verdict = TooFew
	case *f.Low > hair:
		f.Verdict = up
	case *f.High < -hair:
		f.Verdict = down
	default:
		f.Verdict = NoChange
	}
}

func (r *Row) share(got map[string]uint64, weights []Target) {
	if len(weights) < 2 {
		return
	}
	counts, shares, n := make([]uint64, len(weights)), make([]float64, len(weights)), uint64(0)
	for i, w := range weights {
		counts[i], shares[i] = got[w.Name], w.Weight
		n += counts[i]
	}
	if n == 0 {
		return
	}
	for i, w := range weights {
		c := ShareCheck{
			Target:   w.Name,
			Intended: w.Weight,
			Observed: float64(counts[i]) / float64(n),
			Requests: counts[i],
		}
		c.Low, c.High = stats.Wilson(counts[i], n)
		r.Shares = append(r.Shares, c)
	}
	if _, p, fit := stats.ChiSquare(counts, shares); fit {
		r.ShareP = &p
	}
}

// OffShare is the probability below which shares are called off the weights.
const OffShare = 0.01

// worstFirst orders rows: the mesh, then by what was found of success, then of
// latency, the greatest change first.
func worstFirst(a, b Row) int {
	size := func(r Row) float64 {
		if r.Success.Change == nil {
			return 0
		}
		return max(*r.Success.Change, -*r.Success.Change)
	}
	return cmp.Or(
		cmp.Compare(a.rank(), b.rank()),
		cmp.Compare(size(b), size(a)),
		cmp.Compare(b.After.Failed+b.After.Refused, a.After.Failed+a.After.Refused),
		cmp.Compare(b.Before.Requests+b.After.Requests, a.Before.Requests+a.After.Requests),
		cmp.Compare(slices.Index(Kinds, a.Kind), slices.Index(Kinds, b.Kind)),
		cmp.Compare(a.Name, b.Name),
	)
}

func (r *Row) rank() int {
	switch {
	case r.Kind == Mesh:
		return 0
	case r.Verdict == Worse:
		return 1
	case r.latencyIs(Slower):
		return 2
	case r.Verdict == Better:
		return 3
	case r.latencyIs(Faster):
		return 4
	case r.Verdict == NoChange:
		return 5
	}
	return 6
}

func (r *Row) latencyIs(v Verdict) bool {
	return r.P50MS.Verdict == v || r.P95MS.Verdict == v || r.P99MS.Verdict == v
}

// Join adds another tally.
func (t *Tally) Join(o *Tally) {
	if t.groups == nil {
		t.groups, t.targets = map[group]*stats.Counts{}, map[string]map[string]uint64{}
	}
	for g, c := range o.groups {
		if t.groups[g] == nil {
			t.groups[g] = &stats.Counts{}
		}
		t.groups[g].Add(c)
	}
	for route, targets := range o.targets {
		if t.targets[route] == nil {
			t.targets[route] = map[string]uint64{}
		}
		for to, n := range targets {
			t.targets[route][to] += n
		}
	}
	t.Seconds += o.Seconds
}

// MostRefused is the guard's or limit's reason that was given most often on one
// link, and the link; empty when there was none.
func (t *Tally) MostRefused() (reason, link string) {
	most := uint64(0)
	for g, c := range t.groups {
		if g.Kind != Link {
			continue
		}
		for _, r := range []engine.Reason{engine.Overflow, engine.BreakerOpen, engine.Limited} {
			if n, _ := r.Number(); c.Reasons[n] > most || c.Reasons[n] == most && most > 0 && g.name < link {
				most, reason, link = c.Reasons[n], string(r), g.name
			}
		}
	}
	return reason, link
}
