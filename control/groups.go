package control

import (
	"context"
	"maps"
	"slices"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

// groups adds the window up in every way that the view needs. Figures cover
// every request; shares only those that followed the revision in force, since
// what another revision did says nothing about what this one intends.
type groups struct {
	seconds  int64
	service  map[string]*tally
	version  map[[2]string]*tally
	instance map[string]*tally
	route    map[[2]string]*tally // ladder, route
	link     map[[2]string]*tally
	gateway  map[string]*tally

	byVersion map[[2]string]uint64            // service, version
	byService map[string]uint64               // service
	byRoute   map[[2]string]uint64            // ladder, route
	byTarget  map[[4]string]uint64            // ladder, route, service, version
	taken     map[string]map[[2]string]uint64 // service → ladder, route
}

func at[K comparable](m map[K]*tally, k K) *tally {
	t := m[k]
	if t == nil {
		t = &tally{}
		m[k] = t
	}
	return t
}

// group adds up what was counted from from to before to.
func (c *Control) group(ctx context.Context, from, to int64, revision uint) (groups, error) {
	g := groups{service: map[string]*tally{}, version: map[[2]string]*tally{}, instance: map[string]*tally{}, route: map[[2]string]*tally{},
		link: map[[2]string]*tally{}, gateway: map[string]*tally{}, byVersion: map[[2]string]uint64{}, byService: map[string]uint64{},
		byRoute: map[[2]string]uint64{}, byTarget: map[[4]string]uint64{}, taken: map[string]map[[2]string]uint64{}, seconds: to - from}
	err := c.sum(ctx, from, to, func(n *telemetry.Names, of uint, s *stats.Counts) {
		at(g.service, n.Service).take(n, s)
		at(g.version, [2]string{n.Service, n.Version}).take(n, s)
		at(g.link, [2]string{n.Caller, n.Service}).take(n, s)
		if n.Instance != "" {
			at(g.instance, n.Instance).take(n, s)
		}
		gate, own := [2]string{n.Caller, n.Gate}, [2]string{n.RouteOf, n.Route}
		if n.Gate != "" {
			at(g.gateway, n.Caller).take(n, s)
			at(g.route, gate).take(n, s)
		}
		if n.RouteOf != "" {
			at(g.route, own).take(n, s)
		}
		if of == revision && !n.App {
			g.addShares(n, gate, own, s.Requests())
		}
	})
	return g, err
}

// addOpen adds the TCP connections that are open now.
func (g *groups) addOpen(caller string, list []wire.Open) {
	for _, o := range list {
		for _, t := range []*tally{at(g.service, o.Service), at(g.version, [2]string{o.Service, o.Version}), at(g.link, [2]string{caller, o.Service}), at(g.instance, o.Instance)} {
			t.open += o.Count
		}
	}
}

func (g *groups) addShares(k *telemetry.Names, gate, own [2]string, n uint64) {
	g.byService[k.Service] += n
	g.byVersion[[2]string{k.Service, k.Version}] += n
	decided := gate
	if k.Gate != "" {
		g.byRoute[gate] += n
		g.byTarget[[4]string{k.Caller, k.Gate, k.Service, k.Version}] += n
		g.byTarget[[4]string{k.Caller, k.Gate, k.Service, ""}] += n
	}
	if k.RouteOf != "" {
		decided = own
		g.byRoute[own] += n
		g.byTarget[[4]string{k.RouteOf, k.Route, k.Service, k.Version}] += n
	}
	if g.taken[k.Service] == nil {
		g.taken[k.Service] = map[[2]string]uint64{}
	}
	g.taken[k.Service][decided] += n
}

func (g *groups) serviceView(name string, rule *rules.Service, rs *rules.Rules, resolver *rules.Resolver, fleet []Member) Service {
	s := Service{Name: name, Timeout: rules.DefaultTimeout.String(), Figures: at(g.service, name).figures(g.seconds), Versions: []Version{}, Routes: []Route{}}
	byVersion := map[string][]Instance{}
	add := func(version string, in Instance) {
		t := at(g.instance, in.ID)
		in.Figures = t.figures(g.seconds)
		in.Share = share(t.Requests(), at(g.version, [2]string{name, version}).Requests())
		byVersion[version] = append(byVersion[version], in)
	}
	var declared []string
	if rule != nil {
		s.Declared, s.Owner, s.Labels, declared = true, rule.Owner, rule.Labels, rule.Versions
		if t := resolver.Service(rule).Timeout; t != nil {
			s.Timeout = t.String()
		}
		for _, in := range rule.Instances {
			address, _ := in.Address()
			add(in.Version, Instance{ID: name + "@" + address, Address: address, Site: in.Site})
			s.Outside = true
		}
		s.Routes = g.routesView(name, rule, rule.Routes, resolver)
	}
	for _, p := range fleet {
		if p.Service == name && p.Inbound != "" {
			add(p.Version, Instance{ID: p.ID, Site: p.Site, Address: p.Inbound, Down: p.Down, Doubted: p.Doubted, Unreachable: workloadOf(p.Problems)})
		}
	}
	versions := map[string]bool{}
	for _, v := range declared {
		versions[v] = true
	}
	for v := range byVersion {
		versions[v] = versions[v] || false
	}
	instances := 0
	for _, list := range byVersion {
		instances += len(list)
	}
	intended := g.intended(name, rule, rs, func(version string) float64 { return float64(len(byVersion[version])) / float64(max(instances, 1)) })
	for _, v := range slices.Sorted(maps.Keys(versions)) {
		t := at(g.version, [2]string{name, v})
		ver := Version{Name: v, Declared: versions[v], Observed: share(g.byVersion[[2]string{name, v}], g.byService[name]), Figures: t.figures(g.seconds), Instances: byVersion[v]}
		if ver.Instances == nil {
			ver.Instances = []Instance{}
		}
		if w, ok := intended(v); ok {
			ver.Intended = &w
		}
		s.Versions = append(s.Versions, ver)
	}
	return s
}

func share(part, whole uint64) *float64 {
	if whole == 0 {
		return nil
	}
	f := float64(part) / float64(whole)
	return &f
}

// intended returns the share of a service's requests that the rules intend for
// each version: the weights of every route that requests took, by how many
// took it. Without requests it is what the last route says.
func (g *groups) intended(name string, rule *rules.Service, rs *rules.Rules, plain func(version string) float64) func(string) (float64, bool) {
	weights := map[string]float64{}
	total := 0.0
	add := func(n float64, send []rules.Target) {
		for _, t := range send {
			if t.Service == name && t.Version != "" {
				weights[t.Version] += n * t.Weight.Share()
				total += n * t.Weight.Share()
			}
		}
	}
	direct := rule == nil || len(rule.Routes) == 0
	var balanced float64
	for ladder, n := range g.taken[name] {
		rt := findRoute(rs, ladder)
		switch {
		case rt != nil:
			add(float64(n), rt.Send)
		case direct && (ladder[1] == "" || ladder[0] == name):
			balanced += float64(n)
		}
	}
	if total+balanced == 0 {
		if direct {
			balanced = 1
		} else {
			for _, rt := range slices.Backward(rule.Routes) {
				if len(rt.Send) > 0 {
					add(1, rt.Send)
					break
				}
			}
		}
	}
	return func(version string) (float64, bool) {
		if total+balanced == 0 {
			return 0, false
		}
		return (weights[version] + balanced*plain(version)) / (total + balanced), true
	}
}

func findRoute(rs *rules.Rules, ladder [2]string) *rules.Route {
	var routes []*rules.Route
	if s := rs.Service(ladder[0]); s != nil {
		routes = s.Routes
	} else if gw := rs.Gateway(ladder[0]); gw != nil {
		routes = gw.Routes
	}
	for _, rt := range routes {
		if rt.Name == ladder[1] {
			return rt
		}
	}
	return nil
}

// routesView lists the rungs of a ladder with their figures.
func (g *groups) routesView(ladder string, home *rules.Service, routes []*rules.Route, resolver *rules.Resolver) []Route {
	out := []Route{}
	var all uint64
	for k, n := range g.byRoute {
		if k[0] == ladder {
			all += n
		}
	}
	name := ""
	if home != nil {
		name = home.Name
	}
	for _, rule := range routes {
		t, took := at(g.route, [2]string{ladder, rule.Name}), g.byRoute[[2]string{ladder, rule.Name}]
		r := Route{Name: rule.Name, At: rule.At, When: []string{}, Send: []Target{}, Does: []Doing{}, Share: share(took, all), Figures: t.figures(g.seconds)}
		for _, a := range rule.Actions(name) {
			r.Does = append(r.Does, Doing{a.Name, a.Value, rule.Called(), a.Origin})
		}
		for _, h := range resolver.RouteHoldings(home, rule) {
			switch {
			case h.Name == "timeout" && (home != nil || h.From != "built in" && h.From != "defaults"):
				r.Timeout = h.Value
			case h.Name != "timeout" && h.From != "built in":
				r.Does = append(r.Does, Doing{h.Name, h.Value, h.From, h.Origin})
			}
		}
		for _, c := range rule.When {
			r.When = append(r.When, c.Describe())
		}
		for _, to := range rule.Send {
			n := g.byTarget[[4]string{ladder, rule.Name, to.Service, to.Version}]
			r.Send = append(r.Send, Target{Target: to.Short(name), Service: to.Service, Version: to.Version, Weight: to.Weight.String(),
				Intended: to.Weight.Share(), Observed: share(n, took), Requests: n})
		}
		out = append(out, r)
	}
	return out
}

// warnEvery is how long warnings hold that depend on traffic.
const warnEvery = 15 * time.Second

// warnings checks the rules in force against the mesh as it is now. The answer
// is kept for a while, or until rules or instances change.
func (c *Control) warnings() []rules.Finding {
	c.mu.Lock()
	of, now := [2]uint64{c.ledger.rulesSeq, c.ledger.peersSeq}, c.now()
	if c.warnedOf == of && now.Sub(c.warnedAt) < warnEvery {
		defer c.mu.Unlock()
		return c.warned
	}
	live, bundles := c.live(), c.force.Revision.Bundles
	c.mu.Unlock()
	_, found := rules.Check(joined(bundles), live)
	found = append([]rules.Finding{}, found...)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.warned, c.warnedOf, c.warnedAt = found, of, now
	return found
}
