package rules

import (
	"fmt"
	"slices"
	"strings"
)

// MainBundle is the bundle of the platform, which says what each team may do. Of files of
// another one, the name begins with the bundle's and a colon.
const MainBundle = "main"

// Team is one entry of the section `teams`: who has which bundles, and what those may do.
type Team struct {
	Name     string        `json:"name"`
	Bundles  []string      `json:"bundles,omitempty"`
	Services []string      `json:"services,omitempty"` // that only its bundles declare and release
	Offers   []string      `json:"offers,omitempty"`   // of these, what others may send to
	Uses     []string      `json:"uses,omitempty"`     // what it may send to, besides its own
	Gateways []GatewayPart `json:"gateways,omitempty"` // what of an edge it routes
	At       Origin        `json:"at"`

	// Where each list is written; the zero Origin: it is not.
	BundlesAt  Origin `json:"bundlesAt,omitzero"`
	ServicesAt Origin `json:"servicesAt,omitzero"`
	OffersAt   Origin `json:"offersAt,omitzero"`
	UsesAt     Origin `json:"usesAt,omitzero"`
}

// GatewayPart is the part of a gateway that a team may route: requests for any of the
// hosts with any of the paths.
type GatewayPart struct {
	Gateway string   `json:"gateway"`
	Hosts   []string `json:"hosts,omitempty"` // none: all of the gateway
	Paths   []string `json:"paths,omitempty"` // none: all
	At      Origin   `json:"at"`
}

// when is the part as conditions, any of which holds; none: all requests.
func (p *GatewayPart) when() []Condition {
	var out []Condition
	for _, path := range p.Paths {
		out = append(out, Condition{Path: path, Hosts: p.Hosts, At: p.At})
	}
	if len(p.Paths) == 0 && len(p.Hosts) > 0 {
		out = append(out, Condition{Hosts: p.Hosts, At: p.At})
	}
	return out
}

// String is the part in words.
func (p *GatewayPart) String() string {
	if when := p.when(); len(when) > 0 {
		return describeAll(when, "; or ")
	}
	return "every request"
}

// Team returns the team of that name, or nil.
func (r *Rules) Team(name string) *Team {
	return r.teamWhere(func(t *Team) bool { return t.Name == name })
}

// TeamOf returns the team that a service belongs to; nil: it belongs to none.
func (r *Rules) TeamOf(service string) *Team {
	return r.teamWhere(func(t *Team) bool { return slices.Contains(t.Services, service) })
}

// TeamOfBundle returns the team that has a bundle; nil: it is the platform's.
func (r *Rules) TeamOfBundle(bundle string) *Team {
	return r.teamWhere(func(t *Team) bool { return slices.Contains(t.Bundles, bundle) })
}

func (r *Rules) teamWhere(fits func(*Team) bool) *Team {
	if i := slices.IndexFunc(r.Teams, fits); i >= 0 {
		return r.Teams[i]
	}
	return nil
}

// Bundle is the bundle in which something was written.
func (o Origin) Bundle() string {
	if name, _, isOther := strings.Cut(o.File, ":"); isOther {
		return name
	}
	return MainBundle
}

// gateway is the part of a gateway that the team routes; nil: none.
func (t *Team) gateway(name string) *GatewayPart {
	for i := range t.Gateways {
		if t.Gateways[i].Gateway == name {
			return &t.Gateways[i]
		}
	}
	return nil
}

// reach is what the team's services may send to.
func (t *Team) reach() []string {
	out := slices.Concat(t.Services, t.Uses)
	slices.Sort(out)
	return slices.Compact(out)
}

// MayCall is the services that a service may send to: those that it declares or, when it
// declares none, those of its team. isLimited is false when it may send to any.
func (s *Service) MayCall() (names []string, isLimited bool) {
	if s.Calls != nil {
		return s.Calls, true
	}
	return s.Reach, s.Team != ""
}

func (s *Service) isLimited() bool { _, is := s.MayCall(); return is }

// calls tells whether a service is among those that it may send to.
func (s *Service) calls(name string) bool {
	names, _ := s.MayCall()
	return slices.Contains(names, name)
}

// written is routes of a team for a gateway, as its bundle has them.
type written struct {
	gateway string
	routes  []*Route
	at      Origin
	path    string
	missing []Finding // what it lacks to be a gateway of its own
	keys    []Origin  // of what only a whole gateway may have
}

// join gives everything its team, and puts the routes of teams into the ladders of the
// gateways, where the platform has their places.
func (r *common) join() {
	rs := r.rules
	for _, s := range rs.Services {
		if t := rs.TeamOf(s.Name); t != nil {
			s.Team, s.Reach = t.Name, t.reach()
		}
	}
	for _, p := range rs.Policies {
		if t := rs.TeamOfBundle(p.At.Bundle()); t != nil {
			p.Team = t.Name
		}
	}
	for _, p := range r.parts {
		r.joinPart(p)
	}
	if rs.Access != nil {
		for i := range rs.Access.Rules {
			rule := &rs.Access.Rules[i]
			for _, list := range [][]Party{rule.From, rule.To} {
				for j := range list {
					if t := rs.Team(list[j].Name); list[j].Kind == PartyTeam && t != nil {
						list[j].Names = append([]string{}, t.Services...)
					}
				}
			}
		}
	}
	for _, g := range rs.Gateways {
		g.Routes = slices.DeleteFunc(g.Routes, func(rt *Route) bool { return rt.isPlace })
	}
}

// joinPart puts the routes of one bundle into the ladder of a gateway.
func (r *common) joinPart(p written) {
	rs := r.rules
	team := rs.TeamOfBundle(p.at.Bundle())
	if team == nil {
		r.findings = append(r.findings, p.missing...)
		return
	}
	no := func(at Origin, also Origin, msg, expected string) {
		r.findings = append(r.findings, Finding{
			Severity: Mistake, Code: CodeNotYours, At: at, Path: p.path, Message: msg, Expected: expected, Also: place(also),
		})
	}
	for _, at := range p.keys {
		no(at, team.At, fmt.Sprintf("team %s routes a part of gateway %s, and may set its routes alone", team.Name, p.gateway),
			"routes")
	}
	granted := team.gateway(p.gateway)
	if granted == nil {
		no(p.at, team.At, fmt.Sprintf("team %s may route nothing at gateway %s", team.Name, p.gateway),
			fmt.Sprintf("gateways: {%s: {…}} of team %s in bundle %s", p.gateway, team.Name, MainBundle))
		return
	}
	g := rs.Gateway(p.gateway)
	if g == nil {
		return // the platform's files say so
	}
	at := slices.IndexFunc(g.Routes, func(rt *Route) bool { return rt.isPlace && rt.Team == team.Name })
	if at < 0 {
		no(p.at, g.At, fmt.Sprintf("the ladder of gateway %s has no place for team %s", p.gateway, team.Name),
			"- team: "+team.Name+" among its routes")
		return
	}
	names := map[string]Origin{}
	for _, rt := range g.Routes {
		names[rt.Name] = rt.At
	}
	var joined []*Route
	for _, rt := range p.routes {
		if before, twice := names[rt.Name]; twice && rt.Name != "" {
			r.findings = append(r.findings, Finding{
				Severity: Mistake, Code: CodeDeclaredTwice, At: rt.At, Path: p.path, Also: &before,
				Message:  "route " + rt.Name + " is declared twice at gateway " + p.gateway,
				Expected: "another name for this one",
			})
			continue
		}
		rt.Team = team.Name
		for i := range rt.When {
			if c := &rt.When[i]; !c.broken && !granted.meets(c) {
				no(c.At, granted.At, fmt.Sprintf("route %s takes requests that team %s may not route at gateway %s",
					rt.Name, team.Name, p.gateway), granted.String())
			}
		}
		rt.When = granted.narrow(rt.When)
		joined = append(joined, rt)
	}
	g.Routes = slices.Insert(g.Routes, at, joined...)
}

// place is an Origin that a finding also names.
func place(o Origin) *Origin {
	if o == (Origin{}) {
		return nil
	}
	return &o
}

// meets tells whether some request could fulfil a condition and belong to the part. It
// may say yes where the truth is no.
func (p *GatewayPart) meets(c *Condition) bool {
	isHost := len(p.Hosts) == 0 || len(c.Hosts) == 0 || slices.ContainsFunc(c.Hosts, func(h string) bool {
		return slices.ContainsFunc(p.Hosts, func(g string) bool { return hostCovers(g, h) || hostCovers(h, g) })
	})
	isPath := len(p.Paths) == 0 || c.Path == "" || slices.ContainsFunc(p.Paths, func(g string) bool {
		return pathsMeet(g, c.Path)
	})
	return isHost && isPath
}

// pathsMeet tells whether a path can be one that both a and b mean.
func pathsMeet(a, b string) bool {
	as, bs := strings.Split(a, "/")[1:], strings.Split(b, "/")[1:]
	for i := 0; ; i++ {
		switch {
		case i < len(as) && as[i] == "**", i < len(bs) && bs[i] == "**":
			return true
		case i >= len(as) || i >= len(bs):
			return len(as) == len(bs)
		case as[i] != bs[i] && as[i] != "*" && bs[i] != "*":
			return false
		}
	}
}

// narrow is conditions of a route as they hold within the part.
func (p *GatewayPart) narrow(when []Condition) []Condition {
	granted := p.when()
	if len(granted) == 0 {
		return when
	}
	if len(when) == 0 {
		return granted
	}
	out := make([]Condition, 0, len(when))
	for i := range when {
		w := &when[i]
		isWithin := slices.ContainsFunc(granted, func(g Condition) bool { return implies(w, &g) })
		if isWithin || w.broken {
			out = append(out, *w)
			continue
		}
		if both, ok := bothOf(w, granted); ok {
			out = append(out, both...)
			continue
		}
		out = append(out, Condition{All: []Condition{*w}, Any: granted, At: w.At})
	}
	return out
}

// bothOf is a condition with each of the granted ones, where that can be written without
// a group.
func bothOf(w *Condition, granted []Condition) (out []Condition, ok bool) {
	for _, g := range granted {
		both := *w
		switch {
		case w.Path == "" && w.PathRegex == "":
			both.Path = g.Path
		case g.Path == "" || w.Path != "" && pathCovers(g.Path, w.Path):
		case w.Path != "" && !pathsMeet(g.Path, w.Path):
			continue
		default:
			return nil, false
		}
		isCovered := !slices.ContainsFunc(w.Hosts, func(h string) bool {
			return !slices.ContainsFunc(g.Hosts, func(of string) bool { return hostCovers(of, h) })
		})
		switch {
		case len(w.Hosts) == 0:
			both.Hosts = g.Hosts
		case len(g.Hosts) > 0 && !isCovered:
			return nil, false
		}
		out = append(out, both)
	}
	return out, len(out) > 0
}
