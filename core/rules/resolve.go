package rules

import (
	"cmp"
	"maps"
	"slices"
	"sync"
)

// Layer is one level that may set something.
type Layer struct {
	Name string // route timetable, policy patient-reads, service sailings or defaults
	*Settings
}

// Resolver tells which settings hold. It is made once for a rule set that does
// not change any more, and is safe for concurrent use.
type Resolver struct {
	rules    *Rules
	policies []*Policy // the most labels first
	sets     map[*Policy][]Named
	byLabel  map[label][]int // places of the policies of which it is the first label

	mu   sync.Mutex              // guards what follows
	seen map[string]*combination // by labels
	kept map[string]*combination // by the places of the policies, so that each is there once
}

// combination is the policies for one set of labels, the most specific first.
type combination struct {
	policies []*Policy
	together Settings // what they set
}

// NewResolver sorts the policies of a rule set.
func NewResolver(r *Rules) *Resolver {
	v := &Resolver{
		rules:    r,
		policies: slices.Clone(r.Policies),
		sets:     map[*Policy][]Named{},
		seen:     map[string]*combination{},
		kept:     map[string]*combination{},
		byLabel:  map[label][]int{},
	}
	slices.SortStableFunc(v.policies, func(a, b *Policy) int { return cmp.Compare(len(b.For), len(a.For)) })
	for i, p := range v.policies {
		v.sets[p] = p.All()
		if want := p.For.list(); len(want) > 0 {
			v.byLabel[want[0]] = append(v.byLabel[want[0]], i)
		}
	}
	return v
}

// view is a combination as it applies to services, or to routes.
type view struct {
	of    *combination
	route bool
}

// label is a name with a value.
type label struct{ name, value string }

// list is the labels in the order of their names.
func (l Labels) list() []label {
	out := make([]label, 0, len(l))
	for _, k := range slices.Sorted(maps.Keys(l)) {
		out = append(out, label{k, l[k]})
	}
	return out
}

// labelsOf are the labels of a service, or of one of its routes: the route's
// own come before those of the service. Either may be nil.
func labelsOf(s *Service, rt *Route) Labels {
	switch {
	case s == nil && rt == nil:
		return nil
	case s == nil:
		return rt.Labels
	case rt == nil || len(rt.Labels) == 0:
		return s.Labels
	}
	out := maps.Clone(rt.Labels)
	for k, v := range s.Labels {
		if _, own := out[k]; !own {
			out[k] = v
		}
	}
	return out
}

// fits tells whether every label that the policy wants is there.
func (p *Policy) fits(have Labels) bool {
	if len(p.For) == 1 {
		return true // found by it
	}
	for k, want := range p.For {
		if v, ok := have[k]; !ok || v != want {
			return false
		}
	}
	return true
}

// teamFor is the team of a service, or of a route of a gateway.
func teamFor(s *Service, rt *Route) string {
	if s != nil {
		return s.Team
	}
	if rt != nil {
		return rt.Team
	}
	return ""
}

// fitting are the policies for a service or one of its routes. Many have the
// same labels, so the answer is kept.
func (v *Resolver) fitting(s *Service, rt *Route) *combination {
	if len(v.policies) == 0 {
		return &combination{}
	}
	labels := labelsOf(s, rt)
	team := teamFor(s, rt)
	key := team + "\x00" + labels.String()
	v.mu.Lock()
	defer v.mu.Unlock()
	out, ok := v.seen[key]
	if ok {
		return out
	}
	var found []int
	for k, value := range labels {
		for _, i := range v.byLabel[label{k, value}] {
			if p := v.policies[i]; p.fits(labels) && (p.Team == "" || p.Team == team) {
				found = append(found, i)
			}
		}
	}
	slices.Sort(found)
	places := make([]byte, 0, 2*len(found))
	for _, i := range found {
		places = append(places, byte(i>>8), byte(i))
	}
	if out, ok = v.kept[string(places)]; !ok {
		out = &combination{}
		for _, i := range found {
			out.policies = append(out.policies, v.policies[i])
			out.together.fillRoute(&v.policies[i].Settings)
			out.together.fillService(&v.policies[i].Settings)
		}
		v.kept[string(places)] = out
	}
	v.seen[key] = out
	return out
}

// ServiceLayers are the levels that set something for a service, the nearest first.
// The service may be nil: one that only runs.
func (v *Resolver) ServiceLayers(s *Service) []Layer {
	var out []Layer
	for _, p := range v.fitting(s, nil).policies {
		out = append(out, Layer{"policy " + p.Name, &p.Settings})
	}
	if s != nil {
		out = append(out, Layer{"service " + s.Name, &s.Settings})
	}
	if d := v.rules.Defaults; d != nil {
		out = append(out, Layer{"defaults", &d.Settings})
	}
	return out
}

// RouteLayers are the levels that set something for a route itself: the route
// and the policies that fit it. What they leave open is up to the levels of
// the service; s is nil for a route of a gateway.
func (v *Resolver) RouteLayers(s *Service, rt *Route) []Layer {
	out := []Layer{{rt.Called(), &rt.Settings}}
	for _, p := range v.fitting(s, rt).policies {
		out = append(out, Layer{"policy " + p.Name, &p.Settings})
	}
	return out
}

// Service is everything that holds for a service, apart from its routes.
func (v *Resolver) Service(s *Service) Settings {
	var out Settings
	out.fillService(&v.fitting(s, nil).together)
	if s != nil {
		out.fillService(&s.Settings)
	}
	if d := v.rules.Defaults; d != nil {
		out.fillService(&d.Settings)
	}
	return out
}

// Route is what a route and its policies set themselves.
func (v *Resolver) Route(s *Service, rt *Route) Settings {
	var out Settings
	out.fillRoute(&rt.Settings)
	out.fillRoute(&v.fitting(s, rt).together)
	return out
}

// Holding is one value that holds, and why.
type Holding struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	From   string `json:"from"`   // the level that set it, or built in
	Origin Origin `json:"origin"` // where it was written; empty: built in
}

// builtIn is what holds where no level says anything.
var builtIn = []Holding{
	{Name: "timeout", Value: DefaultTimeout.String()},
	{Name: "retry", Value: "none"},
	{Name: "limit", Value: "none"},
	{
		Name:  "guard",
		Value: "none",
	},
	{Name: "health", Value: "none"},
	{Name: "balance", Value: DefaultBalance},
	{Name: "failover", Value: "none"},
	{Name: "identity", Value: IdentityRequired},
}

// RouteHoldings is what holds for a route of a service, each value with its
// origin. A route that answers by itself has nothing but a limit.
func (v *Resolver) RouteHoldings(s *Service, rt *Route) []Holding {
	names := []string{"timeout", "retry", "limit"}
	if rt.Redirect != nil || rt.Reply != nil {
		names = names[2:]
	}
	return holdings(names, v.RouteLayers(s, rt), v.ServiceLayers(s))
}

// ServiceHoldings is what holds for a service, apart from its routes.
func (v *Resolver) ServiceHoldings(s *Service) []Holding {
	return holdings(
		[]string{
			"timeout",
			"retry",
			"guard.in-flight",
			"guard.breaker",
			"guard.sideline",
			"health",
			"balance",
			"failover",
			"identity",
		},
		v.ServiceLayers(s),
	)
}

func holdings(names []string, groups ...[]Layer) []Holding {
	found := map[string]Holding{}
	for i, layers := range groups {
		for _, l := range layers {
			for _, set := range l.All() {
				if _, decided := found[set.Name]; !decided && !(set.Name == "limit" && i > 0) {
					found[set.Name] = Holding{set.Name, set.String(), l.Name, set.Where()}
				}
			}
		}
	}
	var out []Holding
	guarded := false
	for _, name := range names {
		if h, ok := found[name]; ok {
			out = append(out, h)
			guarded = guarded || len(name) > 5 && name[:5] == "guard"
		}
	}
	for _, b := range builtIn {
		_, decided := found[b.Name]
		isUnguarded := b.Name == "guard" && !guarded && slices.Contains(names, "guard.breaker")
		if !decided && (slices.Contains(names, b.Name) || isUnguarded) {
			b.From = "built in"
			out = append(out, b)
		}
	}
	return out
}

// conflicts calls tell for every two policies with equally many labels that
// set the same thing for the same service or route, when nothing nearer
// decides.
func (v *Resolver) conflicts(tell func(a, b *Policy, name string, s *Service, rt *Route)) {
	type pair struct {
		a, b *Policy
		name string
	}
	told := map[pair]bool{}
	looked := map[view]bool{}
	look := func(s *Service, rt *Route, names []string) {
		decided := map[string]bool{} // by something nearer
		if rt != nil {
			for _, set := range rt.All() {
				decided[set.Name] = true
			}
		}
		fit := v.fitting(s, rt)
		if k := (view{fit, rt != nil}); len(decided) == 0 {
			if looked[k] {
				return
			}
			looked[k] = true
		}
		for list := fit.policies; len(list) > 0; {
			n := 1
			for n < len(list) && len(list[n].For) == len(list[0].For) {
				n++
			}
			first := map[string]*Policy{}
			for _, p := range list[:n] {
				for _, set := range v.sets[p] {
					if decided[set.Name] || !slices.Contains(names, set.Name) {
						continue
					}
					before := first[set.Name]
					if k := (pair{before, p, set.Name}); before != nil && !told[k] {
						told[k] = true
						tell(before, p, set.Name, s, rt)
					}
					first[set.Name] = p
				}
			}
			for name := range first {
				decided[name] = true
			}
			list = list[n:]
		}
	}
	ofRoute := []string{"timeout", "retry", "limit"}
	ofService := []string{
		"timeout",
		"retry",
		"guard.in-flight",
		"guard.breaker",
		"guard.sideline",
		"health",
		"balance",
		"failover",
		"identity",
	}
	v.rules.everywhere(func(s *Service, rt *Route) {
		if rt == nil {
			look(s, nil, ofService)
		} else {
			look(s, rt, ofRoute)
		}
	})
}
