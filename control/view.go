package control

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

// Mesh is all that runs, with the figures of the last seconds.
type Mesh struct {
	At          time.Time       `json:"at"`
	End         int64           `json:"end" doc:"of the window, in seconds since 1970"`
	Window      int64           `json:"window" doc:"seconds that the figures cover"`
	Revision    RevisionState   `json:"revision" doc:"in force"`
	Unpublished []Unpublished   `json:"unpublished" doc:"files that were checked and differ from what is in force"`
	Services    []Service       `json:"services" doc:"by name"`
	Gateways    []Gateway       `json:"gateways" doc:"by name"`
	Links       []Link          `json:"links" doc:"who calls whom"`
	Warnings    []rules.Finding `json:"warnings" doc:"of the rules in force, as things are now"`
	Drills      []Drill         `json:"drills" doc:"that run now"`
	Series      int             `json:"series" doc:"sets of names with requests in the last 15 minutes; at most 5000 are told apart"`
	Other       uint64          `json:"other" doc:"requests counted without names, since there are too many names"`
}

// RevisionState is the revision in force and who has it.
type RevisionState struct {
	Number    uint      `json:"number" doc:"0: nothing was published yet"`
	Kind      string    `json:"kind"`
	Author    string    `json:"author"`
	Message   string    `json:"message"`
	At        time.Time `json:"at"`
	Connected int       `json:"connected" doc:"proxies connected now"`
	InForce   int       `json:"inForce" doc:"of these, proxies that follow it"`
	Behind    []string  `json:"behind" doc:"connected proxies that do not follow it yet"`
}

// Service is one service as it runs and as the rules have it.
type Service struct {
	Name     string       `json:"name"`
	Owner    string       `json:"owner,omitempty"`
	Labels   rules.Labels `json:"labels,omitempty"`
	Declared bool         `json:"declared" doc:"named by the rules in force"`
	Outside  bool         `json:"outside,omitempty" doc:"its instances are outside the mesh"`
	Timeout  string       `json:"timeout" doc:"of routes that set none"`
	Figures  Figures      `json:"figures"`
	Versions []Version    `json:"versions"`
	Routes   []Route      `json:"routes" doc:"in match order; empty: plain balancing over all instances"`
	Callers  []Caller     `json:"callers" doc:"how the guards of this service stand in every proxy that has any, by proxy"`
}

// Caller is how the guards of a service stand in one proxy that calls it.
type Caller struct {
	Proxy  string    `json:"proxy"`
	Caller string    `json:"caller" doc:"the calling service or gateway"`
	At     time.Time `json:"at" doc:"when it was so"`
	engine.Status
}

// Version is one version of a service.
type Version struct {
	Name      string     `json:"name"`
	Declared  bool       `json:"declared" doc:"named by the rules in force"`
	Intended  *float64   `json:"intended" jsonschema:"nullable" doc:"share of the service's requests that the rules intend, given the routes that they took; 0 to 1"`
	Observed  *float64   `json:"observed" jsonschema:"nullable" doc:"share that it got of the requests that followed the revision in force; null without any"`
	Figures   Figures    `json:"figures"`
	Instances []Instance `json:"instances"`
}

// Instance is one running copy.
type Instance struct {
	ID      string   `json:"id"`
	Site    string   `json:"site,omitempty"`
	Address string   `json:"address"`
	Down    string   `json:"down,omitempty" doc:"why its workload's health checks fail"`
	Doubted bool     `json:"doubted,omitempty" doc:"the service lost sight of it and of most of its version at once; it is called on"`
	Share   *float64 `json:"share" jsonschema:"nullable" doc:"of the version's requests, 0 to 1"`
	Figures Figures  `json:"figures"`
}

// Route is one rung of a ladder.
type Route struct {
	Name    string       `json:"name"`
	At      rules.Origin `json:"at"`
	When    []string     `json:"when" doc:"conditions in words; any of them; empty: always"`
	Send    []Target     `json:"send"`
	Does    []Doing      `json:"does" doc:"what it does besides sending, and the settings that it has of its own or by a policy"`
	Timeout string       `json:"timeout" doc:"empty: that of the called service"`
	Share   *float64     `json:"share" jsonschema:"nullable" doc:"of all requests on this ladder, 0 to 1"`
	Figures Figures      `json:"figures"`
}

// Doing is one action or setting of a route.
type Doing struct {
	Name   string       `json:"name"`
	Value  string       `json:"value"`
	From   string       `json:"from" doc:"the level that set it"`
	Origin rules.Origin `json:"origin"`
}

// Target is where a route sends.
type Target struct {
	Target   string   `json:"target" doc:"version, or service/version"`
	Service  string   `json:"service"`
	Version  string   `json:"version,omitempty"`
	Weight   string   `json:"weight" doc:"percent"`
	Intended float64  `json:"intended" doc:"0 to 1"`
	Observed *float64 `json:"observed" jsonschema:"nullable" doc:"0 to 1; null without requests"`
	Requests uint64   `json:"requests"`
}

// Gateway is an edge of the mesh.
type Gateway struct {
	Name    string   `json:"name"`
	Listen  string   `json:"listen"`
	Hosts   []string `json:"hosts"`
	Running bool     `json:"running" doc:"a proxy serves it now"`
	Figures Figures  `json:"figures"`
	Routes  []Route  `json:"routes"`
	Callers []Caller `json:"callers" doc:"how the limits of its routes stand in every proxy that serves it"`
}

// Link is the requests from one caller to one service.
type Link struct {
	From    string  `json:"from"`
	To      string  `json:"to"`
	Hop     string  `json:"hop" doc:"how the bytes travel: plain, tls, or both"`
	Figures Figures `json:"figures"`
}

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

// View is the mesh with the figures of so many seconds that end at end, in
// seconds since 1970; 0: the last ones that are complete. What runs is told as
// it is now.
func (c *Control) View(ctx context.Context, seconds, end int64) (Mesh, error) {
	unpublished, err := c.Unpublished(ctx)
	if err != nil {
		return Mesh{}, err
	}
	force, fleet := c.InForce(), c.Fleet()
	from, to := c.span(seconds, end)
	revision := force.Revision.Number
	if end > 0 {
		if revision, err = c.revisionAt(ctx, to); err != nil {
			return Mesh{}, err
		}
	}
	g, err := c.group(ctx, from, to, revision)
	if err != nil {
		return Mesh{}, err
	}
	for caller, list := range c.openNow() {
		g.addOpen(caller, list)
	}
	m := Mesh{At: c.now().UTC(), End: to, Window: g.seconds, Unpublished: unpublished, Services: []Service{}, Gateways: []Gateway{}, Links: []Link{},
		Warnings: []rules.Finding{}}
	rev := force.Revision
	m.Revision = RevisionState{Number: rev.Number, Kind: rev.Kind, Author: rev.Author, Message: rev.Message, At: rev.At, Behind: []string{}}
	for _, p := range fleet {
		switch p.State {
		case Behind, Refuses:
			m.Revision.Behind = append(m.Revision.Behind, p.ID)
			m.Revision.Connected++
		case Follows:
			m.Revision.Connected++
			m.Revision.InForce++
		}
	}
	callers := c.callers()
	m.Drills = c.runningDrills()
	resolver := rules.NewResolver(force.Rules)
	names := map[string]*rules.Service{}
	for _, s := range force.Rules.Services {
		names[s.Name] = s
	}
	for _, p := range fleet {
		if p.Inbound != "" && names[p.Service] == nil {
			names[p.Service] = nil
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		s := g.serviceView(name, names[name], force.Rules, resolver, fleet)
		s.Callers = append([]Caller{}, callers[name]...)
		m.Services = append(m.Services, s)
	}
	for _, rule := range force.Rules.Gateways {
		gw := Gateway{Name: rule.Name, Listen: rule.Listen, Hosts: rule.Hosts, Figures: at(g.gateway, rule.Name).figures(g.seconds)}
		gw.Running = slices.ContainsFunc(fleet, func(p Member) bool { return p.Gateway == rule.Name && p.Connected })
		gw.Callers = append([]Caller{}, callers[rule.Name]...)
		gw.Routes = g.routesView(rule.Name, nil, rule.Routes, resolver)
		m.Gateways = append(m.Gateways, gw)
	}
	slices.SortFunc(m.Gateways, func(a, b Gateway) int { return cmp.Compare(a.Name, b.Name) })
	for k, t := range g.link {
		if k[1] != "" && t.Requests() > 0 {
			m.Links = append(m.Links, Link{k[0], k[1], hop(names[k[1]]), t.figures(g.seconds)})
		}
	}
	slices.SortFunc(m.Links, func(a, b Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	m.Warnings = c.warnings()
	m.Series, m.Other = c.telemetry.State()
	return m, nil
}

// hop tells how requests travel to the instances of a service.
func hop(s *rules.Service) string {
	plain, secure := false, false
	if s != nil {
		for _, in := range s.Instances {
			if _, tls := in.Address(); tls {
				secure = true
			} else {
				plain = true
			}
		}
	}
	switch {
	case secure && plain:
		return "both"
	case secure:
		return "tls"
	}
	return "plain"
}

// revisionAt is the revision that was in force at a time.
func (c *Control) revisionAt(ctx context.Context, at int64) (uint, error) {
	list, err := c.store.Revisions(ctx, 0, 200)
	for _, r := range list {
		if r.At.Unix() < at {
			return r.Number, err
		}
	}
	return 0, err
}

// openNow is the TCP connections that are open, by caller.
func (c *Control) openNow() map[string][]wire.Open {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string][]wire.Open{}
	for _, m := range c.members {
		if len(m.open) > 0 {
			caller := cmp.Or(m.Service, m.Gateway, ownCaller)
			out[caller] = append(out[caller], m.open...)
		}
	}
	return out
}

// staleStatus is how long what a proxy told of its guards is shown.
const staleStatus = 15 * time.Second

// callers is how the guards stand in all proxies, by called service.
func (c *Control) callers() map[string][]Caller {
	c.mu.Lock()
	defer c.mu.Unlock()
	out, now := map[string][]Caller{}, c.now()
	for _, id := range slices.Sorted(maps.Keys(c.members)) {
		m := c.members[id]
		if now.Sub(m.statusAt) > staleStatus {
			continue
		}
		for _, s := range m.status {
			out[s.Service] = append(out[s.Service], Caller{id, cmp.Or(m.Service, m.Gateway, ownCaller), m.statusAt.UTC(), s})
		}
	}
	return out
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
			add(p.Version, Instance{ID: p.ID, Site: p.Site, Address: p.Inbound, Down: p.Down, Doubted: p.Doubted})
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
