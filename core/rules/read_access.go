package rules

import (
	"fmt"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

func (r *reader) access(n *yaml.Node, path string) {
	a := r.rules.Access
	if a == nil {
		a = &Access{Default: "allow", At: r.at(n)}
		r.rules.Access = a
	}
	r.mapping(n, path, fields{
		"default": func(n *yaml.Node, path string) {
			if s := r.choice(n, path, "allow", "deny"); s != "" && r.once(n, path, "the default of access") {
				a.Default, a.DefaultAt = s, r.at(n)
			}
		},
		"mode": func(n *yaml.Node, path string) {
			if s := r.choice(n, path, "enforce", "watch"); s != "" && r.once(n, path, "the mode of access") {
				a.Watch, a.WatchAt = s == "watch", r.at(n)
			}
		},
		"rules": func(n *yaml.Node, path string) {
			r.list(n, path, "rules", func(n *yaml.Node, path string) { r.accessRule(a, n, path) })
		},
	})
}

func (r *reader) accessRule(a *Access, n *yaml.Node, path string) {
	rule := AccessRule{At: r.at(n)}
	what := func(allow bool) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			rule.Allow = allow
			r.accessCondition(&rule, n, path)
		}
	}
	seen := r.mapping(n, path, fields{
		"name": func(n *yaml.Node, path string) { rule.Name, _ = r.name(n, path, nameShape, nameExpected) },
		"mode": func(n *yaml.Node, path string) { rule.Watch = r.choice(n, path, "enforce", "watch") == "watch" },
		"from": func(n *yaml.Node, path string) { rule.From = r.parties(n, path, true) },
		"to":   func(n *yaml.Node, path string) { rule.To = r.parties(n, path, false) },

		"allow": what(true),
		"deny":  what(false),
	})
	r.need(n, path, seen, "this rule", "name")
	if isMapping(n) && seen.has("allow") == seen.has("deny") {
		r.mistake(
			n,
			path,
			CodeMissing,
			"a rule has either allow or deny",
			"one of allow and deny, with a condition or all",
		)
	}
	if rule.Name != "" && r.once(n, path, "access rule "+rule.Name) {
		a.Rules = append(a.Rules, rule)
	}
}

// accessCondition reads which requests a rule is about: all, or a condition, with the
// port of the workload besides.
func (r *reader) accessCondition(rule *AccessRule, n *yaml.Node, path string) {
	s := resolve(n)
	if s.Kind == yaml.ScalarNode && s.Value == "all" {
		return
	}
	if !isMapping(n) {
		r.mistake(
			n,
			path,
			CodeWrongType,
			"this is "+kind(n),
			"a condition such as {method: [GET], path: /a/**}, or all",
		)
		return
	}
	rule.What = r.conditionWith(n, path, fields{"port": func(n *yaml.Node, path string) {
		const expected = "a port from 1 to 65535"
		text, ok := r.scalar(n, path, expected)
		port, err := strconv.ParseUint(text, 10, 16)
		if ok && (err != nil || port == 0) {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a port", text), expected)
		}
		rule.Port = int(port)
	}})
}

const (
	fromExpected = "a service, gateway/NAME, @SITE, {labels: {NAME: VALUE}}, {team: NAME}, or anyone"
	toExpected   = "a service, {labels: {NAME: VALUE}}, or {team: NAME}"
)

// parties reads who calls, or who is called.
func (r *reader) parties(n *yaml.Node, path string, isFrom bool) []Party {
	var out []Party
	expected := toExpected
	if isFrom {
		expected = fromExpected
	}
	one := func(n *yaml.Node, path string) {
		if isMapping(n) {
			p := Party{Kind: PartyLabels}
			seen := r.mapping(n, path, fields{
				"labels": func(n *yaml.Node, path string) { p.Labels = r.labels(n, path) },
				"team": func(n *yaml.Node, path string) {
					p.Kind = PartyTeam
					p.Name, _ = r.name(n, path, nameShape, nameExpected)
				},
			})
			if len(seen) != 1 {
				r.mistake(n, path, CodeMissing, "this party has either labels or a team", "{labels: {NAME: VALUE}} or {team: NAME}")
				return
			}
			if len(p.Labels) > 0 || p.Name != "" {
				out = append(out, p)
			}
			return
		}
		text, ok := r.scalar(n, path, expected)
		if !ok {
			return
		}
		p := Party{Kind: PartyService, Name: text}
		gateway, isGateway := strings.CutPrefix(text, "gateway/")
		site, isSite := strings.CutPrefix(text, "@")
		switch {
		case isGateway:
			p = Party{Kind: PartyGateway, Name: gateway}
		case isSite:
			p = Party{Kind: PartySite, Name: site}
		case text == "anyone":
			p = Party{Kind: PartyAnyone}
		}
		if p.Kind != PartyAnyone && !nameShape.MatchString(p.Name) || !isFrom && p.Kind != PartyService {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q cannot stand here", text), expected)
			return
		}
		out = append(out, p)
	}
	if isMapping(n) { // a single one
		one(n, path)
		return out
	}
	r.items(n, path, one)
	return out
}
