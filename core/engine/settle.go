package engine

import (
	"cmp"
	"nightjar/core/guard"
	"slices"
)

// settle makes the machines follow the new table. Nothing can fail any more.
func (b *builder) settle() {
	now := b.opt.Now
	for _, s := range b.t.services {
		if m := b.t.memory; len(s.all.peers) > 0 && !m.knows {
			m.knows, m.begun = true, now
		}
		for _, p := range s.versions {
			v := p.version
			set := v.rules
			v.before = nil
			switch {
			case set.Breaker == nil:
				v.breaker = nil
			case v.breaker == nil:
				v.breaker = guard.NewBreaker(set.Breaker, now)
			default:
				v.breaker.Set(set.Breaker)
			}
			switch {
			case set.Queue == nil:
				v.queue = nil
			case v.queue == nil:
				v.queue = guard.NewQueue(set.Queue)
			default:
				v.queue.Set(set.Queue)
			}
			if set.Sideline != nil || v.side.On() {
				peers := make([]*guard.Peer, len(v.peers))
				for i, c := range v.peers {
					peers[i] = c.Peer
				}
				v.side.Set(set.Sideline, peers, now)
			}
			v.judge(now)
			v.applyOutages(now)
		}
		if s.guarded() {
			b.t.guarded = append(b.t.guarded, s)
		}
	}
	slices.SortFunc(b.t.guarded, func(a, b *service) int { return cmp.Compare(a.name, b.name) })
}

// guarded tells whether there is anything about the service of which Status
// could tell.
func (s *service) guarded() bool {
	set := &s.settings
	if s.retry != nil || set.Breaker != nil || set.Queue != nil || set.Sideline != nil || set.Health != nil ||
		set.Failover != nil {
		return true
	}
	for _, p := range s.versions {
		if len(p.version.downs) > 0 {
			return true
		}
	}
	return s.ladder != nil &&
		slices.ContainsFunc(s.ladder.routes, func(rt *Route) bool { return rt.retry != nil || rt.limit != nil || rt.shared != nil })
}
