// Package engine makes every decision about a request: which route takes it,
// which target and instance it goes to, and for how long it is waited for.
//
// The engine does no I/O and reads no clock. Whoever drives it, the proxy with
// real requests or a simulation with made-up ones, passes the time in, carries
// out the step it is given and reports what came of it.
package engine

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"nightjar/core/rules"
)

// Instance is one running copy of a version, as the registry knows it.
type Instance struct {
	ID      string `json:"id"`
	Service string `json:"service"`
	Version string `json:"version"`
	Site    string `json:"site,omitempty"`
	Address string `json:"address"` // host:port that takes its requests
	Outside bool   `json:"outside,omitempty"`
}

// Table is the compiled form of one revision and one state of the registry. It
// never changes; a proxy swaps whole tables.
type Table struct {
	services map[string]*service
	gateways map[string]*gateway
}

type service struct {
	name     string
	rule     *rules.Service // nil: only registered, never declared
	ladder   *ladder        // nil: no routes, plain balancing
	plain    *Route         // stands in for the ladder
	all      *pool
	versions map[string]*pool
}

type gateway struct {
	rule   *rules.Gateway
	ladder *ladder
}

// Route is a compiled route. Plain balancing over all instances of a service
// without routes is a Route without a name.
type Route struct {
	of      string // the service or gateway it belongs to
	rule    *rules.Route
	conds   []*condition
	targets []target
	split   *split
	timeout *rules.Timeout // of the route or else of its service; nil: built in
}

// Name is the route's name; empty for plain balancing.
func (r *Route) Name() string { return r.rule.Name }

// Of is the service or gateway that the route belongs to.
func (r *Route) Of() string { return r.of }

// At is where the route was written.
func (r *Route) At() rules.Origin { return r.rule.At }

type target struct {
	service *service
	version string // empty: the service's own routes decide
	pool    *pool  // nil when version is empty
}

// pool is the instances of a version, or of a whole service. They take turns.
type pool struct {
	instances []*Instance
	turn      *atomic.Uint64 // outlives the table
}

func (p *pool) pick() *Instance {
	if len(p.instances) == 0 {
		return nil
	}
	return p.instances[(p.turn.Add(1)-1)%uint64(len(p.instances))]
}

// Options of Compile.
type Options struct {
	Previous *Table // whose splits and turns go on where nothing about them changed
	Seed     uint64 // of the order inside splits
}

// Compile builds the table for rules that were checked and for the instances
// that are known. It fails only for rules that Check would refuse.
func Compile(rs *rules.Rules, instances []Instance, opt Options) (*Table, error) {
	b := &builder{opt: opt, plans: map[string]*plan{}, t: &Table{services: map[string]*service{}, gateways: map[string]*gateway{}}}
	for _, rule := range rs.Services {
		b.service(rule.Name).rule = rule
	}
	b.pools(rs, instances)
	for _, s := range b.t.services {
		if s.rule == nil || len(s.rule.Routes) == 0 {
			s.plain = &Route{of: s.name, rule: &rules.Route{}, timeout: s.timeout()}
			continue
		}
		l, err := b.ladder(s.name, s.rule.Routes, s.timeout())
		if err != nil {
			return nil, err
		}
		s.ladder = l
	}
	for _, rule := range rs.Gateways {
		l, err := b.ladder(rule.Name, rule.Routes, nil)
		if err != nil {
			return nil, err
		}
		b.t.gateways[rule.Name] = &gateway{rule: rule, ladder: l}
	}
	return b.t, nil
}

type builder struct {
	t     *Table
	opt   Options
	plans map[string]*plan // by weights, since a plan takes a while to make
}

func (b *builder) service(name string) *service {
	s := b.t.services[name]
	if s == nil {
		s = &service{name: name, versions: map[string]*pool{}, all: b.pool(name, "")}
		b.t.services[name] = s
	}
	return s
}

func (s *service) timeout() *rules.Timeout {
	if s.rule == nil {
		return nil
	}
	return s.rule.Timeout
}

// pool makes an empty pool that goes on where the previous table's stood.
func (b *builder) pool(service, version string) *pool {
	if b.opt.Previous != nil {
		if s := b.opt.Previous.services[service]; s != nil {
			old := s.all
			if version != "" {
				old = s.versions[version]
			}
			if old != nil {
				return &pool{turn: old.turn}
			}
		}
	}
	return &pool{turn: new(atomic.Uint64)}
}

func (b *builder) version(s *service, version string) *pool {
	p := s.versions[version]
	if p == nil {
		p = b.pool(s.name, version)
		s.versions[version] = p
	}
	return p
}

func (b *builder) pools(rs *rules.Rules, instances []Instance) {
	for _, rule := range rs.Services {
		s := b.service(rule.Name)
		for _, v := range rule.Versions {
			b.version(s, v)
		}
		for _, in := range rule.Instances {
			address := strings.TrimPrefix(in.URL, "http://")
			instances = append(instances[:len(instances):len(instances)], Instance{ID: rule.Name + "@" + address,
				Service: rule.Name, Version: in.Version, Address: address, Outside: true})
		}
	}
	sorted := slices.Clone(instances)
	slices.SortFunc(sorted, func(a, b Instance) int { return cmp.Compare(a.ID, b.ID) })
	for i := range sorted {
		in := &sorted[i]
		s := b.service(in.Service)
		s.all.instances = append(s.all.instances, in)
		p := b.version(s, in.Version)
		p.instances = append(p.instances, in)
	}
}

func (b *builder) ladder(of string, list []*rules.Route, timeout *rules.Timeout) (*ladder, error) {
	routes := make([]*Route, 0, len(list))
	for _, rule := range list {
		rt := &Route{of: of, rule: rule, timeout: cmp.Or(rule.Timeout, timeout)}
		weights := make([]rules.Percent, 0, len(rule.Send))
		for _, t := range rule.Send {
			s := b.t.services[t.Service]
			if s == nil {
				return nil, fmt.Errorf("route %s of %s sends to service %s, which nothing declares", rule.Name, of, t.Service)
			}
			to := target{service: s, version: t.Version}
			if t.Version != "" {
				to.pool = b.version(s, t.Version)
			}
			rt.targets = append(rt.targets, to)
			weights = append(weights, t.Weight)
		}
		if len(rt.targets) == 0 {
			return nil, fmt.Errorf("route %s of %s sends nowhere", rule.Name, of)
		}
		rt.split = b.split(of, rule, weights)
		routes = append(routes, rt)
	}
	return newLadder(routes)
}

func (b *builder) split(of string, rule *rules.Route, weights []rules.Percent) *split {
	if old := b.opt.Previous.route(of, rule.Name); old != nil && slices.Equal(old.split.plan.weights, weights) &&
		slices.EqualFunc(old.rule.Send, rule.Send, func(a, b rules.Target) bool { return a.String() == b.String() }) {
		return old.split
	}
	key := fmt.Sprint(weights)
	p := b.plans[key]
	if p == nil {
		p = newPlan(weights)
		b.plans[key] = p
	}
	seed := b.opt.Seed
	for _, c := range of + "/" + rule.Name {
		seed = mix(seed ^ uint64(c))
	}
	return &split{plan: p, seed: seed}
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
	for _, rt := range l.routes {
		if rt.rule.Name == name {
			return rt
		}
	}
	return nil
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
