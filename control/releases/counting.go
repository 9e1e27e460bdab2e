package releases

import (
	"slices"
	"sync"
	"time"

	"nightjar/core/release"
	"nightjar/core/stats"
	"nightjar/telemetry"
	"nightjar/wire"
)

// counters add up what the versions of running releases answer, as proxies report
// it. The zero value counts nothing. It is safe for concurrent use.
type counters struct {
	mu        sync.Mutex // guards what follows, and what counters changed
	byService map[string][]*counter
}

// counter counts for one release.
type counter struct {
	service, from, to string
	routes            map[release.Place]bool
	isDark            bool  // copies are counted, where they were answered
	revision          uint  // requests that followed an earlier one do not count
	since             int64 // requests of earlier seconds do not count either

	seen   release.Sample // that somebody looked at, and did not settle yet
	fresh  release.Sample // after that
	seenAt time.Time      // when somebody looked last
	taken  time.Time      // when seen was settled last, or counting began
}

func (k *counters) begin(c *counter) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.byService == nil {
		k.byService = map[string][]*counter{}
	}
	k.byService[c.service] = append(k.byService[c.service], c)
}

func (k *counters) end(c *counter) {
	k.mu.Lock()
	defer k.mu.Unlock()
	rest := slices.DeleteFunc(slices.Clone(k.byService[c.service]), func(o *counter) bool { return o == c })
	if len(rest) == 0 {
		delete(k.byService, c.service)
		return
	}
	k.byService[c.service] = rest
}

// look is what was counted since it was settled last.
func (k *counters) look(c *counter, now time.Time) (out release.Sample) {
	k.mu.Lock()
	defer k.mu.Unlock()
	c.seen.Add(&c.fresh)
	c.fresh, c.seenAt = release.Sample{}, now
	out.Add(&c.seen)
	out.Seconds = now.Sub(c.taken).Seconds()
	return out
}

// settle says that what somebody looked at last is in a judgement that is stored.
func (k *counters) settle(c *counter) {
	k.mu.Lock()
	defer k.mu.Unlock()
	c.seen, c.taken = release.Sample{}, c.seenAt
}

// add counts what a proxy reported of a second.
func (k *counters) add(d *wire.Delta, at int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.byService) == 0 {
		return
	}
	for i := range d.Series {
		s := &d.Series[i]
		for _, c := range k.byService[s.Service] {
			n := telemetry.Names{
				App:     s.App,
				Copy:    s.Copy,
				Service: s.Service,
				Version: s.Version,
				RouteOf: s.RouteOf,
				Route:   s.Route,
			}
			if at >= c.since && (s.App || s.Revision >= c.revision) {
				c.add(&n, &s.Counts)
			}
		}
	}
}

// add counts a series, if it belongs to the release.
func (c *counter) add(n *telemetry.Names, counts *stats.Counts) {
	switch {
	case c.isDark && (!n.App || n.Copy != (n.Version == c.to)):
		return
	case !c.isDark && (n.App || n.Copy || !c.routes[release.Place{Ladder: n.RouteOf, Route: n.Route}]):
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
