package control

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
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
	from, to  int64
	app       map[string]*stats.Counts // by SERVICE/VERSION, as the workloads answered
	versions  map[string]*stats.Counts // by SERVICE/VERSION, as callers saw it
	sent      map[string]*stats.Counts // the same with the requests of trials
	got       map[string]*stats.Counts // by SERVICE/VERSION, as the workloads answered the requests in sent
	links     map[link]*stats.Counts
	classes   map[class]uint64
	whole     *effect.Tally
	unhealthy map[string]map[int64]float64 // failures of workloads by second
	unserved  map[link]map[int64]float64   // requests without success by second
	strays    map[string]uint64            // requests to workloads that no caller's proxy knows of
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
	m := &measured{from: from, to: to, app: map[string]*stats.Counts{}, versions: map[string]*stats.Counts{}, sent: map[string]*stats.Counts{}, got: map[string]*stats.Counts{},
		links: map[link]*stats.Counts{}, classes: map[class]uint64{}, whole: &effect.Tally{Seconds: float64(to - from)}, unhealthy: map[string]map[int64]float64{}, unserved: map[link]map[int64]float64{}, strays: map[string]uint64{}}
	c.telemetry.Sum(from, to, func(n *telemetry.Names, _ uint, s *stats.Counts) {
		if n.Copy || n.Service == wire.Other {
			return
		}
		of := n.Service + "/" + n.Version
		if n.App {
			if add(m.app, of, s); n.Caller == "" {
				m.strays[of] += s.Requests()
			} else {
				add(m.got, of, s)
			}
			return
		}
		if n.Version != "" {
			add(m.sent, of, s)
		}
		if n.Caller == ownCaller {
			return
		}
		if n.Service != "" {
			add(m.links, link{n.Caller, n.CallerVersion, n.Service}, s)
		}
		if n.Version != "" {
			add(m.versions, of, s)
		}
		m.classes[class{n.Caller, n.CallerVersion, n.Gate, n.RouteOf, n.Route, n.Service}] += s.Requests()
		m.whole.Add(effect.Names{Caller: n.Caller, Gate: n.Gate, RouteOf: n.RouteOf, Route: n.Route, Service: n.Service, Version: n.Version}, s)
	})
	c.telemetry.Each(from, to, func(at int64, n *telemetry.Names, _ uint, s *stats.Counts) {
		switch {
		case n.Copy:
		case n.App:
			tick(m.unhealthy, n.Service+"/"+n.Version, at, s.Failed+s.Refused)
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
	warmUp time.Duration // of the load itself
	length time.Duration // 0: without end
	seed   uint64        // of its arrivals; 0: another one in each run
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
		a := trial.NewArrivals(&l, s.warmUp, length, cmp.Or(s.seed, seed*1000+uint64(i)+1))
		st, begins := s.Stream, s.Counted
		if s.length == 0 { // it has no warm-up of its own, and is the same before and after
			begins = 0
		}
		st.Next = func() (time.Duration, bool) {
			at, ok := a.Next()
			return at + begins, ok
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
	for _, caller := range slices.Sorted(maps.Keys(lost)) {
		k.m.assume("%d requests of %s are left out: no request is known that their routes would take.", lost[caller], caller)
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
