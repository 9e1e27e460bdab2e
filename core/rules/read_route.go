package rules

import (
	"fmt"
	"net/textproto"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v4"
)

func (r *reader) routes(n *yaml.Node, path string) []*Route {
	var out []*Route
	names := map[string]Origin{}
	r.list(n, path, "routes", func(n *yaml.Node, path string) {
		rt := r.route(n, path)
		if rt.Name != "" {
			if before, twice := names[rt.Name]; twice {
				r.declaredTwice(n, path, "route "+rt.Name, before)
				return
			}
			names[rt.Name] = rt.At
		}
		out = append(out, rt)
	})
	return out
}

func (r *reader) route(n *yaml.Node, path string) *Route {
	rt := &Route{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"name":   func(n *yaml.Node, path string) { rt.Name, _ = r.name(n, path, nameShape, nameExpected) },
		"labels": func(n *yaml.Node, path string) { rt.Labels = r.labels(n, path) },
		"when": func(n *yaml.Node, path string) {
			r.items(n, path, func(n *yaml.Node, path string) { rt.When = append(rt.When, r.condition(n, path)) })
		},
		"send":    func(n *yaml.Node, path string) { rt.SendAt = r.at(n); rt.Send = r.send(n, path) },
		"rewrite": func(n *yaml.Node, path string) { rt.Rewrite = r.rewrite(n, path) },
		"timeout": func(n *yaml.Node, path string) { rt.Timeout = r.timeout(n, path) },
	})
	if n.Kind != yaml.MappingNode {
		return rt
	}
	if !seen["name"] {
		r.mistake(n, path, CodeMissing, "this route has no name", "a name, so that commands and pictures can speak of the route")
	}
	if !seen["send"] {
		r.mistake(n, path, CodeMissing, "this route sends nowhere", "send: VERSION, or send: {VERSION: WEIGHT, …}")
	}
	if rt.Rewrite != nil && strings.HasSuffix(rt.Rewrite.Path, "/**") {
		for _, c := range rt.When {
			if !strings.HasSuffix(c.Path, "/**") {
				r.findings = append(r.findings, Finding{Severity: Mistake, Code: CodeBadValue, At: rt.Rewrite.At, Path: path + ".rewrite",
					Message: "the rewrite keeps a remainder (/**) that the route's path does not have", Expected: "every path of `when` to end in /** too, or a rewrite without /**"})
				break
			}
		}
	}
	return rt
}

// send reads a target or a mapping of targets to weights.
func (r *reader) send(n *yaml.Node, path string) []Target {
	n = resolve(n)
	if n.Kind == yaml.ScalarNode {
		if t, ok := r.target(n, path); ok {
			t.Weight = Whole
			return []Target{t}
		}
		return nil
	}
	var out []Target
	var sum Percent
	bad := false
	r.entries(n, path, func(k, v *yaml.Node, path string) {
		t, ok := r.target(k, path)
		text, ok2 := r.scalar(v, path, "a weight in percent")
		if !ok || !ok2 {
			bad = true
			return
		}
		w, err := ParsePercent(text)
		if err != nil {
			bad = true
			r.mistake(v, path, CodeBadValue, err.Error(), "a weight in percent from 0 to 100 with at most three decimals")
			return
		}
		t.Weight = w
		sum += w
		out = append(out, t)
	})
	if n.Kind != yaml.MappingNode {
		return nil
	}
	if len(n.Content) == 0 {
		r.mistake(n, path, CodeMissing, "send names no target", "send: VERSION, or send: {VERSION: WEIGHT, …}")
		return nil
	}
	if !bad && sum != Whole {
		more := fmt.Sprintf("%s is missing", Whole-sum)
		if sum > Whole {
			more = fmt.Sprintf("%s is too much", sum-Whole)
		}
		r.mistake(n, path, CodeWeights, fmt.Sprintf("the weights add to %s, not to 100", sum), "weights in percent that add to 100: "+more)
	}
	return out
}

// target reads version, service/version or service. Which of the two a bare
// name is can only be told when all files are read; until then it stands in
// Version.
func (r *reader) target(n *yaml.Node, path string) (Target, bool) {
	const expected = "VERSION or SERVICE/VERSION (in a gateway also SERVICE)"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return Target{}, false
	}
	t := Target{At: r.at(n)}
	service, version, crossed := strings.Cut(s, "/")
	if !crossed {
		service, version = "", s
	}
	if (crossed && !nameShape.MatchString(service)) || !versionShape.MatchString(version) {
		r.mistake(n, path, CodeBadName, fmt.Sprintf("%q is not a target", s), expected)
		return Target{}, false
	}
	t.Service, t.Version = service, version
	return t, true
}

func (r *reader) rewrite(n *yaml.Node, path string) *Rewrite {
	rw := &Rewrite{At: r.at(n)}
	r.mapping(n, path, fields{
		"path": func(n *yaml.Node, path string) {
			const expected = "a path that begins with /, such as /board or /v2/**"
			s, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			plain := strings.TrimSuffix(s, "/**")
			if !strings.HasPrefix(s, "/") || strings.ContainsAny(plain, "*?# \t") || hasDots(plain) {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a path to rewrite to", s), expected)
				return
			}
			rw.Path = s
		},
		"host": func(n *yaml.Node, path string) {
			if h, ok := r.host(n, path); ok && !strings.HasPrefix(h, "*") {
				rw.Host = h
			} else if ok {
				r.mistake(n, path, CodeBadValue, "a rewrite needs one exact host", "a host name such as tickets.ferry.example")
			}
		},
	})
	return rw
}

// hasDots tells whether a path has a segment . or .. in it.
func hasDots(path string) bool {
	for seg := range strings.SplitSeq(path, "/") {
		if seg == "." || seg == ".." {
			return true
		}
	}
	return false
}

func (r *reader) condition(n *yaml.Node, path string) Condition {
	c := Condition{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"path": func(n *yaml.Node, path string) {
			const expected = "/a/b (exact), /a/* (one segment) or /a/** (the path and everything under it)"
			s, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			plain := strings.TrimSuffix(strings.TrimSuffix(s, "/**"), "/*")
			if !strings.HasPrefix(s, "/") || strings.ContainsAny(plain, "*?# \t") || hasDots(plain) || strings.Contains(s, "//") {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a path condition", s), expected)
				return
			}
			c.Path = s
		},
		"method": func(n *yaml.Node, path string) {
			r.items(n, path, func(n *yaml.Node, path string) {
				s, ok := r.scalar(n, path, "a method such as GET, or a list of methods")
				if ok && !tokenShape.MatchString(s) {
					r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a method", s), "a method such as GET, or a list of methods")
					return
				}
				if ok && s != strings.ToUpper(s) {
					r.mistake(n, path, CodeBadValue, fmt.Sprintf("methods are written in capitals, not %q", s), strings.ToUpper(s))
					return
				}
				if ok {
					c.Methods = append(c.Methods, s)
				}
			})
		},
		"headers": func(n *yaml.Node, path string) {
			c.Headers = r.tests(n, path, textproto.CanonicalMIMEHeaderKey)
		},
		"cookies": func(n *yaml.Node, path string) {
			c.Cookies = r.tests(n, path, func(s string) string { return s })
		},
	})
	if n := resolve(n); n.Kind == yaml.MappingNode && len(seen) == 0 {
		r.mistake(n, path, CodeMissing, "this condition is empty", "at least one of path, method, headers, cookies; or no `when` at all, which always holds")
	}
	return c
}

func (r *reader) tests(n *yaml.Node, path string, canonical func(string) string) []Test {
	var out []Test
	r.entries(n, path, func(k, v *yaml.Node, path string) {
		if !tokenShape.MatchString(k.Value) {
			r.mistake(k, path, CodeBadName, fmt.Sprintf("%q cannot be the name of a header or cookie", k.Value), "letters, digits and hyphens")
			return
		}
		out = append(out, r.test(canonical(k.Value), v, path, false)...)
	})
	return out
}

// test reads one test: a plain scalar tests equality, a mapping names the
// comparison; several comparisons in one mapping must all hold.
func (r *reader) test(name string, n *yaml.Node, path string, not bool) []Test {
	n = resolve(n)
	if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		return []Test{{Name: name, Op: Is, Values: []string{n.Value}, Not: not}}
	}
	var out []Test
	add := func(op Op, values ...string) { out = append(out, Test{Name: name, Op: op, Values: values, Not: not}) }
	one := func(op Op) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			if s, ok := r.scalar(n, path, "a plain value"); ok {
				add(op, s)
			}
		}
	}
	known := fields{
		"is": one(Is), "prefix": one(Prefix), "suffix": one(Suffix), "contains": one(Contains),
		"in": func(n *yaml.Node, path string) {
			var values []string
			r.list(n, path, "plain values", func(n *yaml.Node, path string) {
				if s, ok := r.scalar(n, path, "a plain value"); ok {
					values = append(values, s)
				}
			})
			add(In, values...)
		},
		"regex": func(n *yaml.Node, path string) {
			s, ok := r.scalar(n, path, "a regular expression (RE2)")
			if !ok {
				return
			}
			if _, err := regexp.Compile(s); err != nil {
				r.mistake(n, path, CodeBadRegex, strings.TrimPrefix(err.Error(), "error parsing regexp: "), "a regular expression in RE2 syntax")
				return
			}
			add(Regex, s)
		},
		"present": func(n *yaml.Node, path string) {
			switch s, ok := r.scalar(n, path, "true or false"); {
			case !ok:
			case s == "true":
				add(Present)
			case s == "false":
				add(Absent)
			default:
				r.mistake(n, path, CodeWrongType, fmt.Sprintf("%q is neither true nor false", s), "true or false")
			}
		},
	}
	if !not {
		known["not"] = func(n *yaml.Node, path string) { out = append(out, r.test(name, n, path, true)...) }
	}
	if seen := r.mapping(n, path, known); len(seen) == 0 && n.Kind == yaml.MappingNode {
		r.mistake(n, path, CodeMissing, "this test is empty", "a plain value, or one of is, in, prefix, suffix, contains, regex, present, not")
	} else if not && len(seen) > 1 {
		r.mistake(n, path, CodeBadValue, "not turns round one comparison, and here are several", "one comparison under each not")
	}
	return out
}
