package views

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"nightjar/api/model"
	"nightjar/control/figures"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/telemetry"
)

// siteNames are the sites that the rules declare, and those where proxies run, by name.
func siteNames(rs *rules.Rules, proxies []model.Proxy) []string {
	names := map[string]bool{}
	for _, s := range rs.Sites {
		names[s.Name] = true
	}
	for _, s := range rs.Services {
		for _, in := range s.Instances {
			names[in.Site] = true
		}
	}
	for i := range proxies {
		names[proxies[i].Site] = true
	}
	delete(names, "")
	return append([]string{}, slices.Sorted(maps.Keys(names))...)
}

// SiteNames are the sites that the rules declare, and those where something runs, by name.
func (v *Views) SiteNames() []string {
	return siteNames(v.Revisions.Current().Rules, v.Fleet.List().Proxies)
}

// Sites are the sites, and the requests between them in a window: see Mesh.
func (v *Views) Sites(ctx context.Context, seconds, end int64) (model.Sites, error) {
	rs, proxies := v.Revisions.Current().Rules, v.Fleet.List().Proxies
	begin, until := v.Figures.Span(seconds, end)
	out := model.Sites{End: until, Window: until - begin, Sites: []model.Site{}, Traffic: []model.SiteTraffic{}}
	type way struct{ from, to string }
	between, answered := map[way]*figures.Tally{}, map[string]*figures.Tally{}
	err := v.Figures.Sum(ctx, begin, until, func(n *telemetry.Names, _ uint, c *stats.Counts) {
		if n.Copy {
			return
		}
		if n.Site != "" {
			at(answered, n.Site).Take(n, c)
		}
		if !n.App && n.Instance != "" {
			at(between, way{n.CallerSite, n.Site}).Take(n, c)
		}
	})
	if err != nil {
		return out, err
	}
	over := float64(max(out.Window, 1))
	for _, name := range siteNames(rs, proxies) {
		s := model.Site{
			Name:      name,
			Crossing:  rs.Crossing(name),
			Crossings: []model.SiteCrossing{},
			Gateways:  []string{},
			Services:  []string{},
			Drain:     v.Drains(name),
			Figures:   at(answered, name).Figures(over),
		}
		s.IsDeclared = slices.ContainsFunc(rs.Sites, func(d rules.Site) bool { return d.Name == name })
		fill(&s, rs, proxies)
		out.Sites = append(out.Sites, s)
	}
	for w, t := range between {
		if t.Requests() > 0 {
			out.Traffic = append(out.Traffic, model.SiteTraffic{From: w.from, To: w.to, Figures: t.Figures(over)})
		}
	}
	slices.SortFunc(out.Traffic, func(a, b model.SiteTraffic) int {
		return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return out, nil
}

// fill adds what runs at a site.
func fill(s *model.Site, rs *rules.Rules, proxies []model.Proxy) {
	services, gateways := map[string]bool{}, map[string]bool{}
	for i := range proxies {
		p := &proxies[i]
		if p.Site != s.Name {
			continue
		}
		s.Proxies++
		if !p.IsConnected {
			s.Away++
		}
		switch {
		case p.Crossing != "":
			c := model.SiteCrossing{Proxy: p.ID, Listens: p.Listens, IsConnected: p.IsConnected, Connections: p.Connections}
			if p.Carried != nil {
				c.Carried = *p.Carried
			}
			s.Crossings = append(s.Crossings, c)
		case p.Gateway != "":
			gateways[p.Gateway] = true
		case p.Inbound != "":
			s.Instances++
			services[p.Service] = true
		}
	}
	for _, o := range rs.Services {
		for _, in := range o.Instances {
			if in.Site == s.Name {
				s.Instances++
				services[o.Name] = true
			}
		}
	}
	s.Services = append(s.Services, slices.Sorted(maps.Keys(services))...)
	s.Gateways = append(s.Gateways, slices.Sorted(maps.Keys(gateways))...)
	switch {
	case s.Crossing == "" || slices.ContainsFunc(s.Crossings, func(c model.SiteCrossing) bool { return c.IsConnected }):
	case len(s.Crossings) == 0:
		s.Problem = "no proxy carries what comes from other sites: start nightjar proxy --crossing " + s.Name
	default:
		s.Problem = "no proxy of its crossing is connected to this service"
	}
}

// isElsewhere tells whether a service has nothing to do with the site that is looked at: it
// has no instance there, and nobody there called it.
func (g *groups) isElsewhere(s *model.Service) bool {
	return g.site != "" && at(g.service, s.Name).Requests() == 0 &&
		!slices.ContainsFunc(s.Versions, func(v model.Version) bool { return len(v.Instances) > 0 })
}
