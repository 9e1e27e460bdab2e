package rules

import (
	"fmt"
	"slices"
	"strings"
)

// Live is what is known of the running mesh when rules are checked. The zero
// value knows nothing, and nothing is warned of on its account.
type Live struct {
	Known    bool                // whether Versions says anything
	Versions map[string][]string // service to the versions that have an instance now
}

// Check reads files and reports every mistake and warning of all of them, in
// the order of the files. The rules are fit to publish only when Mistakes of
// the findings is 0.
func Check(files []File, live Live) (*Rules, []Finding) {
	rs, found, whole := read(files)
	c := &checker{rules: rs, live: live, whole: whole}
	for _, s := range rs.Services {
		path := "services." + s.Name
		for i, in := range s.Instances {
			if !s.HasVersion(in.Version) {
				c.unknownVersion(in.At, fmt.Sprintf("%s.instances[%d]", path, i), s, in.Version)
			}
		}
		c.ladder(s, s.Routes, path)
		c.idleVersions(s, path)
	}
	for _, g := range rs.Gateways {
		if s := rs.Service(g.Name); s != nil {
			also := s.At
			c.add(Finding{Severity: Mistake, Code: CodeDeclaredTwice, At: g.At, Path: "gateways." + g.Name, Also: &also,
				Message: g.Name + " is both a service and a gateway", Expected: "another name for one of the two"})
		}
		c.ladder(nil, g.Routes, "gateways."+g.Name)
	}
	c.gatewayHosts()
	found = append(found, c.findings...)
	arrange(found, files)
	return rs, found
}

type checker struct {
	rules    *Rules
	live     Live
	whole    bool
	findings []Finding
}

func (c *checker) add(f Finding) { c.findings = append(c.findings, f) }

// ladder checks the routes of a service, or of a gateway when home is nil.
func (c *checker) ladder(home *Service, routes []*Route, path string) {
	var always *Route
	for i, rt := range routes {
		p := fmt.Sprintf("%s.routes[%d]", path, i)
		if always != nil {
			also := always.At
			c.add(Finding{Severity: Warning, Code: CodeShadowed, At: rt.At, Path: p, Also: &also,
				Message:  fmt.Sprintf("no request can reach route %s: route %s before it takes every one", rt.Name, always.Name),
				Expected: "routes with conditions above the one without"})
		} else if len(rt.When) == 0 {
			always = rt
		}
		seen := map[string]bool{}
		for j := range rt.Send {
			t := &rt.Send[j]
			c.target(home, t, p+".send")
			if seen[t.String()] {
				c.add(Finding{Severity: Mistake, Code: CodeDeclaredTwice, At: t.At, Path: p + ".send",
					Message: fmt.Sprintf("target %s stands here twice", t), Expected: "each target once"})
			}
			seen[t.String()] = true
		}
	}
}

// target settles what a target's bare name means and whether it exists.
func (c *checker) target(home *Service, t *Target, path string) {
	if t.Service == "" { // a bare name
		if home != nil {
			t.Service = home.Name
			if !home.HasVersion(t.Version) {
				c.unknownVersion(t.At, path, home, t.Version)
			}
			return
		}
		t.Service, t.Version = t.Version, ""
	}
	s := c.rules.Service(t.Service)
	if s == nil {
		if c.whole {
			var names []string
			for _, s := range c.rules.Services {
				names = append(names, s.Name)
			}
			c.add(Finding{Severity: Mistake, Code: CodeUnknownService, At: t.At, Path: path,
				Message: fmt.Sprintf("nothing declares a service %s", t.Service), Expected: oneOf(t.Service, names)})
		}
		return
	}
	if t.Version != "" && !s.HasVersion(t.Version) {
		c.unknownVersion(t.At, path, s, t.Version)
	}
}

func (c *checker) unknownVersion(at Origin, path string, s *Service, version string) {
	expected := oneOf(version, s.Versions) + ", or add it to versions of " + s.Name
	if len(s.Versions) == 0 {
		expected = fmt.Sprintf("versions: [%s, …] in service %s", version, s.Name)
	}
	if c.rules.Service(version) != nil {
		expected = fmt.Sprintf("%s/VERSION to send to service %s", version, version)
	}
	decl := s.At
	c.add(Finding{Severity: Mistake, Code: CodeUnknownVersion, At: at, Path: path, Also: &decl,
		Message: fmt.Sprintf("service %s declares no version %s", s.Name, version), Expected: expected})
}

// idleVersions warns of a version that gets requests and has no instance now.
func (c *checker) idleVersions(s *Service, path string) {
	if !c.live.Known {
		return
	}
	have := slices.Clone(c.live.Versions[s.Name])
	for _, in := range s.Instances {
		have = append(have, in.Version)
	}
	told := map[string]bool{}
	for i, rt := range s.Routes {
		for _, t := range rt.Send {
			if t.Service != s.Name || t.Weight == 0 || slices.Contains(have, t.Version) || told[t.Version] || !s.HasVersion(t.Version) {
				continue
			}
			told[t.Version] = true
			c.add(Finding{Severity: Warning, Code: CodeNoInstance, At: t.At, Path: fmt.Sprintf("%s.routes[%d].send", path, i),
				Message:  fmt.Sprintf("%s/%s gets requests and has no instance now", s.Name, t.Version),
				Expected: "an instance of it to be running before requests are sent there"})
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
				msg := fmt.Sprintf("host %s on %s belongs to gateway %s already", h, g.Listen, before.Name)
				if before == g {
					msg = fmt.Sprintf("host %s stands in the list twice", h)
				}
				c.add(Finding{Severity: Mistake, Code: CodeDeclaredTwice, At: g.At, Path: fmt.Sprintf("gateways.%s.hosts[%d]", g.Name, i),
					Message: msg, Expected: "each host once", Also: &also})
			}
			first[key] = g
		}
	}
}

// Describe writes the condition in one line, as it is read aloud.
func (c Condition) Describe() string {
	var parts []string
	if c.Path != "" {
		parts = append(parts, "path "+c.Path)
	}
	if len(c.Methods) > 0 {
		parts = append(parts, "method "+strings.Join(c.Methods, "|"))
	}
	for _, t := range c.Headers {
		parts = append(parts, "header "+t.Describe())
	}
	for _, t := range c.Cookies {
		parts = append(parts, "cookie "+t.Describe())
	}
	return strings.Join(parts, ", ")
}

// Describe writes the test in words: x-crew is "yes".
func (t Test) Describe() string {
	name, op := strings.ToLower(t.Name), string(t.Op)
	if t.Not {
		op = "not " + op
	}
	switch len(t.Values) {
	case 0:
		return name + " " + op
	case 1:
		return fmt.Sprintf("%s %s %q", name, op, t.Values[0])
	}
	return fmt.Sprintf("%s %s %q", name, op, t.Values)
}
