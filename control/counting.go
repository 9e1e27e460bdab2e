package control

import (
	"sync"
	"time"

	"nightjar/core/release"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

// counters add up what the versions of running releases answer, as proxies tell
// of it. The zero value counts nothing.
type counters struct {
	mu        sync.Mutex
	byService map[string][]*counting
}

// counting is of one release.
type counting struct {
	service, from, to string
	places            map[[2]string]bool // ladder and route
	dark              bool               // copies are counted, where they were answered
	revision          uint               // requests that followed an earlier one do not count
	since             int64              // nor those before this second
	taken             time.Time          // when fresh was taken last, or counting began
	fresh             release.Sample     // since then; guarded by counters.mu
}

func (k *counters) begin(c *counting) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.byService == nil {
		k.byService = map[string][]*counting{}
	}
	k.byService[c.service] = append(k.byService[c.service], c)
}

func (k *counters) end(c *counting) {
	k.mu.Lock()
	defer k.mu.Unlock()
	var rest []*counting
	for _, o := range k.byService[c.service] {
		if o != c {
			rest = append(rest, o)
		}
	}
	if k.byService[c.service] = rest; rest == nil {
		delete(k.byService, c.service)
	}
}

// take returns what was counted since the last time; with keep it stays.
func (k *counters) take(c *counting, keep bool, now time.Time) release.Sample {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out release.Sample
	out.Add(&c.fresh)
	out.Seconds = now.Sub(c.taken).Seconds()
	if !keep {
		c.fresh, c.taken = release.Sample{}, now
	}
	return out
}

// add counts what a proxy told of the second at.
func (k *counters) add(d *wire.Delta, at int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.byService) == 0 {
		return
	}
	for i := range d.Series {
		s := &d.Series[i]
		for _, c := range k.byService[s.Service] {
			n := telemetry.Names{App: s.App, Copy: s.Copy, Service: s.Service, Version: s.Version, RouteOf: s.RouteOf, Route: s.Route}
			if at >= c.since && (s.App || s.Revision >= c.revision) {
				c.add(&n, &s.Counts)
			}
		}
	}
}

// add counts a series, if it is of the release.
func (c *counting) add(n *telemetry.Names, counts *stats.Counts) {
	switch {
	case c.dark && (!n.App || n.Copy != (n.Version == c.to)):
		return
	case !c.dark && (n.App || n.Copy || !c.places[[2]string{n.RouteOf, n.Route}]):
		return
	}
	if n.Version != "" {
		if c.fresh.Versions == nil {
			c.fresh.Versions = map[string]uint64{}
		}
		c.fresh.Versions[n.Service+"/"+n.Version] += counts.OK + counts.Failed
	}
	switch n.Version {
	case c.to:
		c.fresh.To.Add(counts)
	case c.from:
		c.fresh.From.Add(counts)
	}
}
