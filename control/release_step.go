package control

import (
	"context"
	"maps"
	"slices"
	"time"
)

// stepReleases lets time pass for every release.
func (c *Control) stepReleases(ctx context.Context) error {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	defer c.brief()
	if len(c.releases) == 0 {
		return nil
	}
	now := c.now().UTC()
	acked := c.ackedByAll()
	var changed []*releaseRun
	for _, n := range slices.Sorted(maps.Keys(c.releases)) {
		x := c.releases[n]
		r := x.run
		if r.State.Over() && !r.Shift {
			if now.Sub(r.Ended) >= lingering {
				rest := c.counters.take(x.count, false, now)
				r.Settle(&rest)
				changed = append(changed, x)
			}
			continue
		}
		if !r.Shift && r.Tick(now, acked >= r.Revision) {
			c.recount(x)
		}
		looks := r.Looks
		if r.Due() {
			fresh := c.counters.take(x.count, false, now)
			r.Look(now, &fresh)
		} else if now.Sub(x.glanced) >= glanceEvery {
			x.glanced = now
			c.tendLoad(x)
			fresh := c.counters.take(x.count, true, now)
			if r.Glance(now, &fresh); r.Looks > looks {
				c.counters.take(x.count, false, now)
			}
		}
		c.ask(ctx, x)
		if len(r.Events) > 0 || len(r.Judgements) > 0 || r.Shift {
			changed = append(changed, x)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return c.follow(ctx, now, changed)
}

// ackedByAll is the newest revision that every connected proxy has in force.
func (c *Control) ackedByAll() uint {
	c.mu.Lock()
	defer c.mu.Unlock()
	least := c.force.Revision.Number
	for _, m := range c.members {
		if m.connected(c.now()) && m.ack.Error == "" {
			least = min(least, m.ack.Revision)
		}
	}
	return least
}

// follow stores what became of releases, and does what they want done.
func (c *Control) follow(ctx context.Context, now time.Time, changed []*releaseRun) error {
	if err := c.commit(ctx, nil, changed); err != nil {
		return err
	}
	for _, x := range changed {
		r := x.run
		switch {
		case r.State.Over() && !r.Shift && now.Sub(r.Ended) >= lingering:
			c.forget(x)
			continue
		case x.count == nil || x.stage != r.Step:
			c.recount(x)
			x.glanced = now
		}
		x.stage = r.Step
		c.tendLoad(x)
		if r.State.Over() && x.asking != nil {
			x.asking()
		}
	}
	return nil
}

// forget lets go of a release that is over.
func (c *Control) forget(x *releaseRun) {
	if x.count != nil {
		c.counters.end(x.count)
	}
	x.endLoad()
	delete(c.releases, x.number)
}

// endReleases ends what runs for releases; they go on when the service does.
func (c *Control) endReleases() {
	c.publishing.Lock()
	defer c.publishing.Unlock()
	c.ending = true
	for _, x := range c.releases {
		x.endLoad()
		if x.asking != nil {
			x.asking()
		}
	}
}
