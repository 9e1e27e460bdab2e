package engine

import "nightjar/core/rules"

// findHTTP2 finds out which services and gateways can lead to a workload that speaks HTTP/2
// alone, however many services are passed.
func (b *builder) findHTTP2() {
	for isNew := true; isNew; {
		isNew = false
		for _, s := range b.t.services {
			if !s.leadsTo2 && (rules.SpeaksHTTP2(s.protocol()) || s.ladder.leadsTo2()) {
				s.leadsTo2, isNew, b.t.has2 = true, true, true
			}
		}
	}
	for _, g := range b.t.gateways {
		g.leadsTo2 = g.ladder.leadsTo2()
	}
}

func (l *ladder) leadsTo2() bool {
	if l == nil {
		return false
	}
	for _, r := range l.routes {
		for i := range r.targets {
			if r.targets[i].service.leadsTo2 {
				return true
			}
		}
		if r.otherwise != nil && r.otherwise.service.leadsTo2 {
			return true
		}
	}
	return false
}

// LeadsToHTTP2 tells whether a request that enters so may go to a workload that speaks HTTP/2
// alone, whatever the routes decide.
func (t *Table) LeadsToHTTP2(gateway, service, host string) bool {
	if t == nil || !t.has2 {
		return false
	}
	if gateway != "" {
		g := t.gateways[gateway]
		return g != nil && g.leadsTo2
	}
	if service == "" {
		service = host
	}
	s := t.services[service]
	if s == nil {
		s = t.services[serviceName(service)]
	}
	return s != nil && s.leadsTo2
}
