// Package limits deals out the limits that all proxies share.
package limits

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/core/lease"
	"nightjar/core/rules"
	"nightjar/wire"
)

// SweepEvery is how often what is not used is forgotten.
const SweepEvery = 5 * time.Second

const maxAsks = 4000 // that are answered in one exchange

// Limits has a dealer for each limit of the whole mesh. It is safe for concurrent use.
type Limits struct {
	current func() *rules.Rules
	started time.Time

	mu      sync.Mutex   // guards what follows
	of      *rules.Rules // that known are of
	known   map[string]*rules.Limit
	dealers map[string]*dealer
}

type dealer struct {
	mu sync.Mutex
	*lease.Dealer
}

// New makes Limits of the rules that current returns.
func New(current func() *rules.Rules) *Limits {
	return &Limits{current: current, started: time.Now(), dealers: map[string]*dealer{}}
}

// Deal answers a proxy. A limit that the rules in force do not have gets no answer: the
// proxy follows other rules just now.
func (l *Limits) Deal(proxy string, in wire.LimitAsks) (out wire.LimitGrants) {
	left := maxAsks
	for _, one := range in.Limits {
		g := wire.LimitGrant{}
		if d := l.dealer(one.ID); d != nil {
			asks := one.Asks[:min(len(one.Asks), left)]
			left -= len(asks)
			d.mu.Lock()
			g.Grants = d.Deal(proxy, time.Since(l.started), asks)
			g.Among = d.Proxies()
			d.mu.Unlock()
		}
		out.Limits = append(out.Limits, g)
	}
	return out
}

func (l *Limits) dealer(id string) *dealer {
	rs := l.current()
	l.mu.Lock()
	defer l.mu.Unlock()
	if rs != l.of {
		l.of, l.known = rs, shared(rs)
	}
	limit := l.known[id]
	if limit == nil {
		return nil
	}
	d := l.dealers[id]
	if d == nil {
		d = &dealer{Dealer: lease.NewDealer(limit.Count, limit.Per, limit.Burst)}
		l.dealers[id] = d
	}
	return d
}

// shared are the limits of the whole mesh that rules have, by their IDs.
func shared(rs *rules.Rules) map[string]*rules.Limit {
	out := map[string]*rules.Limit{}
	r := rules.NewResolver(rs)
	add := func(of string, home *rules.Service, routes []*rules.Route) {
		for _, rt := range routes {
			if l := r.Route(home, rt).Limit; l != nil && l.Scope == rules.ScopeMesh {
				out[engine.LimitID(of, rt.Name, l)] = l
			}
		}
	}
	for _, s := range rs.Services {
		add(s.Name, s, s.Routes)
	}
	for _, g := range rs.Gateways {
		add(g.Name, nil, g.Routes)
	}
	return out
}

// Sweep forgets what is not used any more. It never fails.
func (l *Limits) Sweep(context.Context) error {
	rs := l.current()
	l.mu.Lock()
	if rs != l.of {
		l.of, l.known = rs, shared(rs)
	}
	maps.DeleteFunc(l.dealers, func(id string, _ *dealer) bool { return l.known[id] == nil })
	list := slices.Collect(maps.Values(l.dealers))
	l.mu.Unlock()
	for _, d := range list {
		d.mu.Lock()
		d.Sweep(time.Since(l.started))
		d.mu.Unlock()
	}
	return nil
}
