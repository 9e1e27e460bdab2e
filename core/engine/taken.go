package engine

// Taken tells which routes would take a request that is meant for a service: the
// gateway's, by its name, and the service's own, by the service and its name. A
// service without routes has the one without a name; of a gateway's route that
// names a version the service's own is empty. It counts nothing and draws nothing.
func Taken(t *Table, entry Entry, v View, service string) (gate string, own [2]string) {
	path := v.Path()
	if unfit(v) != "" {
		return "", own
	}
	if entry.Gateway != "" {
		g := t.gateways[entry.Gateway]
		if g == nil || !hostIn(g.rule.Hosts, v.Host()) {
			return "", own
		}
		rt, cond := g.ladder.match(v, path)
		if rt == nil {
			return "", own
		}
		gate = rt.Name()
		if rw := rt.rule.Rewrite; rw != nil && rw.Path != "" {
			path = rewritten(rw.Path, path, cond)
		}
		named := true
		for i := range rt.targets {
			if to := &rt.targets[i]; to.service.name == service && to.version == "" {
				named = false
			}
		}
		if named {
			return gate, own
		}
		if rt.request != nil {
			v = &edited{v, rt.request}
		}
	}
	s := t.services[service]
	switch {
	case s == nil:
		return gate, own
	case s.ladder == nil:
		return gate, [2]string{s.name, ""}
	}
	if rt, _ := s.ladder.match(v, path); rt != nil {
		own = [2]string{s.name, rt.Name()}
	}
	return gate, own
}
