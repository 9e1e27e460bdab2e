package rules

import (
	"fmt"
	"maps"
	"net/textproto"
	"strings"

	"go.yaml.in/yaml/v4"
)

func (r *reader) conditions(n *yaml.Node, path string) []Condition {
	var out []Condition
	r.items(n, path, func(n *yaml.Node, path string) {
		if !isNull(n) {
			out = append(out, r.condition(n, path))
			return
		}
		r.mistake(n, path, CodeMissing, "the condition is empty", whenExpected)
	})
	return out
}

const whenExpected = "at least one of path, method, host, from, site, address, claims, headers, query, cookies, any, all, not; " +
	"or no when at all, which always holds"

func (r *reader) condition(n *yaml.Node, path string) Condition { return r.conditionWith(n, path, nil) }

// conditionWith reads a condition in which other keys may stand in place of the caller,
// who is named elsewhere; nil: it is an ordinary one.
func (r *reader) conditionWith(n *yaml.Node, path string, more fields) Condition {
	c, before := Condition{At: r.at(n)}, len(r.findings)
	same := func(s string) string { return s }
	known := fields{
		"path":    func(n *yaml.Node, path string) { r.pathCondition(&c, n, path) },
		"method":  func(n *yaml.Node, path string) { c.Methods = r.methods(n, path) },
		"host":    func(n *yaml.Node, path string) { c.Hosts = r.hosts(n, path) },
		"from":    func(n *yaml.Node, path string) { c.From = r.names(n, path) },
		"site":    func(n *yaml.Node, path string) { c.Sites = r.names(n, path) },
		"address": func(n *yaml.Node, path string) { c.Addresses = r.addresses(n, path) },
		"claims":  func(n *yaml.Node, path string) { c.Claims = r.claims(n, path) },
		"headers": func(n *yaml.Node, path string) { c.Headers = r.tests(n, path, textproto.CanonicalMIMEHeaderKey) },
		"query":   func(n *yaml.Node, path string) { c.Query = r.tests(n, path, nil) },
		"cookies": func(n *yaml.Node, path string) { c.Cookies = r.tests(n, path, same) },
		"any":     func(n *yaml.Node, path string) { c.Any = r.group(n, path) },
		"all":     func(n *yaml.Node, path string) { c.All = r.group(n, path) },
		"not":     func(n *yaml.Node, path string) { c.Not = r.conditions(n, path) },
	}
	if more != nil {
		for _, no := range []string{"from", "address", "claims"} { // see outsiders
			delete(known, no)
		}
		maps.Copy(known, more)
	}
	seen := r.mapping(n, path, known)
	if n := resolve(n); n.Kind == yaml.MappingNode && len(seen) == 0 {
		r.mistake(n, path, CodeMissing, "the condition is empty", whenExpected)
	}
	c.broken = len(r.findings) > before || r.programs > maxPrograms
	return c
}

// group reads the list under any or all.
func (r *reader) group(n *yaml.Node, path string) []Condition {
	if n := resolve(n); n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
		what := kind(n)
		if n.Kind == yaml.SequenceNode {
			what = "an empty list"
		}
		r.mistake(n, path, CodeWrongType, "this is "+what, "a list of conditions: [{path: /a}, {method: GET}]")
		return nil
	}
	return r.conditions(n, path)
}

const pathExpected = "/a/b, /a/*/b (* is one segment), /a/** (the path and everything under it) or {regex: …}"

func (r *reader) pathCondition(c *Condition, n *yaml.Node, path string) {
	if isMapping(n) {
		seen := r.mapping(
			n,
			path,
			fields{"regex": func(n *yaml.Node, path string) { c.PathRegex, _ = r.regex(n, path) }},
		)
		r.need(n, path, seen, "this path", "regex")
		return
	}
	s, ok := r.scalar(n, path, pathExpected)
	if !ok {
		return
	}
	fine := plainPath(s)
	segs := strings.Split(s, "/")
	for i, seg := range segs {
		last := i == len(segs)-1
		if strings.Contains(seg, "*") && seg != "*" && !(seg == "**" && last) {
			fine = false
		}
	}
	if !fine {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a path condition", s), pathExpected)
		return
	}
	c.Path = s
}

func (r *reader) methods(n *yaml.Node, path string) []string {
	var out []string
	r.items(n, path, func(n *yaml.Node, path string) {
		s, ok := r.scalar(n, path, "a method such as GET, or a list of methods")
		switch {
		case !ok:
		case !tokenShape.MatchString(s):
			r.mistake(
				n,
				path,
				CodeBadValue,
				fmt.Sprintf("%q is not a method", s),
				"a method such as GET, or a list of methods",
			)
		case s != strings.ToUpper(s):
			r.mistake(
				n,
				path,
				CodeBadValue,
				fmt.Sprintf("%q is not in capitals", s),
				strings.ToUpper(s),
			)
		default:
			out = append(out, s)
		}
	})
	return out
}

func (r *reader) hosts(n *yaml.Node, path string) []string {
	var out []string
	r.items(n, path, func(n *yaml.Node, path string) {
		if h, ok := r.host(n, path); ok {
			out = append(out, h)
		}
	})
	return out
}

// tests reads a mapping from names to tests; canonical is nil where any text
// can be a name.
func (r *reader) tests(n *yaml.Node, path string, canonical func(string) string) []Test {
	var out []Test
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		name := k.Value
		if canonical != nil {
			if !tokenShape.MatchString(name) {
				r.mistake(
					k,
					path,
					CodeBadName,
					fmt.Sprintf("%q is not a valid name of a header or cookie", name),
					"letters, digits and hyphens",
				)
				return
			}
			name = canonical(name)
		}
		out = append(out, r.test(name, v, path, false)...)
	})
	if n := resolve(n); n.Kind == yaml.MappingNode && len(n.Content) == 0 {
		r.mistake(n, path, CodeMissing, "the condition has no test", "a name and a test, such as {x-crew: \"yes\"}")
	}
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
			if len(values) == 0 {
				r.mistake(
					n,
					path,
					CodeMissing,
					"the list is empty, so no value matches",
					"a list of plain values: [a, b]",
				)
				return
			}
			add(In, values...)
		},
		"regex": func(n *yaml.Node, path string) {
			if s, ok := r.regex(n, path); ok {
				add(Regex, s)
			}
		},
		"present": func(n *yaml.Node, path string) {
			before := len(r.findings)
			if yes := r.yes(n, path); yes {
				add(Present)
			} else if len(r.findings) == before {
				add(Absent)
			}
		},
	}
	if !not {
		known["not"] = func(n *yaml.Node, path string) { out = append(out, r.test(name, n, path, true)...) }
	}
	if seen := r.mapping(n, path, known); len(seen) == 0 && (n.Kind == yaml.MappingNode || isNull(n)) {
		r.mistake(
			n,
			path,
			CodeMissing,
			"the test is empty",
			"a plain value, or one of is, in, prefix, suffix, contains, regex, present, not",
		)
	} else if not && len(seen) > 1 {
		r.mistake(
			n,
			path,
			CodeBadValue,
			"not takes one comparison, but here are several",
			"one comparison under each not",
		)
	}
	return out
}
