package fleet

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/wire"
)

// Running is a registered proxy, by the program that it runs.
type Running struct {
	wire.Registration
	IsConnected bool
	LastSeen    time.Time
}

// Running lists the registered proxies by id.
func (f *Fleet) Running() []Running {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := make([]Running, 0, len(f.proxies))
	for _, id := range slices.Sorted(maps.Keys(f.proxies)) {
		p := f.proxies[id]
		out = append(out, Running{p.Registration, p.isConnected(f.now()), p.lastSeen})
	}
	return out
}

// AddSites adds the sites of instances to what a proxy counted.
func (f *Fleet) AddSites(list wire.SeriesList) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range list {
		s := &list[i]
		s.Site = f.ledger.siteOf(s.Service, s.Instance)
	}
}

// AddSpanSites adds to spans where they took place.
func (f *Fleet) AddSpanSites(list []wire.Span) {
	if len(list) == 0 {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range list {
		s := &list[i]
		if s.Kind == model.SegmentAttempt {
			s.Site = f.ledger.siteOf(s.Service, s.Instance)
		} else {
			s.Site = f.proxySite(s.Proxy)
		}
	}
}

// proxySite is the site of a proxy; empty: it is at none. The caller holds mu.
func (f *Fleet) proxySite(proxy string) string {
	if p := f.proxies[proxy]; p != nil {
		return p.Site
	}
	return ""
}

// EventSite is the site of an instance that a proxy tells of, or else of the proxy; empty: none.
func (f *Fleet) EventSite(proxy, service, instance string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return cmp.Or(f.ledger.siteOf(service, instance), f.proxySite(proxy))
}

// SitesOf are the sites where the proxies of a service or gateway run.
func (f *Fleet) SitesOf(caller string) (out []string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.proxies {
		if (p.Service == caller || p.Gateway == caller) && p.Site != "" && !slices.Contains(out, p.Site) {
			out = append(out, p.Site)
		}
	}
	slices.Sort(out)
	return out
}
