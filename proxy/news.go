package proxy

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

// news adds what happened at the inbound listener since the last call: callers that were
// refused, requests that access rules only watched, callers without an identity, and requests of
// the workload to hosts that nothing declares.
func (p *Proxy) news(d *wire.Delta) {
	for _, detail := range p.handshakes.News() {
		d.Events = append(d.Events, engine.Event{
			Service:  p.cfg.Service,
			Version:  p.cfg.Version,
			Instance: p.cfg.ID,
			Kind:     "caller-refused",
			Detail:   detail,
		})
	}
	for k, n := range p.watched.Take() {
		k.Requests = n
		d.Watched = append(d.Watched, k)
	}
	if now := time.Now(); now.Sub(p.undeclaredAt) >= undeclaredEvery {
		told := p.undeclared.Take()
		for _, host := range slices.Sorted(maps.Keys(told)) {
			p.undeclaredAt = now
			d.Events = append(d.Events, engine.Event{
				Service:  p.cfg.Service,
				Version:  p.cfg.Version,
				Instance: p.cfg.ID,
				Kind:     "undeclared",
				Detail:   fmt.Sprintf("requests to %s were refused, %d lately: the rules declare no such service for it", host, told[host]),
			})
		}
	}
	for address, n := range p.unproven.Take() {
		d.Unproven = append(d.Unproven, wire.Unproven{Address: address, Requests: n})
	}
}

// Most that is told apart between two reports.
const (
	maxWatched  = 256 // callers and rules
	maxUnproven = 64  // addresses

	maxUndeclared   = 16 // hosts
	maxHost         = 100
	undeclaredEvery = 10 * time.Second
)

// watch counts a request that access rules would have refused.
func (p *Proxy) watch(from engine.Party, v engine.Verdict) {
	k := wire.Watched{From: from.String()}
	if v.Rule != nil {
		k.Rule = v.Rule.Name
	}
	p.watched.Add(k)
}
