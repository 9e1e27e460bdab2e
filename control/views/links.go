package views

import (
	"cmp"
	"slices"

	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/core/rules"
	"nightjar/identity"
)

// links is who called whom.
func (g *groups) links(m *members) []model.Link {
	out := []model.Link{}
	parts := map[link][]model.LinkVersion{}
	for k, part := range g.reached {
		parts[link{k.caller, k.service}] = append(parts[link{k.caller, k.service}], *part)
	}
	for k, t := range g.link {
		if k.service != "" && t.Requests() > 0 {
			l := model.Link{From: k.caller, To: k.service, Figures: g.figures(t)}
			l.Versions = append([]model.LinkVersion{}, parts[k]...)
			slices.SortFunc(l.Versions, func(a, b model.LinkVersion) int { return cmp.Compare(a.Version, b.Version) })
			l.Sites = g.sitesOf(k)
			if l.Transport = transport(m, k.service); l.Transport == model.MutualTransport {
				l.Identities = &model.LinkIdentities{
					From: m.uri(k.caller),
					To:   m.uri(k.service),
				}
			}
			out = append(out, l)
		}
	}
	slices.SortFunc(
		out,
		func(a, b model.Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) },
	)
	return out
}

// sitesOf are the parts of a link by the sites of its ends; nil: neither end is at a site.
func (g *groups) sitesOf(l link) (out []model.LinkSites) {
	hasSite := false
	for k, part := range g.between[l] {
		hasSite = hasSite || k.from != "" || k.to != ""
		out = append(out, *part)
	}
	if !hasSite {
		return nil
	}
	slices.SortFunc(out, func(a, b model.LinkSites) int {
		return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To), cmp.Compare(a.Version, b.Version))
	})
	return out
}

// transport is how requests travel to the instances of a service.
func transport(m *members, service string) string {
	s := m.declared[service]
	hasPlain, hasTLS := false, false
	if s != nil {
		for _, in := range s.Instances {
			if _, isTLS := in.Address(); isTLS {
				hasTLS = true
			} else {
				hasPlain = true
			}
		}
	}
	switch {
	case hasTLS && hasPlain:
		return model.MixedTransport
	case hasTLS:
		return model.TLSTransport
	case !hasPlain && m.resolver.Service(s).IdentityMode() != rules.IdentityNone:
		return model.MutualTransport
	}
	return model.PlainTransport
}

// uri is the SPIFFE ID of a caller or service.
func (m *members) uri(name string) string {
	who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: name}, Domain: m.domain}
	switch {
	case m.rules.Gateway(name) != nil:
		who.Kind = identity.Gateway
	case name == fleet.ServiceCaller:
		who.Kind = identity.Node
	}
	return who.URI()
}
