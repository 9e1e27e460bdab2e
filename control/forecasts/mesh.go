package forecasts

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/control/drills"
	"nightjar/control/effects"
	"nightjar/control/fleet"
	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/telemetry"
	"nightjar/wire"
)

// warmUp is how long a simulated mesh runs before its requests count.
const warmUp = 10 * time.Second

// class is the requests of one caller that took the same routes.
type class struct{ Caller, CallerVersion, Gate, RouteOf, Route, Service string }

// link is the calls of one version to a service.
type link struct{ Caller, CallerVersion, Service string }

// measured is what was counted in a window, as a forecast needs it.
type measured struct {
	from, to  int64
	app       map[string]*stats.Counts // by SERVICE/VERSION, as the workloads answered
	versions  map[string]*stats.Counts // by SERVICE/VERSION, as callers saw it
	sent      map[string]*stats.Counts // the same with the requests of trials
	got       map[string]*stats.Counts // by SERVICE/VERSION, as the workloads answered the requests in sent
	links     map[link]*stats.Counts
	classes   map[class]uint64 // requests
	whole     *effect.Tally
	unhealthy map[string]map[int64]float64 // failures of workloads by second
	unserved  map[link]map[int64]float64   // requests without success by second
	strays    map[string]uint64            // requests to workloads that no caller's proxy knows of
	unproven  map[string]bool              // services whose proxies do not know who calls
}

func add[K comparable](m map[K]*stats.Counts, k K, c *stats.Counts) {
	if m[k] == nil {
		m[k] = &stats.Counts{}
	}
	m[k].Add(c)
}

func addAt[K comparable](m map[K]map[int64]float64, k K, at int64, n uint64) {
	if n == 0 {
		return
	}
	if m[k] == nil {
		m[k] = map[int64]float64{}
	}
	m[k][at] += float64(n)
}

// measure reads a window.
func (f *Forecasts) measure(ctx context.Context, from, to int64) (*measured, error) {
	m := &measured{
		from:      from,
		to:        to,
		app:       map[string]*stats.Counts{},
		versions:  map[string]*stats.Counts{},
		sent:      map[string]*stats.Counts{},
		got:       map[string]*stats.Counts{},
		links:     map[link]*stats.Counts{},
		classes:   map[class]uint64{},
		whole:     &effect.Tally{Seconds: float64(to - from)},
		unhealthy: map[string]map[int64]float64{},
		unserved:  map[link]map[int64]float64{},
		strays:    map[string]uint64{},
		unproven:  map[string]bool{},
	}
	rs := f.Revisions.Current().Rules
	resolver := rules.NewResolver(rs)
	for _, s := range rs.Services {
		m.unproven[s.Name] = resolver.Service(s).IdentityMode() == rules.IdentityNone
	}
	take := func(n *telemetry.Names, _ uint, c *stats.Counts) { m.take(n, c) }
	if err := f.Figures.Sum(ctx, from, to, take); err != nil {
		return nil, err
	}
	err := f.Figures.Each(ctx, from, to, func(at int64, n *telemetry.Names, _ uint, c *stats.Counts) {
		switch {
		case n.Copy:
		case n.App:
			addAt(m.unhealthy, n.Service+"/"+n.Version, at, c.Failed+c.Refused)
		default:
			addAt(m.unserved, link{n.Caller, n.CallerVersion, n.Service}, at, c.Failed+c.Refused)
		}
	})
	return m, err
}

// take adds what a series counted in the window.
func (m *measured) take(n *telemetry.Names, c *stats.Counts) {
	if n.Copy || n.Service == wire.Other {
		return
	}
	of := n.Service + "/" + n.Version
	if n.App {
		if add(m.app, of, c); n.Caller == "" && !m.unproven[n.Service] {
			m.strays[of] += c.Requests()
		} else {
			add(m.got, of, c)
		}
		return
	}
	if n.Version != "" {
		add(m.sent, of, c)
	}
	if n.Caller == fleet.ServiceCaller {
		return
	}
	if n.Service != "" {
		add(m.links, link{n.Caller, n.CallerVersion, n.Service}, c)
	}
	if n.Version != "" {
		add(m.versions, of, c)
	}
	m.classes[class{n.Caller, n.CallerVersion, n.Gate, n.RouteOf, n.Route, n.Service}] += c.Requests()
	m.whole.Add(effects.NamesOf(n), c)
}

// meshModel is a mesh that can be simulated as often as one likes, under the rules
// in force and under others.
type meshModel struct {
	instances   []engine.Instance
	proxies     []forecast.Proxy
	behaviour   map[string]forecast.Behaviour // by SERVICE/VERSION
	streams     []stream
	drills      []engine.Drill
	assumptions []string
	versions    []model.VersionBehaviour
}

func (m *meshModel) assume(format string, args ...any) {
	m.assumptions = append(m.assumptions, fmt.Sprintf(format, args...))
}

// stream is a stream of requests with what its arrivals are made of.
type stream struct {
	forecast.Stream
	load   rules.Load
	warmUp time.Duration // of the load itself
	length time.Duration // 0: without end
	seed   uint64        // of its arrivals; 0: another one in each run
}

// simulated is the model with streams of their own, at a multiple of their rates.
func (m *meshModel) simulated(seed uint64, factor float64) *forecast.Mesh {
	out := &forecast.Mesh{Instances: m.instances, Proxies: m.proxies, Behaviour: m.behaviour, Drills: m.drills}
	for i := range m.streams {
		out.Streams = append(out.Streams, m.streams[i].scaled(seed*1000+uint64(i)+1, factor))
	}
	return out
}

// scaled is the stream at a multiple of its rate. seed is that of its arrivals, if
// it has none of its own.
func (s stream) scaled(seed uint64, factor float64) forecast.Stream {
	l := s.load
	scale := func(r rules.Rate) rules.Rate { return rules.Rate{Count: r.Count * factor, Per: r.Per} }
	l.Rate = scale(l.Rate)
	l.Steps = nil
	for _, r := range s.load.Steps {
		l.Steps = append(l.Steps, scale(r))
	}
	if p := s.load.Spike; p != nil {
		spike := *p
		spike.Rate = scale(spike.Rate)
		l.Spike = &spike
	}
	length, begins := s.length, s.Counted
	if length == 0 { // it has no warm-up of its own, and is the same before and after
		length, begins = 1000*time.Hour, 0
	}
	a := trial.NewArrivals(&l, s.warmUp, length, cmp.Or(s.seed, seed))
	st := s.Stream
	st.Next = func() (time.Duration, bool) {
		at, ok := a.Next()
		return at + begins, ok
	}
	return st
}

// build builds the model from what was measured, and from what somebody says of some
// versions.
func (f *Forecasts) build(ctx context.Context, p *plan, seconds int64, changes forecast.Changes) (err error) {
	begin, end := f.Figures.Span(seconds, 0)
	if since := p.now.Since.Unix() + effects.Settle; since > begin && end-since >= 20 {
		begin = since // what the rules before did is not mixed in
	}
	if p.seen, err = f.measure(ctx, begin, end); err != nil {
		return err
	}
	m := &meshModel{instances: f.Fleet.Instances(), behaviour: map[string]forecast.Behaviour{}}
	p.mesh = m
	for _, one := range f.Fleet.List().Proxies {
		if one.Gateway != "" {
			m.proxies = append(
				m.proxies,
				forecast.Proxy{ID: one.ID, Caller: one.Gateway, Gateway: true, Site: one.Site},
			)
		} else if one.Service == "" && one.Crossing == "" {
			m.proxies = append(m.proxies, forecast.Proxy{ID: one.ID, Caller: fleet.ServiceCaller, Node: true, Site: one.Site})
		}
	}
	for _, d := range f.Drills() {
		m.drills = append(m.drills, d.Drill)
		m.assume("Drill %s (%s) continues.", d.ID, drills.Target(d.Drill))
	}
	for _, d := range f.Drains() {
		m.assume("Site %s keeps its requests; now it gives %.0f%% of them away.", d.Site, 100*d.Leaves)
	}
	b := &builder{
		table:    f.Table(),
		force:    p.now.Rules,
		draft:    p.draft,
		examples: f.Traces.Examples(),
		m:        m,
		seen:     p.seen,
	}
	b.behaviours(changes)
	b.roots()
	m.assume("Behaviour and rates are those of the last %d s: %d requests between services. "+
		"Requests arrive at random, at constant rates, whatever the result of those "+
		"before.", end-begin, p.seen.whole.Whole().Requests())
	m.assume(
		"A workload handles any number of requests at once without becoming slower, unless a behaviour file " +
			"says otherwise, " +
			"and stops working on a request when its caller has left.",
	)
	return nil
}

// builder builds a model.
type builder struct {
	table    *engine.Table
	force    *rules.Rules
	draft    *rules.Rules // nil: none
	examples examples
	m        *meshModel
	seen     *measured

	assumedNeeded []string // versions whose calls are assumed to be needed, with the calls
}

// roots are the streams that enter the mesh: at gateways, and from workloads that
// nobody calls.
func (k *builder) roots() {
	called := map[string]bool{}
	for of, c := range k.seen.app {
		if c.Requests() > 0 {
			called[of] = true
		}
	}
	type entry struct{ caller, to string }
	rates := map[entry]float64{}
	kinds := map[entry][]forecast.Kind{}
	lost := map[string]uint64{}
	for _, cl := range slices.SortedFunc(maps.Keys(k.seen.classes), compareClasses) {
		isGateway := k.force.Gateway(cl.Caller) != nil
		if !isGateway && called[cl.Caller+"/"+cl.CallerVersion] || cl.Caller == wire.Other {
			continue
		}
		to := cl.Service
		if isGateway {
			to = ""
		}
		n := k.seen.classes[cl]
		r := k.request(cl)
		if r == nil {
			lost[cl.Caller] += n
			continue
		}
		at := entry{cl.Caller, to}
		rates[at] += float64(n) / float64(max(k.seen.to-k.seen.from, 1))
		kinds[at] = append(kinds[at], forecast.Kind{Weight: float64(n), Request: r})
	}
	hasProxy := map[string]bool{}
	for _, p := range k.m.proxies {
		hasProxy[p.Caller] = true
	}
	for _, in := range k.m.instances {
		hasProxy[in.Service] = true
	}
	order := func(a, b entry) int { return cmp.Or(cmp.Compare(a.caller, b.caller), cmp.Compare(a.to, b.to)) }
	for _, at := range slices.SortedFunc(maps.Keys(rates), order) {
		if rates[at] == 0 || !hasProxy[at.caller] {
			continue
		}
		k.m.streams = append(k.m.streams, stream{
			Stream: forecast.Stream{
				Name:    at.caller,
				Caller:  at.caller,
				To:      at.to,
				Kinds:   kinds[at],
				Counted: warmUp,
			},
			load: rules.Load{Rate: rules.Rate{Count: rates[at], Per: time.Second}, Random: true},
		})
	}
	for _, caller := range slices.Sorted(maps.Keys(lost)) {
		k.m.assume(
			"%d requests of %s are left out: no example of a request is known that takes their routes.",
			lost[caller],
			caller,
		)
	}
	strays := uint64(0)
	for _, n := range k.seen.strays {
		strays += n
	}
	if strays > 0 {
		k.m.assume("%d requests that reached workloads without passing a caller's proxy are left out.", strays)
	}
}

func compareClasses(a, b class) int {
	return cmp.Or(
		cmp.Compare(a.Caller, b.Caller),
		cmp.Compare(a.CallerVersion, b.CallerVersion),
		cmp.Compare(a.Gate, b.Gate),
		cmp.Compare(a.Service, b.Service),
		cmp.Compare(a.RouteOf, b.RouteOf),
		cmp.Compare(a.Route, b.Route),
	)
}
