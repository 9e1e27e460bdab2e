package rules

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Access is the section `access`: who may call whom. The first rule whose parties and
// condition hold decides, and else Default.
type Access struct {
	Default string       `json:"default"`         // allow or deny
	Watch   bool         `json:"watch,omitempty"` // what would be refused is let in, and counted
	Rules   []AccessRule `json:"rules,omitempty"`
	At      Origin       `json:"at"`
}

// AccessRule allows or denies calls.
type AccessRule struct {
	Name  string    `json:"name"`
	Watch bool      `json:"watch,omitempty"` // what it would refuse is let in, and counted
	From  []Party   `json:"from,omitempty"`  // any of them; none: anyone
	To    []Party   `json:"to,omitempty"`    // services; none: all
	Allow bool      `json:"allow"`
	What  Condition `json:"what"`           // which requests; an empty one means all
	Port  int       `json:"port,omitempty"` // of the workload; 0: any
	At    Origin    `json:"at"`
}

// Party is who calls, or who is called.
type Party struct {
	Kind   string `json:"kind"`             // service, gateway, site, labels or anyone
	Name   string `json:"name,omitempty"`   // of the service, gateway or site
	Labels Labels `json:"labels,omitempty"` // services that have all of them
	// Names are the services that have the labels, where the services are not at hand;
	// nil: they are.
	Names []string `json:"names,omitzero"`
}

// Kinds of parties.
const (
	PartyService = "service"
	PartyGateway = "gateway"
	PartySite    = "site"
	PartyLabels  = "labels"
	PartyAnyone  = "anyone"
)

// String is the party as an author would write it.
func (p Party) String() string {
	switch p.Kind {
	case PartyGateway:
		return "gateway/" + p.Name
	case PartySite:
		return "@" + p.Name
	case PartyLabels:
		return "{labels: {" + strings.ReplaceAll(p.Labels.String(), "=", ": ") + "}}"
	case PartyAnyone:
		return "anyone"
	}
	return p.Name
}

// Parties writes a list of parties; none is said as absent.
func Parties(list []Party, absent string) string {
	if len(list) == 0 {
		return absent
	}
	var out []string
	for _, p := range list {
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

// Describe is the rule in a line.
func (r *AccessRule) Describe() string {
	verb := "denies"
	if r.Allow {
		verb = "allows"
	}
	what := cmp.Or(r.What.Describe(), "all")
	if r.Port > 0 {
		what = strings.TrimPrefix(what+fmt.Sprintf(", port %d", r.Port), "all, ")
	}
	return fmt.Sprintf("%s %s to %s: %s", verb, Parties(r.From, "anyone"), Parties(r.To, "all services"), what)
}

// Resolved is the section with the names of the services that have the labels of its
// parties, for those who do not know all services.
func (a *Access) Resolved(services []*Service) *Access {
	if a == nil {
		return nil
	}
	out := *a
	out.Rules = slices.Clone(a.Rules)
	for i := range out.Rules {
		out.Rules[i].From = resolved(out.Rules[i].From, services)
		out.Rules[i].To = resolved(out.Rules[i].To, services)
	}
	return &out
}

func resolved(list []Party, services []*Service) []Party {
	if !slices.ContainsFunc(list, func(p Party) bool { return p.Kind == PartyLabels }) {
		return list
	}
	list = slices.Clone(list)
	for i := range list {
		if list[i].Kind != PartyLabels {
			continue
		}
		names := []string{}
		for _, s := range services {
			if list[i].Labels.Within(s.Labels) {
				names = append(names, s.Name)
			}
		}
		list[i].Names = names
	}
	return list
}

// Within tells whether all of the labels are among others.
func (l Labels) Within(others Labels) bool {
	for k, v := range l {
		if has, ok := others[k]; !ok || has != v {
			return false
		}
	}
	return true
}

func (r *reader) access(n *yaml.Node, path string) {
	a := r.rules.Access
	if a == nil {
		a = &Access{Default: "allow", At: r.at(n)}
		r.rules.Access = a
	}
	r.mapping(n, path, fields{
		"default": func(n *yaml.Node, path string) {
			if s := r.choice(n, path, "allow", "deny"); s != "" && r.once(n, path, "the default of access") {
				a.Default = s
			}
		},
		"mode": func(n *yaml.Node, path string) {
			if s := r.choice(n, path, "enforce", "watch"); s != "" && r.once(n, path, "the mode of access") {
				a.Watch = s == "watch"
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
	fromExpected = "a service, gateway/NAME, @SITE, {labels: {NAME: VALUE}}, or anyone"
	toExpected   = "a service, or {labels: {NAME: VALUE}}"
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
			seen := r.mapping(
				n,
				path,
				fields{"labels": func(n *yaml.Node, path string) { p.Labels = r.labels(n, path) }},
			)
			r.need(n, path, seen, "this party", "labels")
			if len(p.Labels) > 0 {
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

// accessParties checks that the parties of access rules are declared.
func (c *checker) accessParties() {
	a := c.rules.Access
	if a == nil {
		return
	}
	for i, rule := range a.Rules {
		path := fmt.Sprintf("access.rules[%d]", i)
		for _, p := range rule.From {
			switch p.Kind {
			case PartyService:
				if c.whole && c.services[p.Name] == nil && c.rules.Gateway(p.Name) != nil {
					c.mistake(rule.At, path+".from", CodeUnknownService, p.Name+" is a gateway", "gateway/"+p.Name)
					continue
				}
				c.knownService(rule.At, path+".from", p.Name)
			case PartyGateway:
				c.knownGateway(rule.At, path+".from", p.Name)
			case PartySite:
				c.knownSite(rule.At, path+".from", p.Name)
			case PartyLabels:
				c.knownLabels(rule.At, path+".from", p.Labels)
			}
		}
		for _, p := range rule.To {
			if p.Kind == PartyLabels {
				c.knownLabels(rule.At, path+".to", p.Labels)
				continue
			}
			c.knownService(rule.At, path+".to", p.Name)
		}
		c.condition(&rule.What, path)
	}
}

// knownGateway reports a gateway that nothing declares.
func (c *checker) knownGateway(at Origin, path, name string) {
	if c.whole && c.gateways[name] == nil {
		c.mistake(at, path, CodeUnknownService, "no gateway "+name+" is declared",
			c.oneOf(name, "gateway", func() []string { return slices.Collect(maps.Keys(c.gateways)) }))
	}
}

// knownLabels reports labels that no service has.
func (c *checker) knownLabels(at Origin, path string, want Labels) {
	if !c.whole || slices.ContainsFunc(c.rules.Services, func(s *Service) bool { return want.Within(s.Labels) }) {
		return
	}
	c.mistake(at, path, CodeUnknownLabels, fmt.Sprintf("no service has the labels %s", want), c.nearLabels(want))
}

// Fits tells whether a caller is one of the parties, by its name and its sites; none is
// everybody.
func Fits(list []Party, r *Rules, name string, sites []string) bool {
	if len(list) == 0 {
		return true
	}
	for i := range list {
		p := &list[i]
		switch p.Kind {
		case PartyAnyone:
			return true
		case PartySite:
			if slices.Contains(sites, p.Name) {
				return true
			}
		case PartyLabels:
			if s := r.Service(name); s != nil && p.Labels.Within(s.Labels) {
				return true
			}
		case PartyGateway:
			if name == p.Name && r.Gateway(name) != nil {
				return true
			}
		default:
			if name == p.Name && r.Gateway(name) == nil {
				return true
			}
		}
	}
	return false
}

// refuses tells whether no request of a link would be let in: where that was written, and
// why in words.
func (a *Access) refuses(r *Rules, l Link) (at Origin, by string, refused bool) {
	if a.Watch {
		return at, "", false
	}
	for i := range a.Rules {
		rule := &a.Rules[i]
		if !Fits(rule.From, r, l.From, l.Sites) || !Fits(rule.To, r, l.To, nil) {
			continue
		}
		isAll := rule.What.Describe() == "" && rule.Port == 0
		switch {
		case rule.Allow:
			return at, "", false
		case isAll && !rule.Watch:
			return rule.At, "access rule " + rule.Name + " denies it", true
		}
	}
	return a.At, "no access rule allows it", a.Default == "deny"
}

// accessRules warns of access rules that can never decide, and of those that allow what
// the caller's own list of calls leaves out.
func (c *checker) accessRules() {
	a := c.rules.Access
	if a == nil {
		return
	}
	looks := 0
	for i := range a.Rules {
		rule, path := &a.Rules[i], fmt.Sprintf("access.rules[%d]", i)
		for j := range a.Rules[:i] {
			if looks++; looks > maxLooks {
				break
			}
			if earlier := &a.Rules[j]; earlier.covers(rule) {
				c.warn(
					rule.At,
					path,
					CodeShadowed,
					fmt.Sprintf(
						"access rule %s never decides: the earlier rule %s decides all that it could",
						rule.Name,
						earlier.Name,
					),
					"the more specific rule first",
					earlier.At,
				)
				break
			}
		}
		if rule.Allow {
			c.excluded(rule, path)
			c.unproven(rule, path)
		}
	}
}

func (p *Party) isSame(other *Party) bool {
	return p.Kind == other.Kind && p.Name == other.Name && maps.Equal(p.Labels, other.Labels)
}

// covers tells whether a rule decides every request that a later one could.
func (r *AccessRule) covers(later *AccessRule) bool {
	all := func(mine, theirs []Party) bool {
		if len(mine) == 0 || slices.ContainsFunc(mine, func(p Party) bool { return p.Kind == PartyAnyone }) {
			return true
		}
		return len(theirs) > 0 && !slices.ContainsFunc(theirs, func(p Party) bool {
			return !slices.ContainsFunc(mine, func(m Party) bool { return m.isSame(&p) })
		})
	}
	if r.Watch && !r.Allow || !all(r.From, later.From) || !all(r.To, later.To) || r.Port != 0 && r.Port != later.Port {
		return false
	}
	return implies(&later.What, &r.What)
}

// unproven warns of a permission for callers that cannot be told from others, since the
// service asks nobody for an identity.
func (c *checker) unproven(rule *AccessRule, path string) {
	if len(rule.From) == 0 || slices.ContainsFunc(rule.From, func(p Party) bool { return p.Kind == PartyAnyone }) {
		return
	}
	for _, s := range c.rules.Services {
		if len(rule.To) == 0 || len(s.Instances) > 0 || !Fits(rule.To, c.rules, s.Name, nil) {
			continue
		}
		if set := c.resolver.Service(s).Identity; set != nil && set.Mode == IdentityNone {
			c.warn(
				rule.At,
				path,
				CodeUnproven,
				fmt.Sprintf(
					"access rule %s lets %s call %s, which asks nobody for an identity (identity: none), so it lets nobody in",
					rule.Name,
					Parties(rule.From, "anyone"),
					s.Name,
				),
				"from: [anyone], or identity: required",
				set.Origin,
			)
		}
	}
}

// excluded warns of a permission that a caller's own list of calls leaves without use.
func (c *checker) excluded(rule *AccessRule, path string) {
	for _, from := range rule.From {
		s := c.services[from.Name]
		if from.Kind != PartyService || s == nil || s.Calls == nil {
			continue
		}
		for _, to := range rule.To {
			if to.Kind == PartyService && !slices.Contains(s.Calls, to.Name) {
				c.warn(
					rule.At,
					path,
					CodeExcluded,
					fmt.Sprintf(
						"access rule %s lets %s call %s, and the calls of %s leave it out",
						rule.Name,
						s.Name,
						to.Name,
						s.Name,
					),
					to.Name+" in the calls of "+s.Name+", or no such rule",
					s.CallsAt,
				)
			}
		}
	}
}

// RefusedLink is a link of which the rules would refuse every request.
type RefusedLink struct {
	Link
	By string // why, in words
	At Origin // where that was written
}

// RefusedLinks are the links of which the access rules would refuse every request.
func (r *Rules) RefusedLinks(links []Link) (out []RefusedLink) {
	if r.Access == nil {
		return nil
	}
	for _, l := range links {
		if at, by, refused := r.Access.refuses(r, l); refused && r.Service(l.To) != nil {
			out = append(out, RefusedLink{l, by, at})
		}
	}
	return out
}

// The answers of Permission.
const (
	Permitted = "allowed" // every request
	PartlySo  = "partly"  // some requests
	Forbidden = "denied"  // none
)

// Permission is what the access rules say of a link as a whole, and the rules that say
// so. It is Permitted without a section.
func (r *Rules) Permission(l Link) (state string, by []string) {
	a := r.Access
	if a == nil {
		return Permitted, nil
	}
	hasAllowed, hasDenied := false, false
	for i := range a.Rules {
		rule := &a.Rules[i]
		if !Fits(rule.From, r, l.From, l.Sites) || !Fits(rule.To, r, l.To, nil) || rule.Watch && !rule.Allow {
			continue
		}
		by = append(by, rule.Name)
		hasAllowed, hasDenied = hasAllowed || rule.Allow, hasDenied || !rule.Allow
		if rule.What.Describe() == "" && rule.Port == 0 {
			return permission(hasAllowed, hasDenied), by
		}
	}
	isAllowed := a.Default == "allow" || a.Watch
	return permission(hasAllowed || isAllowed, hasDenied || !isAllowed), by
}

func permission(hasAllowed, hasDenied bool) string {
	switch {
	case hasAllowed && hasDenied:
		return PartlySo
	case hasAllowed:
		return Permitted
	}
	return Forbidden
}

// RefusalOf is the finding of a link that is in use and would be refused.
func (r *Rules) RefusalOf(l RefusedLink) Finding {
	from := l.From
	if r.Gateway(from) != nil {
		from = PartyGateway + "/" + from
	}
	return Finding{
		Severity: Warning,
		Code:     CodeUsedLinkDenied,
		At:       l.At,
		Path:     "access",
		Message:  fmt.Sprintf("%s calls %s (%s), and %s", l.From, l.To, l.Used(), l.By),
		Expected: fmt.Sprintf("a rule with from: [%s], to: [%s]", from, l.To),
	}
}
