package proxy

import (
	"context"
	"fmt"
	"sync"
	"time"

	"nightjar/proxy/carry"
	"nightjar/proxy/process"
)

// Run serves until ctx is done, then withdraws the instance and lets requests
// finish, for Config.Drain at most.
func (p *Proxy) Run(ctx context.Context) error {
	r := &run{p: p, failed: make(chan error, 3+len(p.services))}
	defer p.router.Close()
	background, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	if p.inbound != nil {
		r.serve(p.inbound)
	}
	if p.crossing != nil {
		r.running.Go(func() {
			if err := p.crossing.Serve(); err != nil {
				r.failed <- fmt.Errorf("listener crossing: %w", err)
			}
		})
	}
	early := r.startBackground(background)
	defer early()
	defer p.upgrade.end()
	err := r.serveCalls(ctx)
	r.leave()
	stop()
	r.running.Wait()
	p.transport.CloseIdle()
	p.pools.CloseIdle()
	return err
}

// run is one Run of a proxy.
type run struct {
	p         *Proxy
	listeners []*carry.Listener // that serve
	running   sync.WaitGroup
	failed    chan error // of listeners that broke
}

// serve begins to serve a listener.
func (r *run) serve(l *carry.Listener) {
	r.listeners = append(r.listeners, l)
	r.running.Go(func() {
		if err := l.Serve(); err != nil {
			r.failed <- fmt.Errorf("listener %s: %w", l.Name, err)
		}
	})
}

// startBackground starts all that goes on beside requests, until ctx is done. The
// caller calls stop when Run ends.
func (r *run) startBackground(ctx context.Context) (stop func()) {
	p := r.p
	if p.cfg.Gateway != "" {
		r.running.Go(func() { p.watchCertificates(ctx) })
	}
	r.running.Go(func() { p.watchOutside(ctx) })
	r.running.Go(func() {
		process.Every(ctx, sweepTick, func() {
			p.pools.Sweep()
			p.transport.Sweep()
		})
	})
	r.running.Go(func() { process.Every(ctx, usedEvery, p.markPrograms) })
	r.running.Go(func() { p.checks.Run(ctx) })
	r.running.Go(func() { p.reach.Run(ctx) })
	if p.cfg.Snapshots != nil {
		r.running.Go(func() { p.follower.Follow(ctx, p.cfg.Snapshots) })
	} else {
		r.running.Go(func() { p.session.Run(ctx) })
	}
	r.running.Go(func() { p.watchCallers(ctx) })
	if p.beside != nil {
		r.running.Go(func() { p.watchApp(ctx, p.beside) })
	}
	if p.status != nil {
		r.running.Go(func() { p.status.Run(ctx) })
	}
	if p.cfg.LogTo != nil {
		r.running.Go(func() { p.observer.Log.Run(ctx, p.cfg.LogTo) })
	}
	if p.cfg.State == "" {
		return func() {}
	}
	r.running.Go(func() { p.follower.Keep(ctx) })
	early := time.AfterFunc(noService, p.follower.Recall)
	return func() { early.Stop() }
}

// serveCalls serves what the workload calls, until ctx is done, another process
// took over, or a listener broke. Callers that come before the rules wait in the
// listener's queue for a while; after that they are refused with a reason.
func (r *run) serveCalls(ctx context.Context) error {
	p := r.p
	patience := time.NewTimer(firstRules)
	defer patience.Stop()
	calls := p.services
	if p.outbound != nil {
		calls = append(calls[:len(calls):len(calls)], p.outbound)
	}
	var err error
	select {
	case <-p.Ready():
	case <-patience.C:
	case <-ctx.Done():
	case err = <-r.failed:
	case err = <-p.ends:
	}
	if err != nil || ctx.Err() != nil {
		for _, l := range calls {
			l.Listener.Close()
		}
		return err
	}
	for _, l := range calls {
		r.serve(l)
	}
	select {
	case <-ctx.Done():
	case <-p.handed:
	case err = <-r.failed:
	case err = <-p.ends:
	}
	return err
}

// leave takes the proxy out of the mesh: no new listener, no registration, then
// the requests that are under way come to their end.
func (r *run) leave() {
	p := r.p
	isAlone := p.cfg.Snapshots != nil
	p.mu.Lock()
	p.isLeaving = true
	if p.gateway != nil {
		r.listeners = append(r.listeners, p.gateway.Listener)
	}
	p.mu.Unlock()
	grace := time.Duration(0)
	select {
	case <-p.handed:
		p.session.Retire()
		grace = min(time.Second, p.cfg.Drain/2)
	default:
		if isAlone {
			break
		}
		if known, heard := p.session.Withdraw(); heard && p.inbound != nil {
			<-time.After(min(known+withdrawPropagation, p.cfg.Drain/2))
		}
	}
	for _, l := range r.listeners {
		p.closing.Go(func() { l.Drain(grace, p.cfg.Drain) })
	}
	if p.crossing != nil {
		p.crossing.Drain(p.cfg.Drain)
	}
	p.closing.Wait()
	p.tokens.Close()
	if !isAlone {
		p.session.Collect()
		p.session.Flush()
	}
}
