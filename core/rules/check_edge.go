package rules

import (
	"fmt"
	"slices"
)

// outsider: who calls a gateway is not known to the mesh.
func (c *checker) outsider(when *Condition, path string) {
	if len(when.From)+len(when.Sites) > 0 {
		c.mistake(
			when.At,
			path,
			CodeBadValue,
			"requests of a gateway come from outside the mesh, not from a service or site",
			"from and site only on routes of services",
		)
	}
	for _, group := range [][]Condition{when.Any, when.All, when.Not} {
		for i := range group {
			c.outsider(&group[i], path)
		}
	}
}

// authenticated: only gateways ask for tokens, and only the platform says which.
func (c *checker) authenticated(home *Service, rt *Route, path string) {
	a := rt.Authenticate
	switch {
	case a == nil:
	case home != nil:
		c.mistake(a.Origin, path+".authenticate", CodeBadValue, "tokens are asked for where outsiders come in", "authenticate in a gateway or in its routes")
	case c.teamAt(a.Origin) != nil:
		t := c.teamAt(a.Origin)
		c.notYours(a.Origin, path+".authenticate", t.At, fmt.Sprintf("team %s may not say who is let in at a gateway", t.Name),
			"authenticate in bundle "+MainBundle)
	}
}

// claimed: conditions on claims hold only where the gateway asks for a token before its
// routes are looked at.
func (c *checker) claimed(g *Gateway, path string) {
	if g.Authenticate != nil && g.Authenticate.JWT != nil {
		return
	}
	for i, rt := range g.Routes {
		if slices.ContainsFunc(rt.When, Condition.asksForClaims) {
			c.mistake(rt.At, fmt.Sprintf("%s.routes[%d].when", path, i), CodeBadValue,
				fmt.Sprintf("gateway %s asks for no token, so no request has claims when its routes are looked at", g.Name),
				"authenticate: {jwt: …} in the gateway; with optional: true requests without a token are let in")
		}
	}
}

// ofMembers: access rules are asked beside the called workload, where an outsider's address
// and claims are not known.
func (c *checker) ofMembers(what *Condition, path string) {
	if len(what.Addresses)+len(what.Claims) > 0 {
		c.mistake(what.At, path, CodeBadValue, "access rules are about members of the mesh, not about addresses or claims of outsiders",
			"authenticate with require at a gateway, or address and claims in the routes")
	}
	for _, group := range [][]Condition{what.Any, what.All, what.Not} {
		for i := range group {
			c.ofMembers(&group[i], path)
		}
	}
}
