package rules

import (
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// sites reads a list of names, or a mapping from names to how others reach the site.
func (r *reader) sites(n *yaml.Node, path string) {
	add := func(n *yaml.Node, path string) *Site {
		s, ok := r.name(n, path, nameShape, nameExpected)
		if !ok || !r.once(n, path, "site "+s) {
			return nil
		}
		r.rules.Sites = append(r.rules.Sites, Site{Name: s, At: r.at(n)})
		return &r.rules.Sites[len(r.rules.Sites)-1]
	}
	if !isMapping(n) {
		r.list(n, path, "sites, or a mapping from each to its crossing", func(n *yaml.Node, path string) { add(n, path) })
		return
	}
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		s := add(k, path)
		if s == nil {
			s = &Site{}
		}
		seen := r.mapping(v, path, fields{
			"crossing": func(n *yaml.Node, path string) { s.Crossing = r.crossing(n, path) },
			"reach":    func(n *yaml.Node, path string) { r.choice(n, path, SiteDirect) },
		})
		if seen.has("crossing") && seen.has("reach") {
			r.mistake(seen["reach"], path+".reach", CodeBadValue, "a site with a crossing is not reached directly",
				"crossing or reach, not both")
		}
	})
}

// crossing reads where others reach the crossing of a site.
func (r *reader) crossing(n *yaml.Node, path string) string {
	const expected = "a host with a port, such as crossing.north-quay.example:7443"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return ""
	}
	host, port, err := net.SplitHostPort(s)
	isBad := isBadHost(host) && net.ParseIP(host) == nil
	if p, perr := strconv.ParseUint(port, 10, 16); err != nil || perr != nil || p == 0 || isBad {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not where others reach a crossing", s), expected)
		return ""
	}
	return s
}

func (r *reader) service(k, v *yaml.Node, path string) {
	s := &Service{Name: k.Value, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	known := r.serviceSettings(&s.Settings)
	known["owner"] = func(n *yaml.Node, path string) { s.Owner, _ = r.scalar(n, path, "the owner's name") }
	known["labels"] = func(n *yaml.Node, path string) { s.Labels = r.labels(n, path) }
	known["protocol"] = func(n *yaml.Node, path string) { s.Protocol = r.choice(n, path, "http", "http2", "grpc", "tcp") }
	known["versions"] = func(n *yaml.Node, path string) {
		r.short(n, path, "versions", func(n *yaml.Node, path string) {
			ver, ok := r.name(n, path, versionShape, versionExpected)
			switch {
			case !ok:
			case s.HasVersion(ver):
				r.mistake(
					n,
					path,
					CodeDeclaredTwice,
					fmt.Sprintf("version %s is listed twice", ver),
					"each version once",
				)
			default:
				s.Versions = append(s.Versions, ver)
			}
		})
	}
	known["calls"] = func(n *yaml.Node, path string) {
		s.Calls, s.CallsAt = []string{}, r.at(n)
		r.short(n, path, "services", func(n *yaml.Node, path string) {
			name, ok := r.name(n, path, nameShape, nameExpected)
			switch {
			case !ok:
			case slices.Contains(s.Calls, name):
				r.mistake(
					n,
					path,
					CodeDeclaredTwice,
					fmt.Sprintf("service %s is listed twice", name),
					"each service once",
				)
			default:
				s.Calls = append(s.Calls, name)
			}
		})
	}
	known["instances"] = func(n *yaml.Node, path string) {
		r.list(n, path, "instances", func(n *yaml.Node, path string) { r.instance(s, n, path) })
	}
	known["tls"] = func(n *yaml.Node, path string) { s.TLS = r.serviceTLS(n, path) }
	known["routes"] = func(n *yaml.Node, path string) { s.Routes = r.routes(n, path); r.noPlaces(s.Routes, path) }
	r.mapping(v, path, known)
	if !r.once(k, path, "service "+s.Name) {
		r.rules.again = append(r.rules.again, s)
		return
	}
	r.rules.Services = append(r.rules.Services, s)
}

// serviceTLS reads how TLS is spoken to instances outside the mesh.
func (r *reader) serviceTLS(n *yaml.Node, path string) *ServiceTLS {
	t := &ServiceTLS{Origin: r.at(n)}
	file := func(to *string, what string) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) { *to, _ = r.scalar(n, path, "the path of a PEM file with "+what) }
	}
	seen := r.mapping(n, path, fields{
		"authority": file(&t.Authority, "the certificates of the authorities"),
		"cert":      file(&t.Cert, "the certificate chain that instances are shown"),
		"key":       file(&t.Key, "its private key"),
		"name":      func(n *yaml.Node, path string) { t.Name, _ = r.host(n, path) },
	})
	if seen.has("cert") != seen.has("key") {
		r.mistake(n, path, CodeMissing, "a certificate and its key go together", "both cert and key")
	}
	if isMapping(n) && len(seen) == 0 {
		r.mistake(n, path, CodeMissing, "tls says nothing", "authority, cert with key, or name")
	}
	return t
}

func (r *reader) instance(s *Service, n *yaml.Node, path string) {
	in := Instance{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"at": func(n *yaml.Node, path string) {
			const expected = "an address such as http://10.0.0.7:8080 or https://office.example:8443"
			text, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			u, err := url.Parse(text)
			if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.User != nil ||
				strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "" {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not an address of an instance", text), expected)
				return
			}
			in.URL = u.Scheme + "://" + u.Host
		},
		"version": func(n *yaml.Node, path string) { in.Version, _ = r.name(n, path, versionShape, versionExpected) },
		"site":    func(n *yaml.Node, path string) { in.Site, _ = r.name(n, path, nameShape, nameExpected) },
	})
	r.need(n, path, seen, "this instance", "at", "version")
	if in.URL != "" && in.Version != "" {
		s.Instances = append(s.Instances, in)
	}
}

func (r *reader) gateway(k, v *yaml.Node, path string) {
	g := &Gateway{Name: k.Value, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	known := r.edge(g)
	maps.Copy(known, fields{
		"listen": func(n *yaml.Node, path string) {
			const expected = "an address with a port, such as 127.0.0.1:8080 or :8080"
			s, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			_, port, err := net.SplitHostPort(s)
			if p, perr := strconv.ParseUint(port, 10, 16); err != nil || perr != nil || p == 0 {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not an address to listen on", s), expected)
				return
			}
			g.Listen = s
		},
		"tls": func(n *yaml.Node, path string) { g.TLS = r.certificates(n, path) },
		"least-rate": func(n *yaml.Node, path string) {
			if count, per, ok := r.rate(n, path); ok {
				g.LeastRate = count / per.Seconds()
			}
		},
		"hosts": func(n *yaml.Node, path string) {
			r.list(n, path, "host names", func(n *yaml.Node, path string) {
				if h, ok := r.host(n, path); ok {
					g.Hosts = append(g.Hosts, h)
				}
			})
		},
		"routes": func(n *yaml.Node, path string) { g.Routes = r.routes(n, path) },
	})
	seen := r.mapping(v, path, known)
	if g.At.Bundle() != MainBundle && !seen.has("listen") {
		r.part(g, k, path, seen)
		return
	}
	r.findings = append(r.findings, r.lacks(g, k, path, seen)...)
	if r.once(k, path, "gateway "+g.Name) {
		r.rules.Gateways = append(r.rules.Gateways, g)
	}
}

// part reads routes for a gateway that another bundle declares.
func (r *reader) part(g *Gateway, k *yaml.Node, path string, seen keys) {
	p := written{gateway: g.Name, routes: g.Routes, at: g.At, path: path, missing: r.lacks(g, k, path, seen)}
	for _, name := range slices.Sorted(maps.Keys(seen)) {
		if name != "routes" {
			p.keys = append(p.keys, r.at(seen[name]))
		}
	}
	r.parts = append(r.parts, p)
}

// lacks is what is missing from a gateway.
func (r *reader) lacks(g *Gateway, k *yaml.Node, path string, seen keys) (out []Finding) {
	examples := map[string]string{"listen": `"127.0.0.1:8080"`, "hosts": "[tickets.ferry.example]"}
	for _, key := range []string{"listen", "hosts"} {
		if !seen.has(key) {
			out = append(out, Finding{
				Severity: Mistake, Code: CodeMissing, At: r.at(k), Path: path,
				Message: fmt.Sprintf("gateway %s has no %s", g.Name, key), Expected: key + ", such as " + examples[key],
			})
		}
	}
	return out
}

// certificates reads one pair of files, or a list of them.
func (r *reader) certificates(n *yaml.Node, path string) []Certificate {
	var out []Certificate
	r.items(n, path, func(n *yaml.Node, path string) {
		c := Certificate{At: r.at(n)}
		seen := r.mapping(n, path, fields{
			"cert": func(n *yaml.Node, path string) {
				c.Cert, _ = r.scalar(n, path, "the path of a PEM file with the certificate chain")
			},
			"key": func(n *yaml.Node, path string) {
				c.Key, _ = r.scalar(n, path, "the path of a PEM file with the private key")
			},
		})
		r.need(n, path, seen, "tls", "cert", "key")
		if c.Cert != "" && c.Key != "" {
			out = append(out, c)
		}
	})
	return out
}

func (r *reader) policy(k, v *yaml.Node, path string) {
	p := &Policy{Name: k.Value, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	known := r.serviceSettings(&p.Settings)
	known["limit"] = func(n *yaml.Node, path string) { p.Limit = r.limit(n, path) }
	known["for"] = func(n *yaml.Node, path string) {
		seen := r.mapping(n, path, fields{"labels": func(n *yaml.Node, path string) { p.For = r.labels(n, path) }})
		r.need(n, path, seen, "for", "labels")
	}
	seen := r.mapping(v, path, known)
	switch {
	case !seen.has("for"):
		r.mistake(
			k,
			path,
			CodeMissing,
			fmt.Sprintf("policy %s selects nothing", p.Name),
			"for: {labels: {NAME: VALUE}}; settings of the whole mesh belong under defaults",
		)
	case len(p.For) == 0:
		r.mistake(
			k,
			path,
			CodeMissing,
			fmt.Sprintf("policy %s names no label", p.Name),
			"for: {labels: {NAME: VALUE}}; settings of the whole mesh belong under defaults",
		)
	case len(p.All()) == 0 && len(seen) == 1:
		r.mistake(
			k,
			path,
			CodeMissing,
			fmt.Sprintf("policy %s sets nothing", p.Name),
			oneOf("", slices.DeleteFunc(known.names(), func(s string) bool { return s == "for" })),
		)
	}
	if len(r.rules.Policies) == maxNamed {
		r.mistake(
			k,
			path,
			CodeTooLarge,
			"too many policies",
			fmt.Sprintf("at most %d: select more services with each by their labels", maxNamed),
		)
	}
	if r.once(k, path, "policy "+p.Name) && len(r.rules.Policies) < maxNamed {
		r.rules.Policies = append(r.rules.Policies, p)
	}
}

func (r *reader) defaults(n *yaml.Node, path string) {
	d := &Defaults{At: r.at(n)}
	known := r.serviceSettings(&d.Settings)
	known["outside"] = func(n *yaml.Node, path string) { d.Outside = r.choice(n, path, "deny") }
	r.mapping(n, path, known)
	if r.once(n, path, "the section defaults") {
		r.rules.Defaults = d
	}
}
