package proxy

import (
	"nightjar/core/engine"
	"nightjar/wire"
)

// news adds what happened at the inbound listener since the last call: callers that were
// refused, requests that access rules only watched, and callers without an identity.
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
	for address, n := range p.unproven.Take() {
		d.Unproven = append(d.Unproven, wire.Unproven{Address: address, Requests: n})
	}
}

// Most that is told apart between two reports.
const (
	maxWatched  = 256 // callers and rules
	maxUnproven = 64  // addresses
)

// watch counts a request that access rules would have refused.
func (p *Proxy) watch(from engine.Party, v engine.Verdict) {
	k := wire.Watched{From: from.String()}
	if v.Rule != nil {
		k.Rule = v.Rule.Name
	}
	p.watched.Add(k)
}
