package rules

import (
	"fmt"
	"slices"
	"strings"
)

// teams checks that every bundle keeps to what its team may do.
func (c *checker) teams() {
	if len(c.rules.Teams) == 0 {
		return
	}
	for _, t := range c.rules.Teams {
		c.team(t)
	}
	for _, s := range c.rules.again {
		c.declares(s.At, "services."+s.Name, "service "+s.Name, s.Name)
	}
	for _, s := range c.rules.Services {
		c.declares(s.At, "services."+s.Name, "service "+s.Name, s.Name)
		if t := c.teamAt(s.CallsAt); t != nil {
			for _, name := range s.Calls {
				c.maySend(t, s.CallsAt, "services."+s.Name+".calls", name)
			}
		}
		c.sends(s.Routes, "services."+s.Name)
	}
	for _, g := range c.rules.Gateways {
		if t := c.teamAt(g.At); t != nil {
			c.notYours(g.At, "gateways."+g.Name, t.At, fmt.Sprintf("team %s may not open gateway %s", t.Name, g.Name),
				"routes of a gateway that the platform declares")
		}
		c.sends(g.Routes, "gateways."+g.Name)
	}
	for _, r := range c.rules.Releases {
		c.declares(r.At, "releases."+r.Name, "release "+r.Name+" of service "+r.Service, r.Service)
	}
	c.platformAlone()
	c.teamAccess()
	c.teamTrials()
}

// teamAt is the team whose bundle something is in; nil: it is the platform's.
func (c *checker) teamAt(o Origin) *Team {
	if o == (Origin{}) {
		return nil
	}
	return c.rules.TeamOfBundle(o.Bundle())
}

func (c *checker) notYours(at Origin, path string, also Origin, msg, expected string) {
	c.add(Finding{
		Severity: Mistake, Code: CodeNotYours, At: at, Path: path, Also: place(also), Message: msg, Expected: expected,
	})
}

// team checks what the platform says of a team.
func (c *checker) team(t *Team) {
	path := "teams." + t.Name
	for _, name := range t.Offers {
		if !slices.Contains(t.Services, name) {
			c.mistake(t.OffersAt, path+".offers", CodeBadValue, fmt.Sprintf("team %s offers %s, which is not its own", t.Name, name),
				OneOf(name, t.Services))
		}
	}
	for _, name := range t.Uses {
		if owner := c.rules.TeamOf(name); owner != nil && owner != t && !slices.Contains(owner.Offers, name) {
			c.notOffered(t.UsesAt, path+".uses", owner, name, t)
		}
	}
	for i := range t.Gateways {
		c.knownGateway(t.Gateways[i].At, path+".gateways", t.Gateways[i].Gateway)
	}
}

func (c *checker) notOffered(at Origin, path string, owner *Team, name string, to *Team) {
	also := owner.OffersAt
	if also == (Origin{}) {
		also = owner.At
	}
	c.add(Finding{
		Severity: Mistake, Code: CodeNotOffered, At: at, Path: path, Also: place(also),
		Message:  fmt.Sprintf("service %s is of team %s, which does not offer it to team %s", name, owner.Name, to.Name),
		Expected: "offers: [" + strings.Join(append(slices.Clone(owner.Offers), name), ", ") + "] of team " + owner.Name,
	})
}

// declares checks that a service is declared, or released, by its team alone.
func (c *checker) declares(at Origin, path, what, service string) {
	owner, by := c.rules.TeamOf(service), c.teamAt(at)
	switch {
	case owner == by:
	case owner == nil:
		c.notYours(at, path, by.ServicesAt, fmt.Sprintf("%s is not of team %s, whose bundle this is", what, by.Name),
			OneOf(service, by.Services))
	default:
		c.notYours(at, path, owner.ServicesAt, fmt.Sprintf("%s is of team %s", what, owner.Name),
			"it in "+bundlesOf(owner))
	}
}

func bundlesOf(t *Team) string {
	if len(t.Bundles) == 0 {
		return "a bundle of team " + t.Name + ", which has none"
	}
	return "bundle " + strings.Join(t.Bundles, " or ")
}

// sends checks the targets of routes that teams wrote.
func (c *checker) sends(routes []*Route, path string) {
	for i, rt := range routes {
		t := c.teamAt(rt.At)
		if t == nil {
			continue
		}
		p := fmt.Sprintf("%s.routes[%d]", path, i)
		for j := range rt.Send {
			c.maySend(t, rt.Send[j].At, p+".send", rt.Send[j].Service)
		}
		if rt.Otherwise != nil {
			c.maySend(t, rt.Otherwise.At, p+".otherwise", rt.Otherwise.Service)
		}
		if rt.Mirror != nil {
			c.maySend(t, rt.Mirror.To.At, p+".mirror", rt.Mirror.To.Service)
		}
	}
}

// maySend checks that a team may send to a service.
func (c *checker) maySend(t *Team, at Origin, path, service string) {
	if service == "" || slices.Contains(t.Services, service) {
		return
	}
	if owner := c.rules.TeamOf(service); owner != nil && !slices.Contains(owner.Offers, service) {
		c.notOffered(at, path, owner, service, t)
		return
	}
	if slices.Contains(t.Uses, service) {
		return
	}
	also := t.UsesAt
	if also == (Origin{}) {
		also = t.At
	}
	c.add(Finding{
		Severity: Mistake, Code: CodeNotOffered, At: at, Path: path, Also: place(also),
		Message:  fmt.Sprintf("team %s may not send to service %s", t.Name, service),
		Expected: fmt.Sprintf("%s, or uses: [%s] of team %s", OneOf(service, t.reach()), service, t.Name),
	})
}

// platformAlone checks that no team sets what holds for everybody.
func (c *checker) platformAlone() {
	check := func(at Origin, path, what string) {
		if t := c.teamAt(at); t != nil {
			c.notYours(at, path, t.At, fmt.Sprintf("%s of the whole mesh in a bundle of team %s", what, t.Name),
				"it in bundle "+MainBundle)
		}
	}
	if d := c.rules.Defaults; d != nil {
		for _, set := range d.All() {
			check(set.Where(), "defaults."+set.Name, set.Name)
		}
	}
	for _, s := range c.rules.Sites {
		check(s.At, "sites", "a site")
	}
	if a := c.rules.Access; a != nil {
		check(a.DefaultAt, "access.default", "the default of access")
		check(a.WatchAt, "access.mode", "the mode of access")
	}
}

// teamAccess checks that access rules of a team are about its own services.
func (c *checker) teamAccess() {
	a := c.rules.Access
	if a == nil {
		return
	}
	for i := range a.Rules {
		rule := &a.Rules[i]
		path := fmt.Sprintf("access.rules[%d].to", i)
		for _, p := range slices.Concat(rule.From, rule.To) {
			if p.Kind == PartyTeam && c.rules.Team(p.Name) == nil {
				c.add(c.rules.unknownTeam(rule.At, fmt.Sprintf("access.rules[%d]", i), p.Name))
			}
		}
		t := c.teamAt(rule.At)
		if t == nil {
			continue
		}
		isOwn := len(rule.To) > 0 && !slices.ContainsFunc(rule.To, func(p Party) bool {
			return !(p.Kind == PartyService && slices.Contains(t.Services, p.Name) || p.Kind == PartyTeam && p.Name == t.Name)
		})
		if !isOwn {
			c.notYours(rule.At, path, t.ServicesAt, fmt.Sprintf("access rule %s is about more than services of team %s",
				rule.Name, t.Name), "to: ["+strings.Join(t.Services, ", ")+"]")
		}
	}
}

// unknownTeam is the finding that something names a team that is not there.
func (r *Rules) unknownTeam(at Origin, path, name string) Finding {
	var names []string
	for _, t := range r.Teams {
		names = append(names, t.Name)
	}
	return Finding{
		Severity: Mistake, Code: CodeUnknownTeam, At: at, Path: path,
		Message: "the section teams has no team " + name, Expected: OneOf(name, names),
	}
}

// teamTrials checks that trials of a team break and load what it may.
func (c *checker) teamTrials() {
	for _, tr := range c.rules.Trials {
		t := c.teamAt(tr.At)
		if t == nil {
			continue
		}
		path := "trials." + tr.Name
		if d := tr.Drill; d != nil && !slices.Contains(t.Services, d.Service) {
			c.notYours(tr.At, path+".drill", t.ServicesAt, fmt.Sprintf("the drill of trial %s is not of a service of team %s",
				tr.Name, t.Name), OneOf(d.Service, t.Services))
		}
		for i := range tr.Load {
			l := &tr.Load[i]
			if l.From != "" && !slices.Contains(t.Services, l.From) {
				c.notYours(l.At, path+".load", t.ServicesAt, fmt.Sprintf("trial %s sends as %s, which is not of team %s",
					tr.Name, l.From, t.Name), OneOf(l.From, t.Services))
			}
			if c.services[l.To] != nil {
				c.maySend(t, l.At, path+".load", l.To)
			}
		}
	}
}

// places checks that the places in the ladders of gateways are of teams.
func (c *common) places() {
	for _, g := range c.rules.Gateways {
		for i, rt := range g.Routes {
			if !rt.isPlace || rt.Team == "" || c.rules.Team(rt.Team) != nil {
				continue
			}
			path := fmt.Sprintf("gateways.%s.routes[%d]", g.Name, i)
			c.findings = append(c.findings, c.rules.unknownTeam(rt.At, path, rt.Team))
		}
	}
}
