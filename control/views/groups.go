package views

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"nightjar/api/model"
	"nightjar/control/figures"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

// Keys of groups.
type (
	version  struct{ service, name string }
	route    struct{ parent, name string } // of a service or gateway; no name: balanced without a route
	link     struct{ caller, service string }
	reached  struct{ caller, service, version string }
	between  struct{ from, to, version string } // of a link: sites of its ends
	endpoint struct {                           // where a route sends
		route
		service, version string // no version: any
	}
)

// groups adds a window up in every way that the view of the mesh needs. Figures
// cover every request. Shares cover only requests that followed what is in force for
// their service: what held before says nothing about what is intended now.
type groups struct {
	site      string                            // that requests were made or answered at; empty: any
	since     func(name string) revisions.Touch // since when the same holds for a service or gateway
	seconds   int64
	service   map[string]*figures.Tally
	version   map[version]*figures.Tally
	instance  map[string]*figures.Tally
	route     map[route]*figures.Tally
	link      map[link]*figures.Tally
	reached   map[reached]*model.LinkVersion // the part of a link that a version got
	between   map[link]map[between]*model.LinkSites
	gateway   map[string]*figures.Tally
	requests  shares
	decidedBy map[string]map[route]uint64 // requests of a service by the route that chose its version
}

// shares are requests that followed what is in force; those of versions, services and
// targets got as far as a version.
type shares struct {
	version map[version]uint64
	service map[string]uint64
	route   map[route]uint64 // that took it
	sent    map[route]uint64 // that it sent to a version
	target  map[endpoint]uint64
}

func at[K comparable](m map[K]*figures.Tally, k K) *figures.Tally {
	t := m[k]
	if t == nil {
		t = &figures.Tally{}
		m[k] = t
	}
	return t
}

// group adds up what was counted from begin to before end, while a revision was in
// force.
func (v *Views) group(
	ctx context.Context,
	begin, end int64,
	revision uint,
	rs *rules.Rules,
	site string,
) (*groups, error) {
	declared := map[string]bool{}
	for _, s := range rs.Services {
		declared[s.Name] = true
	}
	g := &groups{
		site: site,
		since: v.Revisions.Touches().Since(revision, func(name string) bool {
			return declared[name] || strings.HasPrefix(name, rules.GatewayName(""))
		}),
		seconds:   end - begin,
		service:   map[string]*figures.Tally{},
		version:   map[version]*figures.Tally{},
		instance:  map[string]*figures.Tally{},
		route:     map[route]*figures.Tally{},
		link:      map[link]*figures.Tally{},
		reached:   map[reached]*model.LinkVersion{},
		between:   map[link]map[between]*model.LinkSites{},
		gateway:   map[string]*figures.Tally{},
		decidedBy: map[string]map[route]uint64{},
		requests: shares{version: map[version]uint64{}, service: map[string]uint64{}, route: map[route]uint64{},
			sent: map[route]uint64{}, target: map[endpoint]uint64{}},
	}
	err := v.Figures.Sum(
		ctx,
		begin,
		end,
		g.take,
	)
	return g, err
}

// take adds what a series counted.
func (g *groups) take(n *telemetry.Names, revision uint, c *stats.Counts) {
	if !n.IsAt(g.site) {
		return
	}
	at(g.service, n.Service).Take(n, c)
	at(g.version, version{n.Service, n.Version}).Take(n, c)
	at(g.link, link{n.Caller, n.Service}).Take(n, c)
	if n.Instance != "" {
		at(g.instance, n.Instance).Take(n, c)
	}
	gatewayRoute, own := route{n.Caller, n.Gate}, route{n.RouteOf, n.Route}
	if n.Gate != "" {
		at(g.gateway, n.Caller).Take(n, c)
		at(g.route, gatewayRoute).Take(n, c)
	}
	if n.RouteOf != "" {
		at(g.route, own).Take(n, c)
	}
	if !n.App {
		g.takeReached(n, c)
		g.takeBetween(n, c)
		g.takeShares(n, gatewayRoute, own, revision, c.Requests())
	}
}

// takeReached adds the requests of a series to the part of their link that a version got.
func (g *groups) takeReached(n *telemetry.Names, c *stats.Counts) {
	if n.Version == "" || c.Requests() == 0 {
		return
	}
	k := reached{n.Caller, n.Service, n.Version}
	part := g.reached[k]
	if part == nil {
		part = &model.LinkVersion{Version: n.Version}
		g.reached[k] = part
	}
	part.Requests += c.Requests()
	part.Bad += c.Requests() - c.OK
}

// takeBetween adds the requests of a series to the part of their link between two sites.
func (g *groups) takeBetween(n *telemetry.Names, c *stats.Counts) {
	if c.Requests() == 0 {
		return
	}
	l, k := link{n.Caller, n.Service}, between{n.CallerSite, n.Site, n.Version}
	if g.between[l] == nil {
		g.between[l] = map[between]*model.LinkSites{}
	}
	part := g.between[l][k]
	if part == nil {
		part = &model.LinkSites{From: k.from, To: k.to, Version: k.version}
		g.between[l][k] = part
	}
	part.Requests += c.Requests()
	part.Bad += c.Requests() - c.OK
}

// takeShares adds the requests of a series that followed a revision to the shares for
// which that is as good as the one in force.
func (g *groups) takeShares(n *telemetry.Names, gatewayRoute, own route, revision uint, requests uint64) {
	s := &g.requests
	isOfGate := n.Gate == "" || revision >= g.since(rules.GatewayName(n.Caller)).Number
	isOfRoute := n.RouteOf == "" || revision >= g.since(n.RouteOf).Number
	if !isOfGate || !isOfRoute || revision < g.since(n.Service).Number {
		return
	}
	if n.Gate != "" {
		s.route[gatewayRoute] += requests
	}
	if n.RouteOf != "" {
		s.route[own] += requests
	}
	if n.Version == "" { // it was refused before one was chosen, so it tells nothing of the weights
		return
	}
	s.service[n.Service] += requests
	s.version[version{n.Service, n.Version}] += requests
	decided := gatewayRoute
	if n.Gate != "" {
		s.sent[gatewayRoute] += requests
		s.target[endpoint{gatewayRoute, n.Service, n.Version}] += requests
		s.target[endpoint{gatewayRoute, n.Service, ""}] += requests
	}
	if n.RouteOf != "" {
		decided = own
		s.sent[own] += requests
		s.target[endpoint{own, n.Service, n.Version}] += requests
	}
	if g.decidedBy[n.Service] == nil {
		g.decidedBy[n.Service] = map[route]uint64{}
	}
	g.decidedBy[n.Service][decided] += requests
}

// addOpen adds the TCP connections of a caller that are open now.
func (g *groups) addOpen(caller string, list []wire.Open) {
	for _, o := range list {
		at(g.service, o.Service).Open += o.Count
		at(g.version, version{o.Service, o.Version}).Open += o.Count
		at(g.link, link{caller, o.Service}).Open += o.Count
		at(g.instance, o.Instance).Open += o.Count
	}
}

func (g *groups) figures(t *figures.Tally) model.Figures {
	return t.Figures(float64(max(g.seconds, 1)))
}

// services are all services by name.
func (g *groups) services(m *members) []model.Service {
	out := []model.Service{}
	for _, name := range m.serviceNames() {
		s := model.Service{
			Name:    name,
			Timeout: rules.DefaultTimeout.String(),
			Figures: g.figures(at(g.service, name)),
			Routes:  []model.Route{},
			Guards:  append([]model.GuardState{}, m.guards[name]...),
		}
		declared := m.declared[name]
		if declared != nil {
			s.IsDeclared, s.Owner, s.Labels, s.Team = true, declared.Owner, declared.Labels, declared.Team
			s.IsOutside = len(declared.Instances) > 0
			if t := m.resolver.Service(declared).Timeout; t != nil {
				s.Timeout = t.String()
			}
			s.Routes = g.routes(name, declared, declared.Routes, m.resolver)
		}
		s.Versions = g.versions(name, m)
		if g.isElsewhere(&s) {
			continue
		}
		out = append(out, s)
	}
	return out
}

// versions are the versions of a service that are declared or have instances.
func (g *groups) versions(name string, m *members) []model.Version {
	declared := m.declared[name]
	instances, count := g.instances(name, m)
	isDeclared := map[string]bool{}
	for v := range instances {
		isDeclared[v] = false
	}
	if declared != nil {
		for _, v := range declared.Versions {
			isDeclared[v] = true
		}
	}
	balanced := func(v string) float64 { return float64(len(instances[v])) / float64(max(count, 1)) }
	intended := g.intended(name, m, balanced)
	out := []model.Version{}
	for _, v := range slices.Sorted(maps.Keys(isDeclared)) {
		k := version{name, v}
		one := model.Version{
			Name:       v,
			IsDeclared: isDeclared[v],
			Figures:    g.figures(at(g.version, k)),
			Observed:   figures.Share(g.requests.version[k], g.requests.service[name]),
			Instances:  append([]model.Instance{}, instances[v]...),
		}
		if share, ok := intended(v); ok {
			one.Intended = &share
		}
		out = append(out, one)
	}
	return out
}

// instances are the instances of a service by version, and how many there are.
func (g *groups) instances(name string, m *members) (out map[string][]model.Instance, count int) {
	out = map[string][]model.Instance{}
	add := func(v string, in model.Instance) {
		t := at(g.instance, in.ID)
		in.Figures = g.figures(t)
		in.Share = figures.Share(t.Requests(), at(g.version, version{name, v}).Requests())
		out[v] = append(out[v], in)
		count++
	}
	if declared := m.declared[name]; declared != nil {
		for _, in := range declared.Instances {
			if g.site != "" && in.Site != g.site {
				continue
			}
			address, _ := in.Address()
			add(in.Version, model.Instance{ID: name + "@" + address, Address: address, Site: in.Site})
		}
	}
	for _, p := range m.instances[name] {
		add(p.Version, model.Instance{
			ID:            p.ID,
			Site:          p.Site,
			Address:       p.Inbound,
			Unhealthy:     p.Unhealthy,
			IsUnconfirmed: p.State == model.ProxyUnconfirmed,
			Unreachable:   workloadProblem(p),
		})
	}
	return out, count
}

// intended returns the share of a service's requests that the rules intend for each
// version: the weights of every route that requests took, by how many took it.
// Without requests it is what the last route says. balanced is the share of a version
// where no route chooses.
func (g *groups) intended(name string, m *members, balanced func(version string) float64) func(string) (float64, bool) {
	declared := m.declared[name]
	weights := map[string]float64{}
	routed, plain := 0.0, 0.0
	add := func(n float64, send []rules.Target) {
		for _, t := range send {
			if t.Service == name && t.Version != "" {
				weights[t.Version] += n * t.Weight.Share()
				routed += n * t.Weight.Share()
			}
		}
	}
	hasNoRoutes := declared == nil || len(declared.Routes) == 0
	for by, n := range g.decidedBy[name] {
		rt := m.rules.Route(by.parent, by.name)
		switch {
		case rt != nil:
			add(float64(n), rt.Send)
		case hasNoRoutes && (by.name == "" || by.parent == name):
			plain += float64(n)
		}
	}
	if routed+plain == 0 {
		if hasNoRoutes {
			plain = 1
		} else if last := lastTargets(declared.Routes); last != nil {
			add(1, last)
		}
	}
	return func(v string) (float64, bool) {
		if routed+plain == 0 {
			return 0, false
		}
		return (weights[v] + plain*balanced(v)) / (routed + plain), true
	}
}

// lastTargets are the targets of the last route that has any.
func lastTargets(routes []*rules.Route) (targets []rules.Target) {
	for _, rt := range slices.Backward(routes) {
		if len(rt.Send) > 0 {
			return rt.Send
		}
	}
	return nil
}

// routes are the routes of a service, or of a gateway (home is nil), with their
// figures.
func (g *groups) routes(
	parent string,
	home *rules.Service,
	list []*rules.Route,
	resolver *rules.Resolver,
) []model.Route {
	var all uint64
	for k, n := range g.requests.route {
		if k.parent == parent {
			all += n
		}
	}
	out := []model.Route{}
	for _, rt := range list {
		out = append(out, g.oneRoute(parent, home, rt, resolver, all))
	}
	return out
}

// oneRoute is one route; all is the requests of all routes of its parent.
func (g *groups) oneRoute(
	parent string,
	home *rules.Service,
	rt *rules.Route,
	resolver *rules.Resolver,
	all uint64,
) model.Route {
	service := ""
	if home != nil {
		service = home.Name
	}
	k := route{parent, rt.Name}
	took := g.requests.route[k]
	r := model.Route{
		Name:     rt.Name,
		Team:     rt.Team,
		At:       model.Origin(rt.At),
		When:     conditions(rt),
		Send:     []model.Target{},
		Settings: actions(rt, service),
		Share:    figures.Share(took, all),
		Figures:  g.figures(at(g.route, k)),
	}
	for _, h := range resolver.RouteHoldings(home, rt) {
		isOwn := h.From != "built in"
		switch {
		case h.Name == "timeout" && (home != nil || isOwn && h.From != "defaults"):
			r.Timeout = h.Value
		case h.Name != "timeout" && isOwn:
			r.Settings = append(
				r.Settings,
				model.Setting{Name: h.Name, Value: h.Value, From: h.From, At: model.Origin(h.Origin)},
			)
		}
	}
	for _, to := range rt.Send {
		n := g.requests.target[endpoint{k, to.Service, to.Version}]
		r.Send = append(
			r.Send,
			model.Target{
				Target:   to.Short(service),
				Service:  to.Service,
				Version:  to.Version,
				Weight:   to.Weight.String(),
				Intended: to.Weight.Share(),
				Observed: figures.Share(n, g.requests.sent[k]),
				Requests: n,
			},
		)
	}
	return r
}

// gateways are all gateways by name.
func (g *groups) gateways(m *members) []model.Gateway {
	out := []model.Gateway{}
	for _, gw := range m.rules.Gateways {
		var edge []model.Setting
		for _, e := range gw.Edge() {
			edge = append(edge, model.Setting{Name: e.Name, Value: e.Value, From: "gateway " + gw.Name, At: model.Origin(e.Origin)})
		}
		isServing := func(p model.Proxy) bool { return p.Gateway == gw.Name && p.IsConnected }
		sites := map[string]bool{}
		for _, p := range m.proxies {
			if isServing(p) && p.Site != "" {
				sites[p.Site] = true
			}
		}
		isThere := func(p model.Proxy) bool { return p.Gateway == gw.Name }
		if g.site != "" && !slices.ContainsFunc(m.proxies, isThere) {
			continue
		}
		out = append(
			out,
			model.Gateway{
				Name:      gw.Name,
				Listen:    gw.Listen,
				Hosts:     gw.Hosts,
				Figures:   g.figures(at(g.gateway, gw.Name)),
				IsRunning: slices.ContainsFunc(m.proxies, isServing),
				Sites:     append([]string{}, slices.Sorted(maps.Keys(sites))...),
				Routes:    g.routes(gw.Name, nil, gw.Routes, m.resolver),
				Guards:    append([]model.GuardState{}, m.guards[gw.Name]...),
				Edge:      edge,
			},
		)
	}
	slices.SortFunc(out, func(a, b model.Gateway) int { return cmp.Compare(a.Name, b.Name) })
	return out
}
