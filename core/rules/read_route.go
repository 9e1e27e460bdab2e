package rules

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// maxReply bounds the body of a fixed answer.
const maxReply = 64 << 10

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
		"team":   func(n *yaml.Node, path string) { r.place(rt, n, path) },
		"name":   func(n *yaml.Node, path string) { rt.Name, _ = r.name(n, path, nameShape, nameExpected) },
		"labels": func(n *yaml.Node, path string) { rt.Labels = r.labels(n, path) },
		"when":   func(n *yaml.Node, path string) { rt.When = r.conditions(n, path) },
		"send":   func(n *yaml.Node, path string) { rt.SendAt = r.at(n); rt.Send = r.send(n, path) },
		"otherwise": func(n *yaml.Node, path string) {
			if t, ok := r.target(n, path); ok {
				rt.Otherwise = &t
			}
		},
		"authenticate": func(n *yaml.Node, path string) { rt.Authenticate = r.authenticate(n, path) },
		"stick":        func(n *yaml.Node, path string) { rt.Stick = r.stick(n, path) },
		"redirect":     func(n *yaml.Node, path string) { rt.Redirect = r.redirect(n, path) },
		"reply":        func(n *yaml.Node, path string) { rt.Reply = r.reply(n, path) },
		"rewrite":      func(n *yaml.Node, path string) { rt.Rewrite = r.rewrite(n, path) },
		"headers":      func(n *yaml.Node, path string) { rt.Headers = r.headerEdits(n, path) },
		"mirror":       func(n *yaml.Node, path string) { rt.Mirror = r.mirror(n, path) },
		"fault": func(n *yaml.Node, path string) {
			r.items(n, path, func(n *yaml.Node, path string) { rt.Faults = append(rt.Faults, r.fault(n, path)) })
		},
		"timeout": func(n *yaml.Node, path string) { rt.Timeout = r.timeout(n, path) },
		"retry":   func(n *yaml.Node, path string) { rt.Retry = r.retry(n, path) },
		"limit":   func(n *yaml.Node, path string) { rt.Limit = r.limit(n, path) },
	})
	if !isMapping(n) {
		return rt
	}
	if rt.isPlace {
		if len(seen) > 1 {
			r.mistake(n, path, CodeBadValue, "the place of a team's routes has nothing else", "team: "+rt.Team+" alone")
		}
		return rt
	}
	if !seen.has("name") {
		r.mistake(
			n,
			path,
			CodeMissing,
			"the route has no name",
			"name: NAME, which commands and pages use",
		)
	}
	r.oneEnd(n, path, seen)
	r.remainder(rt, path)
	return rt
}

// oneEnd: a route sends, redirects or replies, and has only what goes with it.
func (r *reader) oneEnd(n *yaml.Node, path string, seen keys) {
	var ends []string
	for _, k := range []string{"send", "redirect", "reply"} {
		if seen.has(k) {
			ends = append(ends, k)
		}
	}
	switch len(ends) {
	case 0:
		r.mistake(
			n,
			path,
			CodeMissing,
			"the route has no target",
			"send: VERSION, send: {VERSION: WEIGHT, …}, redirect: {…} or reply: {…}",
		)
		return
	case 1:
	default:
		r.mistake(
			seen[ends[1]],
			path+"."+ends[1],
			CodeBadValue,
			"a route has one of send, redirect and reply, but this one has "+strings.Join(ends, " and "),
			"one of send, redirect and reply",
		)
		return
	}
	if ends[0] == "send" {
		return
	}
	for _, k := range []string{"otherwise", "stick", "rewrite", "mirror", "retry", "timeout"} {
		if at := seen[k]; at != nil {
			r.mistake(
				at,
				path+"."+k,
				CodeBadValue,
				fmt.Sprintf("%s has no effect on a route with %s", k, ends[0]),
				"send, or no "+k,
			)
		}
	}
}

// remainder: what is kept of the path must have been left open by every
// condition.
func (r *reader) remainder(rt *Route, path string) {
	check := func(to, key string, at Origin) {
		if !strings.HasSuffix(to, "/**") {
			return
		}
		open := len(rt.When) > 0
		for _, c := range rt.When {
			open = open && strings.HasSuffix(c.Path, "/**")
		}
		if !open {
			r.findings = append(
				r.findings,
				Finding{
					Severity: Mistake,
					Code:     CodeBadValue,
					At:       at,
					Path:     path + "." + key,
					Message: fmt.Sprintf(
						"the %s keeps the rest of the path (/**), but the route's conditions have no such path",
						key,
					),
					Expected: "a path that ends in /** in every condition of when, or no /** here",
				},
			)
		}
	}
	if rt.Rewrite != nil {
		check(rt.Rewrite.Path, "rewrite", rt.Rewrite.At)
	}
	if rt.Redirect != nil {
		check(rt.Redirect.Path, "redirect", rt.Redirect.At)
	}
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
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		t, ok := r.target(k, path)
		text, ok2 := r.scalar(v, path, "a weight in percent")
		if !ok || !ok2 {
			bad = true
			return
		}
		w, err := ParsePercent(text)
		if err != nil {
			bad = true
			r.mistake(
				v,
				path,
				CodeBadValue,
				err.Error(),
				"a weight in percent from 0 to 100 with at most three decimals",
			)
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
		r.mistake(
			n,
			path,
			CodeWeights,
			fmt.Sprintf("the weights add to %s, not to 100", sum),
			"weights in percent that add to 100: "+more,
		)
	}
	return out
}

// target reads version, service/version or service, each but the last with
// @site. Which of the first and the last a bare name is can only be told when
// all files are read; until then it stands in Version.
func (r *reader) target(n *yaml.Node, path string) (Target, bool) {
	const expected = "VERSION or SERVICE/VERSION, either with @SITE (in a gateway also SERVICE)"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return Target{}, false
	}
	t := Target{At: r.at(n)}
	name, site, placed := strings.Cut(s, "@")
	service, version, crossed := strings.Cut(name, "/")
	if !crossed {
		service, version = "", name
	}
	if (crossed && !nameShape.MatchString(service)) || !versionShape.MatchString(version) ||
		placed && !nameShape.MatchString(site) {
		r.mistake(n, path, CodeBadName, fmt.Sprintf("%q is not a target", s), expected)
		return Target{}, false
	}
	t.Service, t.Version, t.Site = service, version, site
	return t, true
}

func (r *reader) stick(n *yaml.Node, path string) *Stick {
	s := &Stick{At: r.at(n)}
	seen := r.mapping(n, path, fields{"by": func(n *yaml.Node, path string) { s.By, _ = r.key(n, path) }})
	r.need(n, path, seen, "stick", "by")
	if s.By.Kind == "" {
		return nil
	}
	return s
}

// newPath reads a path to rewrite or redirect to.
func (r *reader) newPath(n *yaml.Node, path string) string {
	const expected = "a path that starts with /, such as /board or /v2/**"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return ""
	}
	if plain := strings.TrimSuffix(s, "/**"); !strings.HasPrefix(s, "/") || plain != "" && !plainPath(plain) ||
		strings.Contains(plain, "*") {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a valid path", s), expected)
		return ""
	}
	return s
}

func (r *reader) rewrite(n *yaml.Node, path string) *Rewrite {
	rw := &Rewrite{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"path": func(n *yaml.Node, path string) { rw.Path = r.newPath(n, path) },
		"host": func(n *yaml.Node, path string) { rw.Host = r.oneHost(n, path) },
	})
	if isMapping(n) && len(seen) == 0 {
		r.mistake(n, path, CodeMissing, "the rewrite changes nothing", "path or host")
	}
	return rw
}

func (r *reader) redirect(n *yaml.Node, path string) *Redirect {
	rd := &Redirect{Status: 307, At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"scheme": func(n *yaml.Node, path string) { rd.Scheme = r.choice(n, path, "http", "https") },
		"host":   func(n *yaml.Node, path string) { rd.Host = r.oneHost(n, path) },
		"path":   func(n *yaml.Node, path string) { rd.Path = r.newPath(n, path) },
		"status": func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, 300, 399)
			if ok && !slices.Contains([]int{301, 302, 303, 307, 308}, v) {
				r.mistake(
					n,
					path,
					CodeBadValue,
					fmt.Sprintf("status %d does not redirect", v),
					"301, 302, 303, 307 or 308",
				)
				return
			}
			set(&rd.Status, v, ok)
		},
	})
	if isMapping(n) && !seen.has("path") && !seen.has("host") && !seen.has("scheme") {
		r.mistake(n, path, CodeMissing, "the redirect leads to the same place", "path, host or scheme")
	}
	return rd
}

func (r *reader) reply(n *yaml.Node, path string) *Reply {
	rp := &Reply{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"status": func(n *yaml.Node, path string) { rp.Status, _ = r.number(n, path, 200, 599) },
		"body": func(n *yaml.Node, path string) {
			s, ok := r.scalar(n, path, "a text")
			if ok && len(s) > maxReply {
				r.mistake(
					n,
					path,
					CodeTooLarge,
					fmt.Sprintf("the body has %d bytes", len(s)),
					fmt.Sprintf("at most %d bytes", maxReply),
				)
				return
			}
			rp.Body = s
		},
		"headers": func(n *yaml.Node, path string) { rp.Headers = r.headerFields(n, path) },
	})
	r.need(n, path, seen, "reply", "status")
	if at := seen["body"]; at != nil && rp.Body != "" && (rp.Status == 204 || rp.Status == 304) {
		r.mistake(
			at,
			path+".body",
			CodeBadValue,
			fmt.Sprintf("a response with status %d has no body", rp.Status),
			"no body, or another status",
		)
	}
	return rp
}

func (r *reader) headerEdits(n *yaml.Node, path string) *HeaderEdits {
	h := &HeaderEdits{At: r.at(n)}
	edits := func(e *Edits) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			seen := r.mapping(n, path, fields{
				"set": func(n *yaml.Node, path string) { e.Set = r.headerFields(n, path) },
				"add": func(n *yaml.Node, path string) { e.Add = r.headerFields(n, path) },
				"remove": func(n *yaml.Node, path string) {
					r.items(n, path, func(n *yaml.Node, path string) {
						if name, ok := r.headerName(n, path); ok {
							e.Remove = append(e.Remove, name)
						}
					})
				},
			})
			if isMapping(n) && len(seen) == 0 {
				r.mistake(n, path, CodeMissing, "no header is changed", "set, add or remove")
			}
		}
	}
	seen := r.mapping(n, path, fields{"request": edits(&h.Request), "response": edits(&h.Response)})
	if isMapping(n) && len(seen) == 0 {
		r.mistake(n, path, CodeMissing, "no header is changed", "request or response")
	}
	return h
}

func (r *reader) mirror(n *yaml.Node, path string) *Mirror {
	m := &Mirror{Share: Whole, At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"to": func(n *yaml.Node, path string) { m.To, _ = r.target(n, path) },
		"share": func(n *yaml.Node, path string) {
			p, ok := r.percent(n, path, 1)
			set(&m.Share, p, ok)
		},
	})
	r.need(n, path, seen, "mirror", "to")
	if m.To.Version == "" {
		return nil
	}
	return m
}

func (r *reader) fault(n *yaml.Node, path string) Fault {
	f := Fault{Share: Whole, At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"delay": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Nanosecond)
			set(&f.Delay, d, ok)
		},
		"status": func(n *yaml.Node, path string) { f.Status, _ = r.number(n, path, 200, 599) },
		"share": func(n *yaml.Node, path string) {
			p, ok := r.percent(n, path, 0)
			set(&f.Share, p, ok)
		},
	})
	if isMapping(n) && !seen.has("delay") && !seen.has("status") {
		r.mistake(n, path, CodeMissing, "the fault does nothing", "delay, status or both")
	}
	return f
}
