// Package engine makes every decision about a request: which route takes it,
// which target and instance it goes to, and for how long it is waited for.
//
// The engine does no I/O and reads no clock. Whoever drives it, the proxy with
// real requests or a simulation with made-up ones, passes the time in, carries
// out the step it is given and reports its outcome.
package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/core/guard"
	"nightjar/core/hash"
	"nightjar/core/lease"
	"nightjar/core/rules"
)

// Table is the compiled form of one revision and one state of the registry. It
// never changes but for the health of instances (SetHealth); a proxy swaps whole
// tables.
type Table struct {
	services map[string]*service
	gateways map[string]*gateway
	resolver *rules.Resolver
	calls    []string
	memory   *memory
	guarded  []*service // by name
	access   *access    // nil: everybody may call everything
	has2     bool       // some workloads speak HTTP/2 alone
	shared   []*lease.Holder
	revision uint
}

// Revision is the number of the revision that the table was compiled from.
func (t *Table) Revision() uint { return t.revision }

type service struct {
	name     string
	leadsTo2 bool           // it, or a service that its routes send to, speaks HTTP/2 alone
	rule     *rules.Service // nil: only registered, never declared
	settings rules.Settings // what holds for the service; nil parts: built in
	ladder   *ladder        // nil: no routes, plain balancing
	plain    *Route         // stands in for the ladder
	retry    *retry         // of routes that have none; nil: none
	budget   *guard.Budget  // of retries of requests to it; outlives the table
	all      *pool
	whole    target // stands for all
	versions map[string]*pool
	placed   map[string]*pool // by version@site, as far as rules name them
}

type gateway struct {
	rule     *rules.Gateway
	ladder   *ladder
	leadsTo2 bool // a service that its routes send to speaks HTTP/2 alone
}

// Route is a compiled route. Plain balancing over all instances of a service
// without routes is a Route without a name.
type Route struct {
	of        string // the service or gateway it belongs to
	names     *RouteName
	rule      *rules.Route
	settings  rules.Settings // of the route and its policies
	retry     *retry         // of settings
	conds     []*condition
	require   []test // of the claims of a request at a gateway
	targets   []target
	split     *split
	otherwise *target
	mirror    *target
	copies    *split // one of two: mirrored
	faults    []*split
	limit     *guard.Limit  // nil: none, or shared
	shared    *lease.Holder // this proxy's part of a limit of the whole mesh; nil: none
	acts      bool          // it does more than send and rewrite: see Exchange.take
	request   *headerView   // what the service's own routes see of a gateway's request; nil: as it came
}

// Name is the route's name; empty for plain balancing.
func (r *Route) Name() string { return r.rule.Name }

// Of is the service or gateway that the route belongs to.
func (r *Route) Of() string { return r.of }

// At is where the route was written.
func (r *Route) At() rules.Origin { return r.rule.At }

// Headers are the route's header edits; nil: none.
func (r *Route) Headers() *rules.HeaderEdits { return r.rule.Headers }

type target struct {
	service *service
	version string // empty: the service's own routes decide
	site    string // empty: any
	pool    *pool  // nil when version is empty
	seed    uint64 // of the target's name, for what sticks
}

// Options of Compile.
type Options struct {
	Revision uint
	Previous *Table        // whose splits and turns go on where nothing about them changed
	Seed     uint64        // of the order inside splits
	Now      time.Duration // since the epoch of the requests that the table will see
	Site     string        // of the caller, for failover
	Drills   []Drill
	// Leaves is what part of their shares instances at a site give away to those elsewhere, by
	// site, 0 to 1: the site is drained.
	Leaves map[string]float64
	// Signal is told that a request waits for a token of a limit of the whole mesh: see
	// lease.Holder. nil: nobody deals tokens out, and the limit is this proxy's alone.
	Signal func()
	// Common are limits that several tables have together, by LimitID, without anybody who
	// deals; those that are missing are added. nil: there are none.
	Common map[string]*guard.Limit
	// Calls, when not nil, are the services that the workload is declared to
	// call; the table knows these alone.
	Calls []string
}

// Compile builds the table for rules that were checked and for the instances
// that are known. It fails only for rules that Check would refuse.
func Compile(rs *rules.Rules, instances []Instance, opt Options) (*Table, error) {
	b := &builder{
		opt:   opt,
		plans: map[string]*plan{}, crossings: map[string]string{},
		t: &Table{
			services: map[string]*service{},
			gateways: map[string]*gateway{},
			resolver: rules.NewResolver(rs),
			calls:    opt.Calls,
			revision: opt.Revision,
		},
	}
	for _, s := range rs.Sites {
		if s.Crossing != "" {
			b.crossings[s.Name] = s.Crossing
		}
	}
	b.remember()
	for _, rule := range rs.Services {
		b.service(rule.Name).rule = rule
	}
	b.pools(rs, instances)
	for _, s := range b.t.services {
		if s.rule == nil || len(s.rule.Routes) == 0 {
			s.plain = b.plain(s.name)
			continue
		}
		l, err := b.ladder(s.name, s.rule, s.rule.Routes)
		if err != nil {
			return nil, err
		}
		s.ladder = l
	}
	for _, rule := range rs.Gateways {
		g := &gateway{rule: rule}
		b.t.gateways[rule.Name] = g
		var err error
		if g.ladder, err = b.ladder(rule.Name, nil, rule.Routes); err != nil {
			return nil, err
		}
	}
	b.findHTTP2()
	var err error
	if b.t.access, err = newAccess(rs.Access, rs.Services); err != nil {
		return nil, err
	}
	if err := b.drills(); err != nil {
		return nil, err
	}
	b.settle()
	return b.t, nil
}

// plain stands in for the ladder of a service without routes.
func (b *builder) plain(service string) *Route {
	var old *Route
	if t := b.opt.Previous; t != nil && t.services[service] != nil {
		old = t.services[service].plain
	}
	rule := &rules.Route{}
	return &Route{of: service, names: b.nameOf(service, rule, old), rule: rule}
}

type builder struct {
	t     *Table
	opt   Options
	plans map[string]*plan // by weights, since a plan takes a while to make
	// crossings are host:port of those of sites that have one.
	crossings map[string]string
}

func (b *builder) service(name string) *service {
	s := b.t.services[name]
	if s == nil {
		s = &service{
			name:     name,
			versions: map[string]*pool{},
			placed:   map[string]*pool{},
			all:      b.pool(name, ""),
			budget:   b.budget(name),
		}
		s.whole = target{service: s, pool: s.all}
		b.t.services[name] = s
		s.settings = b.t.resolver.Service(nil) // unless a rule declares it
	}
	return s
}

func (b *builder) ladder(of string, home *rules.Service, list []*rules.Route) (*ladder, error) {
	routes := make([]*Route, 0, len(list))
	for _, rule := range list {
		old := b.opt.Previous.route(of, rule.Name)
		rt := &Route{of: of, names: b.nameOf(of, rule, old), rule: rule, settings: b.t.resolver.Route(home, rule)}
		rt.retry = newRetry(rt.settings.Retry)
		weights := make([]rules.Percent, 0, len(rule.Send))
		for _, t := range rule.Send {
			to, err := b.target(rt, t)
			if err != nil {
				return nil, err
			}
			rt.targets = append(rt.targets, *to)
			weights = append(weights, t.Weight)
		}
		if len(rt.targets) == 0 && rule.Redirect == nil && rule.Reply == nil {
			return nil, fmt.Errorf("route %s of %s sends nowhere", rule.Name, of)
		}
		if len(weights) > 0 {
			rt.split = b.split(rt, "", weights, func() *split {
				if old != nil &&
					slices.EqualFunc(
						old.rule.Send,
						rule.Send,
						func(a, b rules.Target) bool { return a.String() == b.String() },
					) {
					return old.split
				}
				return nil
			})
		}
		if err := b.actions(rt, old); err != nil {
			return nil, err
		}
		routes = append(routes, rt)
	}
	return newLadder(routes)
}

// actions compiles what a route does besides sending. Counters of the old
// route of that name go on where nothing about them changed.
func (b *builder) actions(rt, old *Route) (err error) {
	rule := rt.rule
	if rule.Otherwise != nil {
		if rt.otherwise, err = b.target(rt, *rule.Otherwise); err != nil {
			return err
		}
	}
	if m := rule.Mirror; m != nil {
		if rt.mirror, err = b.target(rt, m.To); err != nil {
			return err
		}
		rt.copies = b.split(rt, "mirror", []rules.Percent{m.Share, rules.Whole - m.Share}, func() *split {
			if old != nil {
				return old.copies
			}
			return nil
		})
	}
	for i, f := range rule.Faults {
		rt.faults = append(
			rt.faults,
			b.split(rt, fmt.Sprint("fault", i), []rules.Percent{f.Share, rules.Whole - f.Share}, func() *split {
				if old != nil && i < len(old.faults) {
					return old.faults[i]
				}
				return nil
			}),
		)
	}
	if l := rt.settings.Limit; l != nil {
		isSame := false
		if was := old.limiter(); was != nil {
			isSame = was.String() == l.String()
		}
		id := LimitID(rt.of, rule.Name, l)
		switch {
		case l.Scope == rules.ScopeMesh && b.opt.Signal != nil:
			if rt.shared = lease.NewHolder(id, l.Count, l.Per, b.opt.Seed, b.opt.Signal); isSame && old.shared != nil {
				rt.shared = old.shared
			}
			b.t.shared = append(b.t.shared, rt.shared)
		case l.Scope == rules.ScopeMesh && b.opt.Common != nil:
			if rt.limit = b.opt.Common[id]; rt.limit == nil {
				rt.limit = newLimit(l)
				b.opt.Common[id] = rt.limit
			}
		case isSame && old.limit != nil:
			rt.limit = old.limit
		default:
			rt.limit = newLimit(l)
		}
	}
	if a := b.asks(rt.of, rule); a != nil && a.JWT != nil {
		for i := range a.JWT.Require {
			t, err := newTest(&a.JWT.Require[i])
			if err != nil {
				return err
			}
			rt.require = append(rt.require, t)
		}
	}
	rt.acts = rt.limit != nil || rt.shared != nil || len(rt.faults) > 0 || rule.Reply != nil || rule.Redirect != nil
	if h := rule.Headers; h != nil || rule.Rewrite != nil && rule.Rewrite.Host != "" {
		rt.request = newHeaderView(rule)
	}
	return nil
}

func newLimit(l *rules.Limit) *guard.Limit {
	return guard.NewLimit(l.Count, l.Per, l.Burst, len(l.Keys) > 0)
}

// LimitID is the name of a limit that proxies share: of is the service or gateway of its
// route.
func LimitID(of, route string, l *rules.Limit) string { return of + "/" + route + ": " + l.String() }

// Shared are the parts of limits of the whole mesh that this proxy has.
func (t *Table) Shared() []*lease.Holder {
	if t == nil {
		return nil
	}
	return t.shared
}

// asks is what a route of a gateway wants shown; nil: nothing.
func (b *builder) asks(of string, rule *rules.Route) (a *rules.Authenticate) {
	if g := b.t.gateways[of]; g != nil {
		a = g.rule.Authenticate
	}
	if rule.Authenticate != nil {
		a = rule.Authenticate
	}
	return a
}

func (r *Route) limiter() *rules.Limit {
	if r == nil {
		return nil
	}
	return r.settings.Limit
}

func (b *builder) target(rt *Route, t rules.Target) (*target, error) {
	s := b.t.services[t.Service]
	if s == nil {
		return nil, fmt.Errorf(
			"route %s of %s sends to service %s, which no rule declares",
			rt.rule.Name,
			rt.of,
			t.Service,
		)
	}
	to := &target{service: s, version: t.Version, site: t.Site, seed: hash.Text(0, t.String())}
	switch {
	case t.Site != "":
		to.pool = b.place(s, t.Version, t.Site)
	case t.Version != "":
		to.pool = b.version(s, t.Version)
	}
	return to, nil
}

// split makes the split of a route, or goes on with the one that it had when
// the weights are the same.
func (b *builder) split(rt *Route, what string, weights []rules.Percent, before func() *split) *split {
	if old := before(); old != nil && slices.Equal(old.plan.weights, weights) {
		return old
	}
	key := fmt.Sprint(weights)
	p := b.plans[key]
	if p == nil {
		p = newPlan(weights)
		b.plans[key] = p
	}
	return &split{plan: p, seed: hash.Mix(b.opt.Seed ^ hash.Text(0, rt.of+"/"+rt.rule.Name+what))}
}

// unknown is the refusal of a request to a service that the table does not know.
func (t *Table) unknown(service string) Step {
	detail := fmt.Sprintf("the mesh has no service %q", service)
	if t.calls != nil {
		detail = fmt.Sprintf(
			"%q is not among the services that the caller is declared to call (%s)",
			service,
			strings.Join(t.calls, ", "),
		)
	}
	return Refuse(NoRoute, detail)
}

// route finds a compiled route by name.
func (t *Table) route(of, name string) *Route {
	if t == nil {
		return nil
	}
	var l *ladder
	if s := t.services[of]; s != nil {
		l = s.ladder
	}
	if l == nil && t.gateways[of] != nil {
		l = t.gateways[of].ladder
	}
	if l == nil {
		return nil
	}
	return l.byName[name]
}

// Protocol is what a service speaks: http, http2, grpc or tcp; http when the rules do
// not say, or know no such service.
func (t *Table) Protocol(service string) string {
	if t == nil {
		return "http"
	}
	return t.services[service].protocol()
}

// Identity is whether callers of a service must prove who they are: required, optional
// or none; required when there are no rules yet.
func (t *Table) Identity(service string) string {
	if t == nil || t.services[service] == nil {
		return rules.IdentityRequired
	}
	return t.services[service].settings.IdentityMode()
}

func (s *service) protocol() string {
	if s == nil || s.rule == nil || s.rule.Protocol == "" {
		return "http"
	}
	return s.rule.Protocol
}

// Match returns the route of a service that takes the request, or nil. It does
// not allocate for a path without percent-encoding.
func (t *Table) Match(service string, v View) *Route {
	s := t.services[service]
	if s == nil {
		return nil
	}
	if s.ladder == nil {
		return s.plain
	}
	rt, _ := s.ladder.match(v, v.Path())
	return rt
}
