package access

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/core/rules"
	"nightjar/store"
)

// Matrix is who may call whom, who did, and who was refused: of the links between a
// caller and a service (empty: any) that rules or requests speak of.
func (a *Access) Matrix(ctx context.Context, from, to string) (model.AccessMatrix, error) {
	rows, err := a.seen(ctx)
	if err != nil {
		return model.AccessMatrix{}, err
	}
	now := a.Current()
	m := model.AccessMatrix{
		Revision: now.Revision.Number,
		Default:  "allow",
		Days:     keptDays,
		Links:    []model.AccessLink{},
	}
	if s := now.Rules.Access; s != nil {
		m.Default, m.IsWatching, m.HasRules = s.Default, s.Watch, true
	}
	links := map[[2]string]*model.AccessLink{}
	link := func(caller, service string) *model.AccessLink {
		k := [2]string{caller, service}
		if links[k] == nil {
			links[k] = &model.AccessLink{From: caller, To: service, Rules: []string{}}
		}
		return links[k]
	}
	m.Unproven = unprovenOf(rows, from, to)
	for _, r := range rows {
		if r.Outcome == unproven {
			continue
		}
		l := link(r.Caller, r.Service)
		switch r.Outcome {
		case used, plain:
			l.Used += r.Requests
			if r.Last.After(l.LastUsed) {
				l.LastUsed = r.Last
			}
		case denied, unknown:
			l.Refused += r.Requests
			if r.Last.After(l.LastRefused) {
				l.LastRefused = r.Last
			}
		case watched:
			l.Watched += r.Requests
		}
	}
	a.permitted(now.Rules, link)
	resolver := rules.NewResolver(now.Rules)
	for k, l := range links {
		name := strings.TrimPrefix(k[0], rules.PartyGateway+"/")
		if from != "" && from != k[0] && from != name || to != "" && to != k[1] || now.Rules.Service(k[1]) == nil {
			continue
		}
		switch {
		case k[0] == fleet.ServiceCaller:
			l.State, l.Rules = rules.Permitted, []string{}
		case k[0] != "":
			l.State, l.Rules = now.Rules.Permission(rules.Link{From: name, To: k[1], Sites: a.Sites(name)})
			l.Rules = append([]string{}, l.Rules...)
		default:
			l.State, _ = now.Rules.Permission(rules.Link{To: k[1]})
		}
		if called := now.Rules.Service(k[1]); len(called.Instances) == 0 { // else it is outside, where nobody is asked
			l.Identity = resolver.Service(called).IdentityMode()
		}
		if l.Identity == rules.IdentityRequired && l.From == "" {
			l.State = rules.Forbidden
		}
		if l.Identity == rules.IdentityNone && l.From == "" {
			continue // nobody there is asked: the counts of callers that are members have them
		}
		m.Links = append(m.Links, *l)
	}
	slices.SortFunc(m.Links, func(x, y model.AccessLink) int {
		return cmp.Or(cmp.Compare(x.To, y.To), cmp.Compare(x.From, y.From))
	})
	return m, nil
}

// unprovenOf is who called without an identity where one is asked for.
func unprovenOf(rows []store.AccessSeen, from, to string) []model.UnprovenCaller {
	type place struct{ service, address string }
	found := map[place]*model.UnprovenCaller{}
	for _, r := range rows {
		if r.Outcome != unproven || from != "" || to != "" && to != r.Service {
			continue
		}
		k := place{r.Service, r.Rule}
		if found[k] == nil {
			found[k] = &model.UnprovenCaller{Service: r.Service, Address: r.Rule}
		}
		found[k].Requests += r.Requests
		if r.Last.After(found[k].LastUsed) {
			found[k].LastUsed = r.Last
		}
	}
	out := make([]model.UnprovenCaller, 0, len(found))
	for _, one := range found {
		out = append(out, *one)
	}
	slices.SortFunc(out, func(x, y model.UnprovenCaller) int {
		return cmp.Or(
			cmp.Compare(x.Service, y.Service),
			y.LastUsed.Compare(x.LastUsed),
			cmp.Compare(x.Address, y.Address),
		)
	})
	return out
}

// permitted adds the links that rules allow by name, used or not.
func (a *Access) permitted(rs *rules.Rules, link func(caller, service string) *model.AccessLink) {
	if rs.Access == nil {
		return
	}
	callers := map[string]bool{} // as rules write them
	for _, s := range rs.Services {
		if len(s.Instances) == 0 {
			callers[s.Name] = true
		}
	}
	for _, g := range rs.Gateways {
		callers[rules.PartyGateway+"/"+g.Name] = true
	}
	for i := range rs.Access.Rules {
		rule := &rs.Access.Rules[i]
		if !rule.Allow || len(rule.From) == 0 || len(rule.To) == 0 ||
			slices.ContainsFunc(rule.From, func(p rules.Party) bool { return p.Kind == rules.PartyAnyone }) {
			continue
		}
		for caller := range callers {
			name := strings.TrimPrefix(caller, rules.PartyGateway+"/")
			if !rules.Fits(rule.From, rs, name, a.Sites(name)) {
				continue
			}
			for _, s := range rs.Services {
				if s.Name != name && rules.Fits(rule.To, rs, s.Name, nil) {
					link(caller, s.Name)
				}
			}
		}
	}
}
