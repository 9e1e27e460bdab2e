package control

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
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
	Releases    []ReleaseBrief  `json:"releases" doc:"that run now"`
	Problems    []ProxyProblem  `json:"problems" doc:"of proxies, now"`
	Series      int             `json:"series" doc:"sets of names with requests in the last 15 minutes; at most 5000 are told apart"`
	Other       uint64          `json:"other" doc:"requests counted without names, since there are too many names"`
}

// ProxyProblem is something that is wrong with a proxy now.
type ProxyProblem struct {
	Proxy   string `json:"proxy"`
	Gateway string `json:"gateway,omitempty" doc:"that it serves"`
	wire.Problem
}

// workloadOf is the problem of a proxy with its workload; empty: there is none.
func workloadOf(list []wire.Problem) string {
	for _, p := range list {
		if p.Kind == wire.ProblemWorkload {
			return p.Detail
		}
	}
	return ""
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
	ID      string `json:"id"`
	Site    string `json:"site,omitempty"`
	Address string `json:"address"`
	Down    string `json:"down,omitempty" doc:"why its workload's health checks fail"`
	// Unreachable is told by the proxy beside it; callers tell by themselves whether they reach it.
	Unreachable string   `json:"unreachable,omitempty" doc:"why its own proxy cannot reach the workload"`
	Doubted     bool     `json:"doubted,omitempty" doc:"the service lost sight of it and of most of its version at once; it is called on"`
	Share       *float64 `json:"share" jsonschema:"nullable" doc:"of the version's requests, 0 to 1"`
	Figures     Figures  `json:"figures"`
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
	if end == 0 { // what is open now was not so then
		for caller, list := range c.openNow() {
			g.addOpen(caller, list)
		}
	}
	m := Mesh{At: c.now().UTC(), End: to, Window: g.seconds, Unpublished: unpublished, Services: []Service{}, Gateways: []Gateway{}, Links: []Link{},
		Warnings: []rules.Finding{}}
	rev := force.Revision
	m.Revision = RevisionState{Number: rev.Number, Kind: rev.Kind, Author: rev.Author, Message: rev.Message, At: rev.At, Behind: []string{}}
	m.addFleet(fleet)
	callers := c.callers()
	m.Drills = c.runningDrills()
	if m.Releases = []ReleaseBrief{}; c.briefs.Load() != nil {
		m.Releases = *c.briefs.Load()
	}
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

// addFleet adds who follows the revision in force, and what is wrong with proxies.
func (m *Mesh) addFleet(fleet []Member) {
	m.Problems = []ProxyProblem{}
	for _, p := range fleet {
		for _, one := range p.Problems {
			m.Problems = append(m.Problems, ProxyProblem{p.ID, p.Gateway, one})
		}
		if p.State == Refuses {
			m.Problems = append(m.Problems, ProxyProblem{p.ID, p.Gateway, wire.Problem{Kind: "refuses", Detail: p.Error}})
		}
		switch p.State {
		case Behind, Refuses:
			m.Revision.Behind = append(m.Revision.Behind, p.ID)
			m.Revision.Connected++
		case Follows:
			m.Revision.Connected++
			m.Revision.InForce++
		}
	}
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
