package trials

import (
	"cmp"
	"context"
	"fmt"

	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// rehearse starts a proxy that follows the draft and the instances of the mesh, by
// which requests of the trial go. It returns the address to call.
func (r *run) rehearse(service, gateway string) (address string, err error) {
	t := r.trials
	if t.StartProxy == nil {
		return "", problem.Invalid("this service cannot start proxies of its own: run the trial without a draft")
	}
	ctx, stop := context.WithCancel(r.ctx)
	lines := make(chan wire.Snapshot, 1)
	changed := t.Fleet.Changed() // before the first snapshot: nothing is missed
	lines <- r.snapshot(1)
	go func() {
		for n := uint64(2); ; n++ {
			select {
			case <-ctx.Done():
				return
			case <-changed:
			}
			changed = t.Fleet.Changed()
			select {
			case <-ctx.Done():
				return
			case lines <- r.snapshot(n):
			}
		}
	}()
	p := LocalProxy{
		Caller:    cmp.Or(service, fleet.ServiceCaller),
		Gateway:   gateway,
		Site:      t.Fleet.Entry(service, gateway).Site,
		Snapshots: lines,
	}
	address, wait, err := t.StartProxy(ctx, p)
	if err != nil {
		stop()
		return "", fmt.Errorf("a proxy to rehearse the draft could not be started: %w", err)
	}
	r.ends = append(r.ends, func() { stop(); wait() })
	return address, nil
}

// snapshot is what a proxy of a rehearsal gets: its gateways listen at any port, and
// the drill of the trial affects nobody else.
func (r *run) snapshot(sequence uint64) wire.Snapshot {
	rs, t := r.plan.Rules, r.trials
	rest := &rules.Rules{Sites: rs.Sites, Policies: rs.Policies, Defaults: rs.Defaults, Access: rs.Access}
	for _, g := range rs.Gateways {
		own := *g
		own.Listen, own.TLS = "127.0.0.1:0", nil
		rest.Gateways = append(rest.Gateways, &own)
	}
	s := wire.Snapshot{
		Sequence:  sequence,
		Revision:  t.Revisions.Current().Revision.Number,
		Whole:     true,
		Services:  rs.Services,
		Rest:      rest,
		Instances: t.Fleet.Instances(),
		Settled:   true,
		Drills:    t.Drills.Specs(),
	}
	if d := r.plan.Trial.Drill; d != nil {
		s.Drills = append(s.Drills, wire.Drill{
			Ends:  t.Now().Add(maxTime),
			ForMS: maxTime.Milliseconds(),
			Drill: engine.Drill{
				ID:      "rehearsal",
				Service: d.Service,
				Version: d.Version,
				Site:    d.Site,
				Fail:    d.Fail,
				Status:  503,
				Delay:   d.Delay,
				Down:    d.Down,
			},
		})
	}
	return s
}
