package control

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/telemetry"
	"nightjar/wire"
)

// class is requests that a caller made and that the same routes took.
type class struct{ Caller, CallerVersion, Gate, RouteOf, Route, Service string }

// link is the calls of one version to a service.
type link struct{ Caller, CallerVersion, Service string }

// measured is what was counted in a window, as a forecast needs it.
type measured struct {
	from, to int64
	app      map[string]*stats.Counts // by SERVICE/VERSION, as the workloads answered
	versions map[string]*stats.Counts // by SERVICE/VERSION, as callers saw it
	links    map[link]*stats.Counts
	classes  map[class]uint64
	whole    *effect.Tally
	unwell   map[string]map[int64]float64 // failures of workloads by second
	unserved map[link]map[int64]float64   // requests without success by second
	strays   map[string]uint64            // requests to workloads that no caller's proxy knows of
}

func add[K comparable](m map[K]*stats.Counts, k K, c *stats.Counts) {
	if m[k] == nil {
		m[k] = &stats.Counts{}
	}
	m[k].Add(c)
}

func tick[K comparable](m map[K]map[int64]float64, k K, at int64, n uint64) {
	if n == 0 {
		return
	}
	if m[k] == nil {
		m[k] = map[int64]float64{}
	}
	m[k][at] += float64(n)
}

// measure reads a window that is in memory.
func (c *Control) measure(from, to int64) *measured {
	m := &measured{from: from, to: to, app: map[string]*stats.Counts{}, versions: map[string]*stats.Counts{}, links: map[link]*stats.Counts{}, classes: map[class]uint64{},
		whole: &effect.Tally{Seconds: float64(to - from)}, unwell: map[string]map[int64]float64{}, unserved: map[link]map[int64]float64{}, strays: map[string]uint64{}}
	c.telemetry.Sum(from, to, func(n *telemetry.Names, _ uint, s *stats.Counts) {
		of := n.Service + "/" + n.Version
		switch {
		case n.Copy || n.Service == wire.Other:
		case n.App:
			if add(m.app, of, s); n.Caller == "" {
				m.strays[of] += s.Requests()
			}
		case n.Caller != ownCaller:
			if n.Service != "" {
				add(m.links, link{n.Caller, n.CallerVersion, n.Service}, s)
			}
			if n.Version != "" {
				add(m.versions, of, s)
			}
			m.classes[class{n.Caller, n.CallerVersion, n.Gate, n.RouteOf, n.Route, n.Service}] += s.Requests()
			m.whole.Add(effect.Names{Caller: n.Caller, Gate: n.Gate, RouteOf: n.RouteOf, Route: n.Route, Service: n.Service, Version: n.Version}, s)
		}
	})
	c.telemetry.Each(from, to, func(at int64, n *telemetry.Names, _ uint, s *stats.Counts) {
		switch {
		case n.Copy:
		case n.App:
			tick(m.unwell, n.Service+"/"+n.Version, at, s.Failed+s.Refused)
		default:
			tick(m.unserved, link{n.Caller, n.CallerVersion, n.Service}, at, s.Failed+s.Refused)
		}
	})
	return m
}

// model is a mesh that can be simulated as often as one likes, under the rules in
// force and under others.
type model struct {
	instances []engine.Instance
	proxies   []forecast.Proxy
	behaviour map[string]forecast.Behaviour
	streams   []modelStream
	drills    []engine.Drill
	assumed   []string
	versions  []TakenFor
}

// modelStream is a stream with what its arrivals are made of.
type modelStream struct {
	forecast.Stream
	load   rules.Load
	warmUp time.Duration
	length time.Duration // 0: without end
}

// TakenFor is how a forecast takes a version to behave.
type TakenFor struct {
	Target   string  `json:"target" doc:"SERVICE/VERSION"`
	Requests uint64  `json:"requests" doc:"that it was measured by"`
	P50MS    float64 `json:"p50MS" doc:"of its own time, without what it calls"`
	P95MS    float64 `json:"p95MS"`
	HopMS    float64 `json:"hopMS" doc:"that a request to it takes besides"`
	Errors   float64 `json:"errors" doc:"share of requests that it fails by itself, 0 to 1"`
	AtOnce   int     `json:"atOnce" doc:"requests that it works on at once; 0: any number"`
	Calls    string  `json:"calls,omitempty" doc:"for each request, in words"`
}

// warmUp is how long a simulated mesh runs before its requests count.
const warmUp = 10 * time.Second

// mesh is the model with streams of their own, at a multiple of their rates.
func (m *model) mesh(seed uint64, factor float64) *forecast.Mesh {
	out := &forecast.Mesh{Instances: m.instances, Proxies: m.proxies, Behaviour: m.behaviour, Drills: m.drills}
	for i, s := range m.streams {
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
		length := s.length
		if length == 0 {
			length = 1000 * time.Hour
		}
		a := trial.NewArrivals(&l, s.warmUp, length, seed*1000+uint64(i)+1)
		shift := s.warmUp
		st := s.Stream
		st.Next = func() (time.Duration, bool) {
			at, ok := a.Next()
			return at + shift, ok
		}
		out.Streams = append(out.Streams, st)
	}
	return out
}

func (m *model) assume(format string, args ...any) {
	m.assumed = append(m.assumed, fmt.Sprintf(format, args...))
}

// maxModelWindow is how far back a forecast may look, in seconds.
const maxModelWindow = telemetry.Kept - 60

// model makes a model out of what was measured, of what somebody says of some
// versions, and for the rules in force and a draft (nil: none).
func (c *Control) model(seconds int64, changes forecast.Changes, draft *rules.Rules) (*model, *measured, error) {
	force := c.InForce()
	from, to := c.span(seconds, 0)
	if since := force.Since.Unix() + EffectSettle; since > from && to-since >= 20 {
		from = since
	}
	seen := c.measure(from, to)
	c.mu.Lock()
	m := &model{instances: c.instances(), behaviour: map[string]forecast.Behaviour{}}
	for _, id := range slices.Sorted(maps.Keys(c.members)) {
		if p := c.members[id]; p.Gateway != "" {
			m.proxies = append(m.proxies, forecast.Proxy{ID: p.ID, Caller: p.Gateway, Gateway: true, Site: p.Site})
		} else if p.Service == "" {
			m.proxies = append(m.proxies, forecast.Proxy{ID: p.ID, Caller: ownCaller, Site: p.Site})
		}
	}
	for i := range c.drills {
		if d := c.drills[i]; c.now().Before(d.Ends) {
			m.drills = append(m.drills, d.Harm.Drill)
			m.assume("Drill %s (%s) goes on.", d.Harm.ID, targetOf(d.Harm.Drill))
		}
	}
	c.mu.Unlock()
	maker := &maker{c: c, table: c.tableNow(), force: force.Rules, draft: draft, asked: c.Traces.Asked(), m: m, seen: seen}
	maker.behaviours(changes)
	maker.roots()
	m.assume("Behaviour and rates are those of the last %d s: %d requests between services. Requests come at random times, at steady rates, whatever became of those before.", to-from, seen.whole.Whole().Requests())
	m.assume("A workload works on any number of requests at once without becoming slower, unless a behaviour file says otherwise, and stops when nobody waits for it any more.")
	return m, seen, nil
}

// maker makes a model.
type maker struct {
	c     *Control
	table *engine.Table
	force *rules.Rules
	draft *rules.Rules
	asked askedBy
	m     *model
	seen  *measured

	granted []string // versions with the calls of which it was not to be seen whether they are needed
}

// behaviours finds how every version behaves.
func (k *maker) behaviours(changes forecast.Changes) {
	declared := map[string]bool{}
	outside := map[string]bool{}
	for _, rs := range []*rules.Rules{k.force, k.draft} {
		if rs == nil {
			continue
		}
		for _, s := range rs.Services {
			for _, v := range s.Versions {
				declared[s.Name+"/"+v] = true
			}
			for _, in := range s.Instances {
				outside[s.Name+"/"+in.Version] = true
			}
		}
	}
	for of := range k.seen.app {
		declared[of] = true
	}
	for _, of := range slices.Sorted(maps.Keys(declared)) {
		b, taken := k.version(of, outside[of])
		if c, ok := changes[of]; ok {
			k.change(of, &b, &taken, c)
		}
		k.m.behaviour[of] = b
		if taken.Requests > 0 || changes[of].Own != nil {
			k.m.versions = append(k.m.versions, taken)
		}
	}
	for of := range changes {
		if !declared[of] {
			k.m.assume("The behaviour file speaks of %s, which nobody knows.", of)
		}
	}
	if len(k.granted) > 0 {
		k.m.assume("Too few calls failed to see whether a workload fails with what it calls; it is taken to: %s.", strings.Join(k.granted, ", "))
	}
	k.unknownVersions(changes)
}

// change puts what somebody says in place of what was measured.
func (k *maker) change(of string, b *forecast.Behaviour, taken *TakenFor, c forecast.Change) {
	k.m.assume("%s behaves as the behaviour file says, where it says something.", of)
	if c.Own != nil {
		b.Own = c.Own
	}
	if c.Hop != nil {
		b.Hop = *c.Hop
	}
	if c.Errors != nil {
		b.Errors = *c.Errors
	}
	if c.AtOnce != nil {
		b.AtOnce = *c.AtOnce
	}
	if c.Calls != nil {
		before := b.Calls
		b.Calls = nil
		for _, call := range c.Calls {
			for _, old := range before {
				if old.To == call.To && call.Kinds == nil {
					call.Kinds = old.Kinds
				}
			}
			if call.Kinds == nil {
				call.Kinds = []forecast.Kind{{Weight: 1, Request: &forecast.Request{Path: "/"}}}
			}
			b.Calls = append(b.Calls, call)
		}
	}
	*taken = takenFor(of, taken.Requests, b)
}

// enough is how many requests tell something of a version.
const enough = 30

// version is how a version behaved.
func (k *maker) version(of string, outside bool) (forecast.Behaviour, TakenFor) {
	var b forecast.Behaviour
	app, callers := k.seen.app[of], k.seen.versions[of]
	if app == nil || outside {
		if callers == nil || callers.Requests() == 0 {
			return b, TakenFor{Target: of}
		}
		// Nobody stands beside it: what callers saw is all there is.
		timeout, _ := engine.TimedOut.Number()
		late := callers.Reasons[timeout]
		b.Own = longer(forecast.Measured(shortest(callers.Latency, callers.Requests()-late)), share0(late, callers.Requests()))
		b.Errors = share0(callers.Status[5], callers.Requests())
		if late > 0 {
			k.m.assume("%d of %d requests to %s ran into a timeout: how long they would have taken is not known, and they are taken for longer than any timeout.", late, callers.Requests(), of)
		}
		return b, takenFor(of, callers.Requests(), &b)
	}
	service, version := cutTarget(of)
	n := app.Requests()
	var parts []forecast.Part
	var unseen []string
	failed := float64(app.Failed + app.Refused)
	for _, l := range k.callsOf(service, version) {
		calls := k.seen.links[l]
		if l.Service == service || n == 0 {
			continue
		}
		call := forecast.Call{To: l.Service, PerOne: float64(calls.Requests()) / float64(n), Kinds: k.kinds(l)}
		if call.PerOne > 50 || len(call.Kinds) == 0 {
			k.m.assume("Calls of %s to %s are left out: no request is known that their routes would take.", of, l.Service)
			continue
		}
		if d := call.PerOne; d > 0.97 && d < 1.03 {
			call.PerOne = 1 // what was under way at the ends of the window
		}
		unserved := calls.Failed + calls.Refused
		slope, known := goesWith(k.seen.unserved[l], k.seen.unwell[of], k.seen.from, k.seen.to)
		switch {
		case unserved >= 5 && known:
			call.Needed = slope > 0.5
		default:
			call.Needed = true
			unseen = append(unseen, l.Service)
		}
		if call.Needed {
			failed -= float64(unserved)
		}
		parts = append(parts, forecast.Part{PerOne: call.PerOne, Bins: calls.Latency})
		b.Calls = append(b.Calls, call)
	}
	if len(unseen) > 0 {
		k.granted = append(k.granted, fmt.Sprintf("%s (%s)", of, strings.Join(unseen, ", ")))
	}
	if n > 0 {
		b.Errors = min(max(failed, 0)/float64(n), 1)
	}
	own := forecast.Apart(app.Latency, parts)
	given := share0(app.Abandoned, n+app.Abandoned)
	b.Own = longer(forecast.Measured(own), given)
	if given > 0.001 {
		k.m.assume("%.1f%% of the requests to %s were given up by their callers: how long they would have taken is not known, and they are taken for longer than any timeout.", 100*given, of)
	}
	if callers != nil && callers.Requests() >= enough && n >= enough {
		b.Hop = max(callers.Quantile(0.5)-app.Quantile(0.5), 0)
	}
	if n < enough {
		k.m.assume("%s is known by %d requests only.", of, n)
	}
	return b, takenFor(of, n, &b)
}

// never is longer than anybody waits.
const never = time.Hour

// longer draws a time that never ends for a share of the requests.
func longer(t forecast.Times, share float64) forecast.Times {
	if share <= 0 || t == nil {
		return t
	}
	return func(d *forecast.Draw) time.Duration {
		if d.Uniform() < share {
			return never
		}
		return t(d)
	}
}

// shortest are the n shortest of some latencies.
func shortest(bins []stats.Bin, n uint64) (out []stats.Bin) {
	for _, b := range bins {
		b.N = min(b.N, n)
		if n -= b.N; b.N > 0 {
			out = append(out, b)
		}
	}
	return out
}

func share0(part, whole uint64) float64 {
	if whole == 0 {
		return 0
	}
	return float64(part) / float64(whole)
}

func takenFor(of string, n uint64, b *forecast.Behaviour) TakenFor {
	t := TakenFor{Target: of, Requests: n, HopMS: millis(b.Hop), Errors: b.Errors, AtOnce: b.AtOnce}
	if b.Own != nil {
		var c stats.Counts
		d := forecast.Draw(1)
		for range 4000 {
			c.Observe(b.Own(&d))
		}
		t.P50MS, t.P95MS = millis(c.Quantile(0.5)), millis(c.Quantile(0.95))
	}
	for i, call := range b.Calls {
		if i > 0 {
			t.Calls += ", "
		}
		t.Calls += fmt.Sprintf("%.2g × %s", call.PerOne, call.To)
		if call.Needed {
			t.Calls += " (needed)"
		}
	}
	return t
}

// goesWith is by how much y rises with x, second by second (least squares); known
// is false when x never changed.
func goesWith(x, y map[int64]float64, from, to int64) (slope float64, known bool) {
	n := float64(to - from)
	sx, sy, sxx, sxy := 0.0, 0.0, 0.0, 0.0
	for at, v := range x {
		sx += v
		sxx += v * v
		sxy += v * y[at]
	}
	for _, v := range y {
		sy += v
	}
	if d := n*sxx - sx*sx; d > 0 {
		return (n*sxy - sx*sy) / d, true
	}
	return 0, false
}

// callsOf are the links of one version, in the order of their names.
func (k *maker) callsOf(service, version string) (out []link) {
	for l := range k.seen.links {
		if l.Caller == service && l.CallerVersion == version && l.Service != wire.Other {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b link) int { return cmp.Compare(a.Service, b.Service) })
	return out
}

// unknownVersions lets a version that nobody measured behave as another one of
// its service does.
func (k *maker) unknownVersions(changes forecast.Changes) {
	for _, of := range slices.Sorted(maps.Keys(k.m.behaviour)) {
		b := k.m.behaviour[of]
		if b.Own != nil || changes[of].Own != nil {
			continue
		}
		service, _ := cutTarget(of)
		like, most := "", uint64(0)
		for _, t := range k.m.versions {
			if s, _ := cutTarget(t.Target); s == service && t.Target != of && t.Requests > most {
				like, most = t.Target, t.Requests
			}
		}
		if like == "" {
			k.m.assume("Nothing is known of %s: it is taken to answer at once.", of)
			continue
		}
		k.m.behaviour[of] = k.m.behaviour[like]
		if k.wanted(of) {
			k.m.assume("Nothing is known of %s: it is taken to behave as %s.", of, like)
		}
	}
}

// wanted tells whether rules send something to a version.
func (k *maker) wanted(of string) bool {
	for _, rs := range []*rules.Rules{k.force, k.draft} {
		if rs == nil {
			continue
		}
		for _, s := range rs.Services {
			for _, rt := range s.Routes {
				if slices.ContainsFunc(rt.Send, func(t rules.Target) bool { return t.Service+"/"+t.Version == of && t.Weight > 0 }) {
					return true
				}
			}
		}
	}
	return false
}

// roots are the streams that come into the mesh: at gateways, and from workloads
// that nobody calls.
func (k *maker) roots() {
	called := map[string]bool{}
	for of, c := range k.seen.app {
		if c.Requests() > 0 {
			called[of] = true
		}
	}
	rates := map[[2]string]float64{}
	kinds := map[[2]string][]forecast.Kind{}
	lost := map[string]uint64{}
	for _, cl := range slices.SortedFunc(maps.Keys(k.seen.classes), func(a, b class) int {
		return cmp.Or(cmp.Compare(a.Caller, b.Caller), cmp.Compare(a.CallerVersion, b.CallerVersion), cmp.Compare(a.Gate, b.Gate), cmp.Compare(a.Service, b.Service), cmp.Compare(a.RouteOf, b.RouteOf), cmp.Compare(a.Route, b.Route))
	}) {
		gateway := k.force.Gateway(cl.Caller) != nil
		if !gateway && called[cl.Caller+"/"+cl.CallerVersion] || cl.Caller == wire.Other {
			continue
		}
		to := cl.Service
		if gateway {
			to = ""
		}
		n := k.seen.classes[cl]
		r := k.request(cl)
		if r == nil {
			lost[cl.Caller] += n
			continue
		}
		at := [2]string{cl.Caller, to}
		rates[at] += float64(n) / float64(max(k.seen.to-k.seen.from, 1))
		kinds[at] = append(kinds[at], forecast.Kind{Weight: float64(n), Request: r})
	}
	proxied := map[string]bool{}
	for _, p := range k.m.proxies {
		proxied[p.Caller] = true
	}
	for _, in := range k.m.instances {
		proxied[in.Service] = true
	}
	for _, at := range slices.SortedFunc(maps.Keys(rates), func(a, b [2]string) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) }) {
		if rates[at] == 0 || !proxied[at[0]] {
			continue
		}
		k.m.streams = append(k.m.streams, modelStream{Stream: forecast.Stream{Name: at[0], Caller: at[0], To: at[1], Kinds: kinds[at], Counted: warmUp},
			load: rules.Load{Rate: rules.Rate{Count: rates[at], Per: time.Second}, Random: true}})
	}
	for caller, n := range lost {
		k.m.assume("%d requests of %s are left out: no request is known that their routes would take.", n, caller)
	}
	strays := uint64(0)
	for _, n := range k.seen.strays {
		strays += n
	}
	if strays > 0 {
		k.m.assume("%d requests that came to workloads past every caller's proxy are left out.", strays)
	}
}

func cutTarget(of string) (service, version string) {
	for i := range of {
		if of[i] == '/' {
			return of[:i], of[i+1:]
		}
	}
	return of, ""
}
