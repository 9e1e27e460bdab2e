package people

import (
	"slices"

	"nightjar/core/rules"
)

// Scope is what somebody sees and may change, by the teams that they belong to. The zero
// Scope is everything.
type Scope struct {
	isLimited bool
	teams     []string
	own, sees map[string]bool // services
	gateways  map[string]bool
	bundles   map[string]bool
}

// Scope is what somebody sees and may change under rules. Who belongs to no team is the
// platform, and sees and may change everything.
func (w Who) Scope(rs *rules.Rules) *Scope {
	s := &Scope{}
	if len(w.Teams) == 0 {
		return s
	}
	s.isLimited, s.teams = true, w.Teams
	s.own, s.sees, s.gateways, s.bundles = map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}
	if rs == nil {
		return s
	}
	for _, t := range rs.Teams {
		if !slices.Contains(w.Teams, t.Name) {
			continue
		}
		for _, name := range t.Services {
			s.own[name], s.sees[name] = true, true
		}
		for _, name := range t.Uses {
			s.sees[name] = true
		}
		for _, g := range t.Gateways {
			s.gateways[g.Gateway] = true
		}
		for _, b := range t.Bundles {
			s.bundles[b] = true
		}
	}
	return s
}

// IsLimited tells whether there is something that is not in the scope.
func (s *Scope) IsLimited() bool { return s.isLimited }

// Owns tells whether somebody may change a service: split, release, drill.
func (s *Scope) Owns(service string) bool { return !s.isLimited || s.own[service] }

// OwnsBundle tells whether somebody may publish a bundle.
func (s *Scope) OwnsBundle(bundle string) bool { return !s.isLimited || s.bundles[bundle] }

// Sees tells whether somebody sees what a service does.
func (s *Scope) Sees(service string) bool { return !s.isLimited || s.sees[service] }

// SeesGateway tells whether somebody sees a gateway.
func (s *Scope) SeesGateway(name string) bool { return !s.isLimited || s.gateways[name] }

// SeesLink tells whether somebody sees who calls whom: their services, from whoever it
// comes, and what they call.
func (s *Scope) SeesLink(from, to string) bool {
	return !s.isLimited || s.own[to] || s.own[from] && s.sees[to]
}

// SeesRoute tells whether somebody sees a route of a gateway, by the team whose it is.
func (s *Scope) SeesRoute(team string) bool { return !s.isLimited || slices.Contains(s.teams, team) }
