package rules

import (
	"fmt"
	"slices"
	"strings"
)

func (c *checker) releases() {
	type span struct{ service, route, from string }
	first := map[span]*Release{}
	for _, r := range c.rules.Releases {
		path := "releases." + r.Name
		s := c.knownService(r.At, path+".service", r.Service)
		if s == nil {
			continue
		}
		for _, v := range []struct{ key, version string }{{"from", r.From}, {"to", r.To}} {
			if v.version != "" && !s.HasVersion(v.version) {
				c.unknownVersion(r.At, path+"."+v.key, s, v.version)
			}
		}
		if r.Route != "" && !slices.ContainsFunc(s.Routes, func(rt *Route) bool { return rt.Name == r.Route }) {
			var names []string
			for _, rt := range s.Routes {
				names = append(names, rt.Name)
			}
			c.mistake(
				r.At,
				path+".route",
				CodeUnknownRoute,
				fmt.Sprintf("service %s has no route %s", s.Name, r.Route),
				oneOf(r.Route, names),
			)
		}
		if r.FirstTo != nil {
			c.condition(r.FirstTo, path+".first-to")
		}
		c.loads(r.Load, path)
		c.expectations(r.Judge.Expect, path+".judge")
		for k, before := range first {
			if k.service == r.Service && k.from == r.From && (k.route == r.Route || k.route == "" || r.Route == "") {
				also := before.At
				c.add(Finding{
					Severity: Mistake,
					Code:     CodeDeclaredTwice,
					At:       r.At,
					Path:     path,
					Also:     &also,
					Message: fmt.Sprintf(
						"release %s already changes the same route away from %s",
						before.Name,
						r.From,
					),
					Expected: "one release from a version of a route",
				})
				break
			}
		}
		first[span{r.Service, r.Route, r.From}] = r
	}
}

func (c *checker) trials() {
	for _, t := range c.rules.Trials {
		path := "trials." + t.Name
		c.loads(t.Load, path)
		c.expectations(t.Expect, path+".expect")
		if d := t.Drill; d != nil {
			c.knownSite(d.At, path+".drill", d.Site)
			if s := c.knownService(d.At, path+".drill", d.Service); s != nil && d.Version != "" &&
				!s.HasVersion(d.Version) {
				c.unknownVersion(d.At, path+".drill", s, d.Version)
			}
		}
	}
}

func (c *checker) loads(list []Load, path string) {
	for _, l := range list {
		if l.To != "" && c.gateways[l.To] == nil {
			c.knownService(l.At, path+".load", l.To)
		}
		if l.From != "" {
			c.knownService(l.At, path+".load", l.From)
			if c.gateways[l.To] != nil {
				c.mistake(
					l.At,
					path+".load",
					CodeBadValue,
					"requests of a gateway come from outside the mesh",
					"a load without from",
				)
			}
		}
	}
}

func (c *checker) expectations(list []Expectation, path string) {
	for _, e := range list {
		switch e.Metric {
		case "share":
			name, version, _ := strings.Cut(e.Of, "/")
			s := c.knownService(e.At, path, name)
			if s != nil && !s.HasVersion(version) {
				c.unknownVersion(e.At, path, s, version)
			}
		case "refused":
			if e.Of != "" && !slices.Contains(Reasons, e.Of) {
				c.mistake(e.At, path, CodeBadValue, fmt.Sprintf("%q is not a reason", e.Of), oneOf(e.Of, Reasons))
			}
		}
	}
}
