package engine

import (
	"fmt"
	"slices"

	"nightjar/core/rules"
)

// Party is who calls, as access rules see it. Make one with NewParty, once for all its
// requests.
type Party struct {
	key  string // NAME or gateway/NAME
	Site string
	// IsNode: it is the service itself, whose requests are always let in: people send them
	// to see what a workload answers.
	IsNode bool
}

// NewParty is a caller: a service, or a gateway; without a name nobody knows who.
func NewParty(name string, isGateway bool, site string) Party {
	if isGateway {
		name = rules.PartyGateway + "/" + name
	}
	return Party{key: name, Site: site}
}

// String is the party as access rules write it; empty: nobody knows who it is.
func (p Party) String() string { return p.key }

// Verdict is what the access rules say of a request.
type Verdict struct {
	Denied  bool
	Watched bool              // it would be denied, and is let in, since that is only watched
	Rule    *rules.AccessRule // that decided; nil: the default did
	At      rules.Origin      // of the rule, or of the section
}

// access is the compiled section of the rules.
type access struct {
	section *rules.Access
	byTo    map[string]*entrance // by the service that is called
	others  *entrance            // of services that no rule names
}

// entrance is the rules about calls to one service.
type entrance struct {
	byFrom map[string][]*accessRule // by the caller, where rules name it; in the order of the rules
	others []*accessRule            // for callers that no rule names
}

// accessRule is a compiled rule. Whether it is about a caller and a service by name is
// known by where it stands; sites are compared.
type accessRule struct {
	rule  *rules.AccessRule
	cond  *condition // nil: all requests
	sites []string   // of the caller, one of which lets the rule apply; nil: it does anyway
	named map[string]bool
	any   bool // it is about every caller
}

// newAccess compiles the section; services are those whose labels count.
func newAccess(a *rules.Access, services []*rules.Service) (*access, error) {
	if a == nil {
		return nil, nil
	}
	labels := map[string]rules.Labels{}
	for _, s := range services {
		labels[s.Name] = s.Labels
	}
	all := make([]*accessRule, len(a.Rules))
	tos := make([]map[string]bool, len(a.Rules)) // nil: all services
	for i := range a.Rules {
		r, err := newAccessRule(&a.Rules[i], labels)
		if err != nil {
			return nil, err
		}
		all[i] = r
		if len(r.rule.To) > 0 {
			tos[i], _ = namesOf(r.rule.To, labels)
		}
	}
	out := &access{section: a, byTo: map[string]*entrance{}}
	entranceTo := func(service string) *entrance {
		var list []*accessRule
		for i, r := range all {
			if tos[i] == nil || tos[i][service] {
				list = append(list, r)
			}
		}
		return newEntrance(list)
	}
	for i := range tos {
		for name := range tos[i] {
			if out.byTo[name] == nil {
				out.byTo[name] = entranceTo(name)
			}
		}
	}
	out.others = entranceTo("")
	return out, nil
}

func newAccessRule(r *rules.AccessRule, labels map[string]rules.Labels) (*accessRule, error) {
	out := &accessRule{rule: r, any: len(r.From) == 0}
	if r.What.Describe() != "" {
		cond, err := newCondition(&r.What)
		if err != nil {
			return nil, fmt.Errorf("access rule %s: %w", r.Name, err)
		}
		out.cond = cond
	}
	if !out.any {
		out.named, out.any = namesOf(r.From, labels)
		for _, p := range r.From {
			if p.Kind == rules.PartySite {
				out.sites = append(out.sites, p.Name)
			}
		}
	}
	return out, nil
}

// namesOf are the callers or services that parties mean by name or label; any tells
// whether they mean everybody.
func namesOf(list []rules.Party, labels map[string]rules.Labels) (names map[string]bool, any bool) {
	names = map[string]bool{}
	for _, p := range list {
		switch p.Kind {
		case rules.PartyAnyone:
			any = true
		case rules.PartyService:
			names[p.Name] = true
		case rules.PartyGateway:
			names[p.String()] = true
		case rules.PartyLabels, rules.PartyTeam:
			for _, n := range p.Names {
				names[n] = true
			}
			if p.Names != nil {
				continue
			}
			for n, have := range labels {
				if p.Labels.Within(have) {
					names[n] = true
				}
			}
		}
	}
	return names, any
}

func newEntrance(list []*accessRule) *entrance {
	e := &entrance{byFrom: map[string][]*accessRule{}}
	for _, r := range list {
		for name := range r.named {
			e.byFrom[name] = nil
		}
	}
	for _, r := range list {
		isForOthers := r.any || len(r.sites) > 0
		if isForOthers {
			e.others = append(e.others, r)
		}
		for name := range e.byFrom {
			if isForOthers || r.named[name] {
				e.byFrom[name] = append(e.byFrom[name], r)
			}
		}
	}
	return e
}

// to is the rules about calls to a service.
func (a *access) to(service string) *entrance {
	if e := a.byTo[service]; e != nil {
		return e
	}
	return a.others
}

// verdict is what the rules say of a request by a caller to a service. Port is that of
// the workload, 0 where it is not known: rules about a port do not decide there, nor
// does what comes after them. A nil view is a connection of TCP.
func (a *access) verdict(from Party, service string, port int, v View, path string) Verdict {
	if a == nil || from.IsNode {
		return Verdict{}
	}
	e := a.to(service)
	list, isNamed := e.byFrom[from.key]
	if !isNamed || from.key == "" {
		list = e.others
	}
	isWatched := false
	var by *rules.AccessRule
	for _, r := range list {
		if !r.any && !r.named[from.key] && !slices.Contains(r.sites, from.Site) {
			continue
		}
		if r.rule.Port != 0 {
			if port == 0 {
				return Verdict{Watched: isWatched, Rule: by}
			}
			if port != r.rule.Port {
				continue
			}
		}
		if r.cond != nil && (v == nil || !r.cond.holds(v, path, false)) {
			continue
		}
		switch {
		case r.rule.Allow:
			return a.decided(Verdict{Watched: isWatched, Rule: r.rule, At: r.rule.At}, by)
		case r.rule.Watch:
			if !isWatched {
				isWatched, by = true, r.rule
			}
		default:
			return a.decided(Verdict{Denied: true, Watched: isWatched, Rule: r.rule, At: r.rule.At}, by)
		}
	}
	// Where no rule decides, a service may call itself.
	isDenied := a.section.Default == "deny" && from.key != service
	return a.decided(Verdict{Denied: isDenied, Watched: isWatched, At: a.section.At}, by)
}

// decided is a verdict as it takes effect. by is the first rule that is only watched, and
// would have denied the request before.
func (a *access) decided(d Verdict, by *rules.AccessRule) Verdict {
	if d.Denied && a.section.Watch {
		d.Denied, d.Watched = false, true
	}
	if by != nil && !d.Denied {
		d.Rule, d.At = by, by.At
	}
	return d
}

// Admit tells whether a request may come in to a service: from whom, at which port of the
// workload (0: not known). A path that can be read in several ways must be let in by each
// of its readings.
func (t *Table) Admit(from Party, service string, port int, v View) Verdict {
	if t == nil || t.access == nil {
		return Verdict{}
	}
	if v == nil {
		return t.access.verdict(from, service, port, nil, "")
	}
	return t.access.strictly(from, service, port, v, v.Path())
}

func (a *access) strictly(from Party, service string, port int, v View, path string) Verdict {
	d := a.verdict(from, service, port, v, path)
	if d.Denied || !isOdd(path) || !hasReadings(path) {
		return d
	}
	for _, reading := range readings(path) {
		if other := a.verdict(from, service, port, v, reading); other.Denied {
			return other
		}
	}
	return d
}

// Why says in words why a request was denied.
func (d *Verdict) Why(from Party, service string) string {
	who := from.String()
	if who == "" {
		who = "a caller without identity"
	}
	if d.Rule == nil {
		return fmt.Sprintf(
			"%s may not call %s like this: no access rule allows it (default: deny, %s)",
			who,
			service,
			d.At,
		)
	}
	return fmt.Sprintf("%s may not call %s like this: access rule %s (%s)", who, service, d.Rule.Name, d.At)
}
