package rules

import (
	"maps"
	"slices"
	"strings"
)

// Undeclared stands for all services that run and are not declared, in what Touched lists.
const Undeclared = "(undeclared)"

// GatewayName is a gateway in what Touched lists: gateway/NAME.
func GatewayName(name string) string { return PartyGateway + "/" + name }

// Touched lists what requests to a service, or through a gateway, notice of a change from
// one rule set to another: services by name and gateways as GatewayName, whose versions,
// routes, settings or permissions differ in what holds, and the services that a route that
// differs sends to. It is sorted. What neither changes is not in it, however many layers
// of the rules were moved.
func Touched(before, after *Rules) []string {
	out := map[string]bool{}
	old, now := holdingsOf(before), holdingsOf(after)
	for name := range union(old, now) {
		was, is := old[name], now[name]
		if was == nil {
			was = old[Undeclared] // it may have run without being declared
		}
		if is == nil {
			is = now[Undeclared]
		}
		if was == nil || is == nil || was.own != is.own {
			out[name] = true
		}
		for route := range union(routesOf(was), routesOf(is)) {
			w, i := routesOf(was)[route], routesOf(is)[route]
			if w.text == i.text {
				continue
			}
			out[name] = true
			for _, to := range slices.Concat(w.to, i.to) {
				out[to] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(out))
}

func union[V any](a, b map[string]V) map[string]bool {
	out := map[string]bool{}
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}

// heldBy is what holds for a service or a gateway.
type heldBy struct {
	own    string // apart from its routes
	routes map[string]heldRoute
}

type heldRoute struct {
	text string
	to   []string // services that it sends to
}

func routesOf(h *heldBy) map[string]heldRoute {
	if h == nil {
		return nil
	}
	return h.routes
}

// holdingsOf is what holds for each service and gateway of a rule set, as text that is
// the same when the meaning is.
func holdingsOf(rs *Rules) map[string]*heldBy {
	resolver, access := NewResolver(rs), rs.Access.about(rs.Services)
	out := map[string]*heldBy{}
	crossings := ""
	for _, s := range rs.Sites { // any service may have instances there
		if s.Crossing != "" {
			crossings += s.Name + " by " + s.Crossing + "\n"
		}
	}
	values := func(list []Holding) string {
		var b strings.Builder
		for _, h := range list {
			b.WriteString(h.Name + "=" + h.Value + "\n")
		}
		return b.String()
	}
	held := func(s *Service, home string, routes []*Route) *heldBy {
		h := &heldBy{routes: map[string]heldRoute{}}
		for i, rt := range routes {
			var r heldRoute
			var b strings.Builder
			// What comes before decides which requests are left for a route.
			if i > 0 {
				b.WriteString("after " + routes[i-1].Name + "\n")
			}
			b.WriteString(describeAll(rt.When, "; or ") + "\n" + SendText(rt.Send, home) + "\n")
			for _, a := range rt.Actions(home) {
				b.WriteString(a.Name + ": " + a.Value + "\n")
			}
			own := resolver.Route(s, rt) // the rest is what holds for the services that it sends to
			for _, set := range own.All() {
				b.WriteString(set.Name + "=" + set.String() + "\n")
			}
			for _, t := range rt.Send {
				r.to = append(r.to, t.Service)
			}
			if rt.Otherwise != nil {
				r.to = append(r.to, rt.Otherwise.Service)
			}
			r.text = b.String()
			h.routes[rt.Name] = r
		}
		return h
	}
	for _, s := range rs.Services {
		h := held(s, s.Name, s.Routes)
		var b strings.Builder
		b.WriteString(s.Protocol + "\n" + strings.Join(s.Versions, ", ") + "\n" + crossings)
		for _, in := range s.Instances {
			b.WriteString(in.URL + " " + in.Version + " " + in.Site + "\n")
		}
		b.WriteString(values(resolver.ServiceHoldings(s)) + access[s.Name])
		h.own = b.String()
		out[s.Name] = h
	}
	out[Undeclared] = &heldBy{own: "\n\n" + crossings + values(resolver.ServiceHoldings(nil)) + access[Undeclared]}
	for _, g := range rs.Gateways {
		h := held(nil, "", g.Routes)
		h.own = g.Listen + "\n" + strings.Join(g.Hosts, ", ") + "\n"
		for _, c := range g.TLS {
			h.own += c.Cert + " " + c.Key + "\n"
		}
		out[GatewayName(g.Name)] = h
	}
	return out
}

// about is what access rules say of calls to each service, as text; under Undeclared, of
// those that are not declared.
func (a *Access) about(services []*Service) map[string]string {
	out := map[string]string{}
	if a == nil {
		return out
	}
	add := func(name, text string) { out[name] += text + "\n" }
	everybody := func(text string) {
		for _, s := range services {
			add(s.Name, text)
		}
		add(Undeclared, text)
	}
	everybody(modeOf(a.Watch) + a.Default)
	for i := range a.Rules {
		r := &a.Rules[i]
		text := modeOf(r.Watch) + r.Describe()
		isForAll := len(r.To) == 0 || slices.ContainsFunc(r.To, func(p Party) bool {
			return p.Kind == PartyAnyone || p.Kind == PartySite
		})
		if isForAll {
			everybody(text)
			continue
		}
		to := map[string]bool{}
		for _, p := range r.To {
			switch p.Kind {
			case PartyLabels:
			case PartyTeam:
				for _, name := range p.Names {
					to[name] = true
				}
				continue
			default:
				to[p.Name] = true
				continue
			}
			for _, s := range services {
				to[s.Name] = to[s.Name] || p.Labels.Within(s.Labels)
			}
		}
		for name, isMeant := range to {
			if isMeant {
				add(name, text)
			}
		}
	}
	return out
}
