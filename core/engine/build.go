package engine

import (
	"cmp"
	"slices"
	"sync/atomic"

	"nightjar/core/rules"
)

// pool makes an empty pool that goes on where the previous table's stood.
func (b *builder) pool(service, version string) *pool {
	if b.opt.Previous != nil {
		if s := b.opt.Previous.services[service]; s != nil {
			old := s.all
			if version != "" {
				if old = s.versions[version]; old == nil {
					old = s.placed[version]
				}
			}
			if old != nil {
				return &pool{turn: old.turn}
			}
		}
	}
	return &pool{turn: new(atomic.Uint64)}
}

func (b *builder) version(s *service, name string) *pool {
	p := s.versions[name]
	if p == nil {
		p = b.pool(s.name, name)
		p.version = b.state(s, name)
		s.versions[name] = p
	}
	return p
}

// place is the pool of a version's instances at one site.
func (b *builder) place(s *service, version, site string) *pool {
	key := version + "@" + site
	p := s.placed[key]
	if p == nil {
		whole := b.version(s, version)
		p = b.pool(s.name, key)
		p.version, p.how, p.key = whole.version, whole.how, whole.key
		for _, c := range whole.peers {
			if c.Site == site {
				p.peers = append(p.peers, c)
			}
		}
		p.noteLeaves()
		s.placed[key] = p
	}
	return p
}

func (b *builder) pools(rs *rules.Rules, instances []Instance) {
	for _, rule := range rs.Services {
		s := b.service(rule.Name)
		s.settings = b.t.resolver.Service(rule)
		for _, v := range rule.Versions {
			b.version(s, v)
		}
		for _, in := range rule.Instances {
			address, secure := in.Address()
			instances = append(instances[:len(instances):len(instances)], Instance{
				ID:      rule.Name + "@" + address,
				Service: rule.Name,
				Version: in.Version,
				Site:    in.Site,
				Address: address,
				Outside: true,
				Secure:  secure,
			})
		}
	}
	sorted := make([]*Instance, len(instances))
	for i := range instances {
		sorted[i] = &instances[i]
	}
	slices.SortFunc(sorted, func(a, b *Instance) int { return cmp.Compare(a.ID, b.ID) })
	peers := make([]peer, len(sorted))
	for i, in := range sorted {
		s := b.service(in.Service)
		p := b.version(s, in.Version)
		c := &peers[i]
		b.peer(c, p.version, in)
		c.hear(in)
		p.peers = append(p.peers, c)
		s.all.peers = append(s.all.peers, c)
	}
	for _, s := range b.t.services {
		s.retry = newRetry(s.settings.Retry)
		b.balance(s, s.all)
		s.all.noteLeaves()
		for _, p := range s.versions {
			b.balance(s, p)
			p.noteLeaves()
			p.version.peers = p.peers
		}
	}
}

// balance says how a pool chooses.
func (b *builder) balance(s *service, p *pool) {
	if set := s.settings.Balance; set != nil {
		p.how, p.key = balances[set.Kind], set.Key
	}
	f := s.settings.Failover
	if f == nil || len(p.peers) == 0 {
		return
	}
	rank := map[string]int{}
	for _, site := range f.Order {
		if site == "same" {
			site = b.opt.Site
		}
		if _, ok := rank[site]; !ok && site != "" {
			rank[site] = len(rank)
		}
	}
	groups := make([][]*peer, len(rank)+1) // the last: of sites that the order leaves out
	for _, c := range p.peers {
		i, ok := rank[c.Site]
		if !ok {
			i = len(rank)
		}
		groups[i] = append(groups[i], c)
	}
	p.sites = slices.DeleteFunc(groups, func(g []*peer) bool { return len(g) == 0 })
	p.below = f.Below.Share()
	if len(p.sites) == 1 {
		p.sites = nil
	}
}
