package control

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// rehearse starts a proxy that follows a draft and the instances of the mesh, by
// which the requests of a trial go. It returns the address to call.
func (c *Control) rehearse(ctx context.Context, p *plan, from, gateway string) (address string, end func(), err error) {
	if c.Beside == nil {
		return "", nil, Unusable{"this service cannot start proxies of its own to rehearse a draft"}
	}
	_, site := c.doorman(from, gateway)
	ctx, stop := context.WithCancel(ctx)
	lines := make(chan wire.Snapshot, 1)
	lines <- c.draftSnapshot(p, 1)
	go func() {
		c.mu.Lock()
		changed := c.changed
		c.mu.Unlock()
		for n := uint64(2); ; n++ {
			select {
			case <-ctx.Done():
				return
			case <-changed:
			}
			c.mu.Lock()
			changed = c.changed
			c.mu.Unlock()
			select {
			case <-ctx.Done():
				return
			case lines <- c.draftSnapshot(p, n):
			}
		}
	}()
	address, done, err := c.Beside(ctx, Beside{Caller: cmp.Or(from, ownCaller), Gateway: gateway, Site: site, Snapshots: lines})
	if err != nil {
		stop()
		return "", nil, fmt.Errorf("a proxy to rehearse the draft cannot be started: %w", err)
	}
	return address, func() { stop(); done() }, nil
}

// Beside is a proxy that follows snapshots of its own.
type Beside struct {
	Caller    string // by which its calls are known
	Gateway   string // that it serves; empty: none
	Site      string
	Snapshots <-chan wire.Snapshot
}

// draftSnapshot is what a proxy is told that rehearses a draft: its gateways
// listen anywhere, and the trial's drill harms nobody else.
func (c *Control) draftSnapshot(p *plan, sequence uint64) wire.Snapshot {
	c.mu.Lock()
	instances, drills := c.instances(), slices.Clone(c.drills)
	c.mu.Unlock()
	rest := &rules.Rules{Sites: p.rules.Sites, Policies: p.rules.Policies, Defaults: p.rules.Defaults, Access: p.rules.Access}
	for _, g := range p.rules.Gateways {
		own := *g
		own.Listen, own.TLS = "127.0.0.1:0", nil
		rest.Gateways = append(rest.Gateways, &own)
	}
	s := wire.Snapshot{Sequence: sequence, Revision: c.InForce().Revision.Number, Whole: true, Services: p.rules.Services, Rest: rest, Instances: instances, Settled: true, Drills: []wire.Drill{}}
	for _, d := range drills {
		s.Drills = append(s.Drills, d.Harm)
	}
	if d := p.trial.Drill; d != nil {
		s.Drills = append(s.Drills, wire.Drill{Ends: c.now().Add(maxTrialTime), ForMS: maxTrialTime.Milliseconds(),
			Drill: engine.Drill{ID: "rehearsal", Service: d.Service, Version: d.Version, Site: d.Site, Fail: d.Fail, Status: 503, Delay: d.Delay, Down: d.Down}})
	}
	return s
}
