package proxy

import (
	"context"
	"errors"
	"os"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

// follow follows the snapshots of Config.Snapshots until ctx is done or they end.
func (p *Proxy) follow(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case snap, more := <-p.cfg.Snapshots:
			if !more {
				return
			}
			if err := p.apply(snap); err != nil {
				p.log.Error("a snapshot cannot be put in force", "error", err)
				continue
			}
			p.getReady()
		}
	}
}

// apply puts a snapshot in force as one atomic swap.
func (p *Proxy) apply(s wire.Snapshot) error {
	if s.Watches != nil {
		p.feed.set(s.Watches, p.carrier.caller)
	}
	if s.Traced != nil {
		p.spans.traced.Store(uint64(*s.Traced * 100_000))
	}
	if s.Asides() {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.adopt(p.known.with(s))
}

// adopt follows what is known from now on. The caller holds mu.
func (p *Proxy) adopt(k known) error {
	p.known = k // whatever comes of it: the next snapshot builds on it
	rs := k.rules()
	table, err := engine.Compile(rs, k.instances(), engine.Options{Previous: p.force.Load().table, Seed: uint64(p.epoch.UnixNano()), Calls: k.Calls,
		Now: p.carrier.now(), Site: p.cfg.Site, Drills: p.drills(k.Drills)})
	if err != nil {
		return err
	}
	p.rules = rs
	p.force.Store(&inForce{table: table, revision: k.Revision, known: true})
	select {
	case p.unkept <- struct{}{}:
	default:
	}
	return p.openEdge()
}

// drills are those that run, with the ends that this proxy keeps to. The caller
// holds mu.
func (p *Proxy) drills(list []wire.Drill) []engine.Drill {
	var out []engine.Drill
	ends := map[string]time.Time{}
	for _, d := range list {
		end, heard := p.drillEnds[d.ID]
		if !heard {
			if end = time.Now().Add(time.Duration(d.ForMS) * time.Millisecond); d.Ends.Before(end) {
				end = d.Ends
			}
		}
		ends[d.ID] = end
		d.Drill.Until = end.Sub(p.epoch)
		out = append(out, d.Drill)
	}
	p.drillEnds = ends
	return out
}

// keepKnown writes what is known to the file of Config.State, after every
// change and a second apart at least, until ctx is done, and then once more.
// A file that cannot be written stops nothing.
func (p *Proxy) keepKnown(ctx context.Context) {
	told := ""
	keep := func() {
		p.mu.Lock()
		k := p.known
		p.mu.Unlock()
		if k.Services == nil {
			return
		}
		err := k.keep(p.cfg.State)
		switch {
		case err == nil:
			told = ""
		case err.Error() != told:
			told = err.Error()
			p.log.Warn("what is known cannot be kept on disk; a start without the service would know less", "file", p.cfg.State, "error", err)
		}
	}
	fresh := time.NewTicker(freshTick)
	defer fresh.Stop()
	for {
		select {
		case <-fresh.C: // the file says by its time until when it was up to date
			if now := time.Now(); p.force.Load().known && p.StaleSince().IsZero() {
				os.Chtimes(p.cfg.State, now, now)
			}
			continue
		case <-ctx.Done():
			select {
			case <-p.unkept:
				keep()
			default:
			}
			return
		case <-p.unkept:
			keep()
		}
		t := time.NewTimer(time.Second)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
		}
	}
}

// recall follows what was kept on disk, when the service has not been heard of.
func (p *Proxy) recall() {
	if p.cfg.State == "" {
		return
	}
	k, at, err := recall(p.cfg.State, p.cfg.Server)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return
	case err != nil:
		p.log.Warn("what was kept on disk is of no use", "error", err)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.force.Load().known {
		return
	}
	if self, ok := k.Instances[p.cfg.ID]; ok && p.inbound != nil { // it may have listened elsewhere then
		self.Address = p.Inbound()
		k.Instances[p.cfg.ID] = self
	}
	if err := p.adopt(k); err != nil {
		p.log.Warn("what was kept on disk cannot be put in force", "file", p.cfg.State, "error", err)
		if !p.force.Load().known {
			return
		}
	}
	p.stale.Store(&at)
	p.log.Warn("the service is away; following what was kept on disk", "revision", k.Revision, "stale since", at.Local().Format(time.DateTime))
	p.getReady()
}

// getReady tells that there are rules in force.
func (p *Proxy) getReady() { p.readyOnce.Do(func() { close(p.ready) }) }

// StaleSince is when what the proxy follows was last known to be what the
// service wants; zero: it follows the service now, or has never followed it.
func (p *Proxy) StaleSince() time.Time {
	if at := p.stale.Load(); at != nil {
		return *at
	}
	return time.Time{}
}
