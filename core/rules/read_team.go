package rules

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v4"
)

// team reads one entry of the section teams.
func (r *reader) team(k, v *yaml.Node, path string) {
	t := &Team{Name: k.Value, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	if bundle := t.At.Bundle(); bundle != MainBundle {
		r.mistake(k, path, CodeNotYours, fmt.Sprintf("bundle %s cannot say what teams may do", bundle),
			"teams in bundle "+MainBundle)
		return
	}
	names := func(into *[]string, at *Origin, of string, twice bool) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			*at = r.at(n)
			r.short(n, path, of, func(n *yaml.Node, path string) {
				name, ok := r.name(n, path, nameShape, nameExpected)
				switch {
				case !ok:
				case slices.Contains(*into, name):
					r.mistake(n, path, CodeDeclaredTwice, name+" is listed twice", "each once")
				case twice || r.once(n, path, fmt.Sprintf("the team of %s %s", of[:len(of)-1], name)):
					*into = append(*into, name)
				}
			})
		}
	}
	r.mapping(v, path, fields{
		"bundles":  names(&t.Bundles, &t.BundlesAt, "bundles", false),
		"services": names(&t.Services, &t.ServicesAt, "services", false),
		"offers":   names(&t.Offers, &t.OffersAt, "services", true),
		"uses":     names(&t.Uses, &t.UsesAt, "services", true),
		"gateways": func(n *yaml.Node, path string) {
			r.pairs(n, path, func(k, v *yaml.Node, path string) { r.gatewayPart(t, k, v, path) })
		},
	})
	if slices.Contains(t.Bundles, MainBundle) {
		r.mistake(k, path+".bundles", CodeBadValue, "bundle "+MainBundle+" is the platform's, and of no team", "other bundles")
	}
	if r.once(k, path, "team "+t.Name) {
		r.rules.Teams = append(r.rules.Teams, t)
	}
}

// gatewayPart reads what of a gateway a team may route.
func (r *reader) gatewayPart(t *Team, k, v *yaml.Node, path string) {
	p := GatewayPart{Gateway: k.Value, At: r.at(k)}
	r.mapping(v, path, fields{
		"hosts": func(n *yaml.Node, path string) { p.Hosts = r.hosts(n, path) },
		"paths": func(n *yaml.Node, path string) {
			r.short(n, path, "paths", func(n *yaml.Node, path string) {
				var c Condition
				if isMapping(n) {
					r.mistake(n, path, CodeWrongType, "this is "+kind(n), "/a/b, /a/*/b or /a/**")
					return
				}
				if r.pathCondition(&c, n, path); c.Path != "" {
					p.Paths = append(p.Paths, c.Path)
				}
			})
		},
	})
	t.Gateways = append(t.Gateways, p)
}

// place reads the place of a team's routes in the ladder of a gateway.
func (r *reader) place(rt *Route, n *yaml.Node, path string) {
	rt.isPlace = true
	rt.Team, _ = r.name(n, path, nameShape, nameExpected)
}

// noPlaces: only the ladders of gateways have places of teams.
func (r *reader) noPlaces(routes []*Route, path string) {
	for i, rt := range routes {
		if rt.isPlace {
			r.findings = append(r.findings, Finding{
				Severity: Mistake, Code: CodeBadValue, At: rt.At, Path: fmt.Sprintf("%s[%d]", path, i),
				Message: "the routes of a service are one team's", Expected: "team among the routes of a gateway",
			})
		}
	}
}
