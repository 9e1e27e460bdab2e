package rules

import (
	"fmt"
	"maps"
	"slices"
)

// accessParties checks that the parties of access rules are declared.
func (c *checker) accessParties() {
	a := c.rules.Access
	if a == nil {
		return
	}
	for i, rule := range a.Rules {
		path := fmt.Sprintf("access.rules[%d]", i)
		for _, p := range rule.From {
			switch p.Kind {
			case PartyService:
				if c.whole && c.services[p.Name] == nil && c.rules.Gateway(p.Name) != nil {
					c.mistake(rule.At, path+".from", CodeUnknownService, p.Name+" is a gateway", "gateway/"+p.Name)
					continue
				}
				c.knownService(rule.At, path+".from", p.Name)
			case PartyGateway:
				c.knownGateway(rule.At, path+".from", p.Name)
			case PartySite:
				c.knownSite(rule.At, path+".from", p.Name)
			case PartyLabels:
				c.knownLabels(rule.At, path+".from", p.Labels)
			}
		}
		for _, p := range rule.To {
			switch p.Kind {
			case PartyLabels:
				c.knownLabels(rule.At, path+".to", p.Labels)
				continue
			case PartyTeam:
				continue // see teamAccess
			}
			c.knownService(rule.At, path+".to", p.Name)
		}
		c.condition(&rule.What, path)
		c.ofMembers(&rule.What, path)
	}
}

// knownGateway reports a gateway that nothing declares.
func (c *checker) knownGateway(at Origin, path, name string) {
	if c.whole && c.gateways[name] == nil {
		c.mistake(at, path, CodeUnknownService, "no gateway "+name+" is declared",
			c.oneOf(name, "gateway", func() []string { return slices.Collect(maps.Keys(c.gateways)) }))
	}
}

// knownLabels reports labels that no service has.
func (c *checker) knownLabels(at Origin, path string, want Labels) {
	if !c.whole || slices.ContainsFunc(c.rules.Services, func(s *Service) bool { return want.Within(s.Labels) }) {
		return
	}
	c.mistake(at, path, CodeUnknownLabels, fmt.Sprintf("no service has the labels %s", want), c.nearLabels(want))
}

// accessRules warns of access rules that can never decide, and of those that allow what
// the caller's own list of calls leaves out.
func (c *checker) accessRules() {
	a := c.rules.Access
	if a == nil {
		return
	}
	looks := 0
	for i := range a.Rules {
		rule, path := &a.Rules[i], fmt.Sprintf("access.rules[%d]", i)
		for j := range a.Rules[:i] {
			if looks++; looks > maxLooks {
				break
			}
			if earlier := &a.Rules[j]; earlier.covers(rule) {
				c.warn(
					rule.At,
					path,
					CodeShadowed,
					fmt.Sprintf(
						"access rule %s never decides: the earlier rule %s decides all that it could",
						rule.Name,
						earlier.Name,
					),
					"the more specific rule first",
					earlier.At,
				)
				break
			}
		}
		if rule.Allow {
			c.excluded(rule, path)
			c.unproven(rule, path)
		}
	}
}

func (p *Party) isSame(other *Party) bool {
	return p.Kind == other.Kind && p.Name == other.Name && maps.Equal(p.Labels, other.Labels)
}

// covers tells whether a rule decides every request that a later one could.
func (r *AccessRule) covers(later *AccessRule) bool {
	all := func(mine, theirs []Party) bool {
		if len(mine) == 0 || slices.ContainsFunc(mine, func(p Party) bool { return p.Kind == PartyAnyone }) {
			return true
		}
		return len(theirs) > 0 && !slices.ContainsFunc(theirs, func(p Party) bool {
			return !slices.ContainsFunc(mine, func(m Party) bool { return m.isSame(&p) })
		})
	}
	if r.Watch && !r.Allow || !all(r.From, later.From) || !all(r.To, later.To) || r.Port != 0 && r.Port != later.Port {
		return false
	}
	return implies(&later.What, &r.What)
}

// unproven warns of a permission for callers that cannot be told from others, since the
// service asks nobody for an identity.
func (c *checker) unproven(rule *AccessRule, path string) {
	if len(rule.From) == 0 || slices.ContainsFunc(rule.From, func(p Party) bool { return p.Kind == PartyAnyone }) {
		return
	}
	for _, s := range c.rules.Services {
		if len(rule.To) == 0 || len(s.Instances) > 0 || !Fits(rule.To, c.rules, s.Name, nil) {
			continue
		}
		if set := c.resolver.Service(s).Identity; set != nil && set.Mode == IdentityNone {
			c.warn(
				rule.At,
				path,
				CodeUnproven,
				fmt.Sprintf(
					"access rule %s lets %s call %s, which asks nobody for an identity (identity: none), so it lets nobody in",
					rule.Name,
					Parties(rule.From, "anyone"),
					s.Name,
				),
				"from: [anyone], or identity: required",
				set.Origin,
			)
		}
	}
}

// excluded warns of a permission that a caller's own list of calls leaves without use.
func (c *checker) excluded(rule *AccessRule, path string) {
	for _, from := range rule.From {
		s := c.services[from.Name]
		if from.Kind != PartyService || s == nil || !s.isLimited() {
			continue
		}
		for _, to := range rule.To {
			if to.Kind == PartyService && !s.calls(to.Name) {
				c.warn(
					rule.At,
					path,
					CodeExcluded,
					fmt.Sprintf(
						"access rule %s lets %s call %s, and the calls of %s leave it out",
						rule.Name,
						s.Name,
						to.Name,
						s.Name,
					),
					to.Name+" in the calls of "+s.Name+", or no such rule",
					s.CallsAt,
				)
			}
		}
	}
}
