package rules

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Live is what is known of the running mesh when rules are checked. The zero value
// knows nothing, and causes no findings.
type Live struct {
	Known    bool                // whether Versions, Links and Busy say anything
	Versions map[string][]string // service to the versions that have an instance now
	Links    []Link              // who called whom lately
	Busy     map[string]float64  // service/version to requests at once of its busiest caller
}

// Link is a caller, a service or gateway, and the service that it calls.
type Link struct {
	From, To string
	Sites    []string // where the caller runs
	Rate     float64  // requests a second, now
	Recent   uint64   // requests in the last 14 days
}

// Used says how much a link is used.
func (l Link) Used() string {
	if l.Rate > 0 {
		return fmt.Sprintf("%.1f requests/s now", l.Rate)
	}
	return fmt.Sprintf("%d requests in the last 14 days", l.Recent)
}

// Check reads files and reports every mistake and warning of all of them, in
// the order of the files. The rules are fit to publish only when Mistakes of
// the findings is 0.
func Check(files []File, live Live) (*Rules, []Finding) {
	rs, found, whole := read(files)
	c := &checker{
		rules:    rs,
		live:     live,
		whole:    whole,
		services: map[string]*Service{},
		gateways: map[string]*Gateway{},
		sites:    map[string]bool{},
		names:    map[string][]string{},
	}
	for _, s := range rs.Services {
		c.services[s.Name] = s
	}
	for _, g := range rs.Gateways {
		c.gateways[g.Name] = g
	}
	for _, s := range rs.Sites {
		c.sites[s.Name] = true
	}
	c.references()
	c.teams()
	c.resolver = NewResolver(rs)
	c.policies()
	c.warnings()
	found = append(found, c.findings...)
	arrange(found, files)
	return rs, found
}

type checker struct {
	rules    *Rules
	live     Live
	whole    bool
	services map[string]*Service
	gateways map[string]*Gateway
	sites    map[string]bool
	resolver *Resolver
	findings []Finding
	names    map[string][]string // of services, callers and sites, in order, once they were needed
	compared int                 // names that were looked at for the nearest
}

// maxCompared bounds the search for nearest names; past it none are named.
const maxCompared = 1_000_000

// oneOf is "one of these names" for the names of a kind, which are collected
// once.
func (c *checker) oneOf(name, kind string, collect func() []string) string {
	known, ok := c.names[kind]
	if !ok {
		known = collect()
		slices.Sort(known)
		c.names[kind] = known
	}
	c.compared += len(known)
	return oneOfSorted(name, known, c.compared <= maxCompared)
}

func (c *checker) add(f Finding) { c.findings = append(c.findings, f) }

func (c *checker) mistake(at Origin, path string, code Code, msg, expected string) {
	c.add(Finding{
		Severity: Mistake,
		Code:     code,
		At:       at,
		Path:     path,
		Message:  msg,
		Expected: expected,
	})
}

func (c *checker) warn(at Origin, path string, code Code, msg, expected string, also ...Origin) {
	f := Finding{
		Severity: Warning,
		Code:     code,
		At:       at,
		Path:     path,
		Message:  msg,
		Expected: expected,
	}
	if len(also) > 0 && also[0] != (Origin{}) {
		f.Also = &also[0]
	}
	c.add(f)
}

// references checks that everything that is named is declared.
func (c *checker) references() {
	for _, s := range c.rules.Services {
		path := "services." + s.Name
		for i, in := range s.Instances {
			p := fmt.Sprintf("%s.instances[%d]", path, i)
			if !s.HasVersion(in.Version) {
				c.unknownVersion(in.At, p, s, in.Version)
			}
			c.knownSite(in.At, p, in.Site)
		}
		if s.TLS != nil && !slices.ContainsFunc(s.Instances, func(in Instance) bool { return strings.HasPrefix(in.URL, "https://") }) {
			c.mistake(s.TLS.Origin, path+".tls", CodeBadValue, fmt.Sprintf("service %s has no instance outside the mesh that is called by TLS", s.Name),
				"instances: [{at: \"https://…\", …}]; inside the mesh connections are mutual TLS anyway")
		}
		for _, name := range s.Calls {
			c.knownService(s.CallsAt, path+".calls", name)
		}
		c.settings(&s.Settings, path)
		c.ladder(s, s.Routes, path)
		if s.Protocol == "tcp" {
			c.connections(s, path)
		}
	}
	for _, g := range c.rules.Gateways {
		path := "gateways." + g.Name
		if s := c.services[g.Name]; s != nil {
			also := s.At
			c.add(Finding{
				Severity: Mistake,
				Code:     CodeDeclaredTwice,
				At:       g.At,
				Path:     path,
				Also:     &also,
				Message:  g.Name + " is both a service and a gateway",
				Expected: "a different name for one of them",
			})
		}
		c.ladder(nil, g.Routes, path)
		c.claimed(g, path)
	}
	c.gatewayHosts()
	for _, p := range c.rules.Policies {
		c.settings(&p.Settings, "policies."+p.Name)
	}
	if d := c.rules.Defaults; d != nil {
		c.settings(&d.Settings, "defaults")
	}
	c.accessParties()
	c.releases()
	c.trials()
}

// ladder checks the routes of a service, or of a gateway when home is nil.
func (c *checker) ladder(home *Service, routes []*Route, path string) {
	for i, rt := range routes {
		p := fmt.Sprintf("%s.routes[%d]", path, i)
		for j := range rt.When {
			c.condition(&rt.When[j], p+".when")
			if home == nil {
				c.outsider(&rt.When[j], p+".when")
			}
		}
		c.authenticated(home, rt, p)
		seen := map[string]bool{}
		for j := range rt.Send {
			t := &rt.Send[j]
			c.target(home, t, p+".send")
			if seen[t.String()] {
				c.mistake(
					t.At,
					p+".send",
					CodeDeclaredTwice,
					fmt.Sprintf("target %s is listed twice", t),
					"each target once",
				)
			}
			seen[t.String()] = true
		}
		if t := rt.Otherwise; t != nil {
			c.target(home, t, p+".otherwise")
			c.named(t, p+".otherwise")
		}
		if rt.Mirror != nil {
			c.target(home, &rt.Mirror.To, p+".mirror.to")
			c.named(&rt.Mirror.To, p+".mirror.to")
		}
	}
}

// named: a target beside `send` needs a version.
func (c *checker) named(t *Target, path string) {
	if s := c.services[t.Service]; s != nil && t.Version == "" {
		c.mistake(
			t.At,
			path,
			CodeMissing,
			fmt.Sprintf("%s names no version", t.Service),
			fmt.Sprintf("%s/VERSION: one of %s", t.Service, strings.Join(s.Versions, ", ")),
		)
	}
}

// condition checks the names in a condition and in those inside it.
func (c *checker) condition(when *Condition, path string) {
	for _, name := range when.From {
		c.knownCaller(when.At, path+".from", name)
	}
	for _, name := range when.Sites {
		c.knownSite(when.At, path+".site", name)
	}
	for _, group := range [][]Condition{when.Any, when.All, when.Not} {
		for i := range group {
			c.condition(&group[i], path)
		}
	}
}

// target settles what a target's bare name means and whether it exists.
func (c *checker) target(home *Service, t *Target, path string) {
	c.knownSite(t.At, path, t.Site)
	if t.Service == "" { // a bare name
		if home != nil {
			t.Service = home.Name
			if !home.HasVersion(t.Version) {
				c.unknownVersion(t.At, path, home, t.Version)
			}
			return
		}
		t.Service, t.Version = t.Version, ""
		if t.Site != "" {
			c.mistake(
				t.At,
				path,
				CodeBadValue,
				"a site needs a version",
				fmt.Sprintf("%s/VERSION@%s, or %s alone", t.Service, t.Site, t.Service),
			)
		}
	}
	if s := c.knownService(t.At, path, t.Service); s != nil && t.Version != "" && !s.HasVersion(t.Version) {
		c.unknownVersion(t.At, path, s, t.Version)
	}
}

// knownService returns the service of that name, or reports that there is none.
func (c *checker) knownService(at Origin, path, name string) *Service {
	s := c.services[name]
	if s == nil && c.whole && name != "" {
		c.mistake(
			at,
			path,
			CodeUnknownService,
			fmt.Sprintf("no service %s is declared", name),
			c.oneOf(name, "service", func() []string { return slices.Collect(maps.Keys(c.services)) }),
		)
	}
	return s
}

// knownCaller reports a name that is neither a service nor a gateway.
func (c *checker) knownCaller(at Origin, path, name string) {
	if c.whole && c.services[name] == nil && c.gateways[name] == nil {
		c.mistake(
			at,
			path,
			CodeUnknownService,
			fmt.Sprintf("no service or gateway %s is declared", name),
			c.oneOf(
				name,
				"caller",
				func() []string {
					return slices.AppendSeq(slices.Collect(maps.Keys(c.services)), maps.Keys(c.gateways))
				},
			),
		)
	}
}

func (c *checker) knownSite(at Origin, path, name string) {
	if name != "" && c.whole && !c.sites[name] {
		expected := c.oneOf(
			name,
			"site",
			func() []string { return slices.Collect(maps.Keys(c.sites)) },
		) + ", or add it to the section sites"
		if len(c.sites) == 0 {
			expected = fmt.Sprintf("sites: [%s, …] at the top of a file", name)
		}
		c.mistake(at, path, CodeUnknownSite, fmt.Sprintf("no site %s is declared", name), expected)
	}
}

func (c *checker) unknownVersion(at Origin, path string, s *Service, version string) {
	expected := oneOf(version, s.Versions) + ", or add it to versions of " + s.Name
	if len(s.Versions) == 0 {
		expected = fmt.Sprintf("versions: [%s, …] in service %s", version, s.Name)
	}
	if c.services[version] != nil {
		expected = fmt.Sprintf("%s/VERSION to send to service %s", version, version)
	}
	decl := s.At
	c.add(Finding{
		Severity: Mistake,
		Code:     CodeUnknownVersion,
		At:       at,
		Path:     path,
		Also:     &decl,
		Message:  fmt.Sprintf("service %s declares no version %s", s.Name, version),
		Expected: expected,
	})
}

func (c *checker) settings(s *Settings, path string) {
	if s.Failover == nil {
		return
	}
	for _, site := range s.Failover.Order {
		if site != "same" {
			c.knownSite(s.Failover.Origin, path+".failover.order", site)
		}
	}
}

// gatewayHosts finds a host that two gateways on one address both claim.
func (c *checker) gatewayHosts() {
	first := map[string]*Gateway{}
	for _, g := range c.rules.Gateways {
		for i, h := range g.Hosts {
			key := g.Listen + " " + h
			if before := first[key]; before != nil {
				also := before.At
				msg := fmt.Sprintf("host %s on %s already belongs to gateway %s", h, g.Listen, before.Name)
				if before == g {
					msg = fmt.Sprintf("host %s is listed twice", h)
				}
				c.add(
					Finding{
						Severity: Mistake,
						Code:     CodeDeclaredTwice,
						At:       g.At,
						Path:     fmt.Sprintf("gateways.%s.hosts[%d]", g.Name, i),
						Message:  msg,
						Expected: "each host once",
						Also:     &also,
					},
				)
			}
			first[key] = g
		}
	}
}

// hostCovers tells whether every host that b means is one that a means.
func hostCovers(a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	if a == "*" || a == b {
		return true
	}
	suffix, wild := strings.CutPrefix(a, "*")
	return wild && strings.HasSuffix(strings.TrimPrefix(b, "*"), suffix)
}

// policies checks that every policy is for something, and that no two of them
// contradict each other.
func (c *checker) policies() {
	forService, forRoute := map[*Policy]bool{}, map[*Policy]bool{}
	marked := map[view]bool{}
	c.rules.everywhere(func(s *Service, rt *Route) {
		fit, to := c.resolver.fitting(s, rt), forService
		if rt != nil {
			to = forRoute
		}
		if k := (view{fit, rt != nil}); !marked[k] {
			marked[k] = true
			for _, p := range fit.policies {
				to[p] = true
			}
		}
	})
	for _, p := range c.rules.Policies {
		path := "policies." + p.Name
		if !c.whole || len(p.For) == 0 || forService[p] {
			continue
		}
		if !forRoute[p] {
			c.mistake(
				p.At,
				path+".for",
				CodeUnknownLabels,
				fmt.Sprintf("no service and no route has the labels %s", p.For),
				c.nearLabels(p.For),
			)
			continue
		}
		for _, set := range p.All() {
			if !slices.Contains([]string{"timeout", "retry", "limit"}, set.Name) {
				c.mistake(
					set.Where(),
					path,
					CodeUnknownLabels,
					fmt.Sprintf("%s belongs to services, and only routes have the labels %s", set.Name, p.For),
					"labels of a service, or a separate policy",
				)
			}
		}
	}
	c.resolver.conflicts(func(a, b *Policy, name string, s *Service, rt *Route) {
		var where []string
		if rt != nil {
			where = append(where, "route "+rt.Name)
		}
		if s != nil {
			where = append(where, "service "+s.Name)
		}
		also := a.At
		c.add(Finding{
			Severity: Mistake,
			Code:     CodePolicyConflict,
			At:       b.At,
			Path:     "policies." + b.Name,
			Also:     &also,
			Message: fmt.Sprintf(
				"policies %s and %s both set %s of %s, and have the same number of labels",
				a.Name,
				b.Name,
				name,
				strings.Join(where, " of "),
			),
			Expected: "one more label in one of them, or the setting in only one of them",
		})
	})
}

// nearLabels names labels that exist.
func (c *checker) nearLabels(want Labels) string {
	text := c.oneOf(strings.ReplaceAll(want.String(), ", ", ""), "labels", func() []string {
		all := map[string]bool{}
		c.rules.everywhere(func(s *Service, rt *Route) {
			labels := Labels{}
			if rt != nil {
				labels = rt.Labels
			} else if s != nil {
				labels = s.Labels
			}
			for k, v := range labels {
				all[k+"="+v] = true
			}
		})
		return slices.Collect(maps.Keys(all))
	})
	if len(c.names["labels"]) == 0 {
		return "labels on a service or a route; none has any"
	}
	return text + ", all on the same service or route"
}
