package engine

import (
	"fmt"
	"slices"
	"strings"

	"nightjar/core/rules"
)

// Explanation says what would happen to a request and why, without sending it.
type Explanation struct {
	Ladders  []Ladder  `json:"ladders" doc:"the routes that were looked at, the gateway's before the service's"`
	Odds     []Odds    `json:"odds" doc:"where the request goes, and how likely"`
	Settings []Setting `json:"settings" doc:"every setting that holds, with its origin"`
	Answer   *Answered `json:"answer,omitempty" doc:"set when a route answers by itself, with a redirect or a fixed reply"`
	Refusal  *Refusal  `json:"refusal,omitempty" doc:"set when the mesh refuses the request"`
	Path     string    `json:"path" doc:"path that the instance gets"`
}

// Ladder is the routes of one service or gateway, in match order.
type Ladder struct {
	Kind  string `json:"kind" doc:"gateway or service"`
	Name  string `json:"name"`
	Plain bool   `json:"plain,omitempty" doc:"the service has no routes: plain balancing over all its instances"`
	Rungs []Rung `json:"rungs"`
}

// Rung is one route and what became of the request there.
type Rung struct {
	Route  string       `json:"route"`
	Result string       `json:"result" doc:"taken, passed (a condition failed) or not reached"`
	Why    string       `json:"why" doc:"the condition that decided: expected and found"`
	At     rules.Origin `json:"at"`
}

// Odds is the chance of one version, at one site when rules name it.
type Odds struct {
	Service   string  `json:"service"`
	Version   string  `json:"version"`
	Site      string  `json:"site,omitempty" doc:"when rules send to its instances at that site alone"`
	Share     float64 `json:"share" doc:"0 to 1"`
	Instances int     `json:"instances" doc:"known now"`
}

// Setting is one effective setting or action.
type Setting struct {
	Name    string       `json:"name"`
	Value   string       `json:"value"`
	From    string       `json:"from" doc:"the level that set it, or built in"`
	Origin  rules.Origin `json:"origin" doc:"where it was written; empty: built in"`
	Service string       `json:"service,omitempty" doc:"set when the request can go to several services"`
}

// Answered is what a route answers by itself.
type Answered struct {
	Status   int    `json:"status"`
	Location string `json:"location,omitempty" doc:"of a redirect"`
	Body     string `json:"body,omitempty" doc:"of a fixed reply"`
}

// Refusal is the mesh's own answer.
type Refusal struct {
	Status int    `json:"status"`
	Reason Reason `json:"reason"`
	Detail string `json:"detail"`
}

// Explain takes the decisions of Begin without drawing from a split or taking
// from a limit: it runs the same matching and tells the odds in place of a
// choice.
func Explain(t *Table, entry Entry, v View) Explanation {
	e := &explainer{v: v, table: t}
	e.out.Path = v.Path()
	e.out.Odds, e.out.Settings, e.out.Ladders = []Odds{}, []Setting{}, []Ladder{}
	why := unfit(v)
	switch {
	case why != "":
		e.refuse(Refuse(BadRequest, why))
	case entry.Gateway != "":
		g := t.gateways[entry.Gateway]
		switch {
		case g == nil:
			e.refuse(Refuse(NoRoute, "the rules in force declare no gateway "+entry.Gateway))
		case !hostIn(g.rule.Hosts, v.Host()):
			e.refuse(Refuse(NoRoute, fmt.Sprintf("gateway %s serves no host %s", entry.Gateway, v.Host())))
		default:
			e.gateway(entry.Gateway, g)
		}
	default:
		name := ServiceName(v.Host())
		s := t.services[name]
		if s == nil {
			e.refuse(Refuse(NoRoute, fmt.Sprintf("the mesh has no service %q", name)))
			break
		}
		e.service(s, nil, v.Path(), 1)
	}
	if e.several {
		return e.out
	}
	for i := range e.out.Settings {
		e.out.Settings[i].Service = ""
	}
	return e.out
}

type explainer struct {
	v       View
	table   *Table
	out     Explanation
	several bool // services that the request can go to
}

func (e *explainer) refuse(s Step) {
	if e.out.Refusal == nil {
		e.out.Refusal = &Refusal{s.Status, s.Reason, s.Detail}
	}
}

func (e *explainer) gateway(name string, g *gateway) {
	rt, path := e.climb("gateway", name, g.ladder, e.v.Path())
	if rt == nil {
		e.refuse(Refuse(NoRoute, fmt.Sprintf("no route of gateway %s takes %s %s", name, e.v.Method(), path)))
		return
	}
	if e.out.Answer != nil {
		e.settings(nil, nil, rt)
		return
	}
	seen := e.v
	e.shares(rt, func(to *target, share float64) {
		if to.version == "" {
			if rt.request != nil {
				e.v = &edited{seen, rt.request}
			}
			e.service(to.service, rt, path, share)
			e.v = seen
			return
		}
		e.out.Path = path
		e.odds(to, share)
		e.settings(to.service, nil, rt)
	})
}

// shares tells how the requests like this one are shared out among the
// targets of a route.
func (e *explainer) shares(rt *Route, each func(to *target, share float64)) {
	if st := rt.rule.Stick; st != nil {
		if value, ok := keyValue(&st.By, e.v); ok {
			to := &rt.targets[rt.stuck(value)]
			if to.version != "" {
				to = rt.instead(to, 0)
			}
			each(to, 1)
			return
		}
	}
	for i := range rt.targets {
		if w := rt.split.plan.weights[i]; w > 0 {
			to := &rt.targets[i]
			if to.version != "" {
				to = rt.instead(to, 0)
			}
			each(to, w.Share())
		}
	}
}

func (e *explainer) service(s *service, gate *Route, path string, share float64) {
	if s.ladder == nil {
		e.out.Path = path
		e.out.Ladders = append(e.out.Ladders, Ladder{Kind: "service", Name: s.name, Plain: true, Rungs: []Rung{}})
		for _, v := range sortedVersions(s) {
			p := s.versions[v]
			if n := len(p.peers); n > 0 {
				e.odds(&target{service: s, version: v, pool: p}, share*float64(n)/float64(len(s.all.peers)))
			}
		}
		if len(s.all.peers) == 0 {
			e.refuse(Refuse(NoInstance, fmt.Sprintf("service %s has no instance", s.name)))
		}
		e.settings(s, s.plain, gate)
		return
	}
	rt, path := e.climb("service", s.name, s.ladder, path)
	if rt == nil {
		e.refuse(Refuse(NoRoute, fmt.Sprintf("no route of service %s takes %s %s", s.name, e.v.Method(), path)))
		return
	}
	e.out.Path = path
	if e.out.Answer == nil {
		e.shares(rt, func(to *target, part float64) { e.odds(to, share*part) })
	}
	e.settings(s, rt, gate)
}

func sortedVersions(s *service) []string {
	var out []string
	for v := range s.versions {
		out = append(out, v)
	}
	slices.Sort(out)
	return out
}

func (e *explainer) odds(to *target, share float64) {
	for i, o := range e.out.Odds {
		if o.Service == to.service.name && o.Version == to.version && o.Site == to.site {
			e.out.Odds[i].Share += share
			return
		}
	}
	e.out.Odds = append(e.out.Odds, Odds{to.service.name, to.version, to.site, share, len(to.pool.peers)})
	if share > 0 && len(to.pool.peers) == 0 {
		e.refuse(Refuse(NoInstance, fmt.Sprintf("%s has no instance", describe(to))))
	}
}

// climb writes down what becomes of the request at every rung and returns the
// route that takes it with the path after rewriting.
func (e *explainer) climb(kind, name string, l *ladder, path string) (*Route, string) {
	taken, cond := l.match(e.v, path)
	out := Ladder{Kind: kind, Name: name, Rungs: []Rung{}}
	reached := true
	for _, rt := range l.routes {
		r := Rung{Route: rt.Name(), At: rt.rule.At}
		switch {
		case !reached:
			r.Result, r.Why = "not reached", "an earlier route took the request"
		case rt == taken:
			r.Result, r.Why, reached = "taken", "it has no condition", false
			if cond != nil {
				r.Why = cond.rule.Describe()
			}
		default:
			r.Result, r.Why = "passed", e.whyNot(rt, path)
		}
		out.Rungs = append(out.Rungs, r)
	}
	e.out.Ladders = append(e.out.Ladders, out)
	if taken == nil {
		return nil, path
	}
	switch {
	case taken.rule.Reply != nil:
		e.out.Answer = &Answered{Status: taken.rule.Reply.Status, Body: taken.rule.Reply.Body}
	case taken.rule.Redirect != nil:
		e.out.Answer = &Answered{Status: taken.rule.Redirect.Status, Location: location(taken.rule.Redirect, e.v, path, cond)}
	}
	x := Exchange{path: path}
	x.rewrite(taken, cond)
	return taken, x.path
}

// whyNot names, for each condition of a route, the first entry that failed.
func (e *explainer) whyNot(rt *Route, path string) string {
	var whys []string
	for _, c := range rt.conds {
		whys = append(whys, e.failed(c, path))
	}
	return strings.Join(whys, "; and ")
}

// failed says what the first entry that does not hold wanted, and what is there.
func (e *explainer) failed(c *condition, path string) string {
	said := func(expected, found string) string { return fmt.Sprintf("expected %s, found %s", expected, found) }
	if c.path != nil && !c.pathFits(path) {
		return said("path "+c.rule.Path, path)
	}
	one := func(word string, values []string, have string) string {
		if have == "" {
			have = "none"
		}
		return said(word+" "+strings.Join(values, "|"), have)
	}
	switch c.failing(e.v, path) {
	case byPath:
		return said(fmt.Sprintf("path regex %q", c.rule.PathRegex), path)
	case byMethod:
		return one("method", c.rule.Methods, e.v.Method())
	case byHost:
		return one("host", c.rule.Hosts, bareHost(e.v.Host()))
	case byFrom:
		return one("from", c.rule.From, e.v.Caller())
	case bySite:
		return one("site", c.rule.Sites, e.v.Site())
	case byHeader:
		for i := range c.headers {
			if t := &c.headers[i]; !t.holdsHeader(e.v) {
				lower := *t.rule
				lower.Name = strings.ToLower(lower.Name)
				return said("header "+lower.Describe(), found(e.v.Header(t.rule.Name)))
			}
		}
	case byQuery:
		return e.failedValue("query", c.query, true)
	case byCookie:
		return e.failedValue("cookie", c.cookies, false)
	case byAny:
		return "expected any of these, found none: " + e.each(c.any, path, "; ")
	case byAll:
		for _, sub := range c.all {
			if !sub.holds(e.v, path, false) {
				return e.failed(sub, path)
			}
		}
	case byNot:
		for _, sub := range c.not {
			if sub.holds(e.v, path, false) {
				return fmt.Sprintf("expected not (%s), found that it holds", sub.rule.Describe())
			}
		}
	}
	return "every entry held"
}

func (e *explainer) each(list []*condition, path, sep string) string {
	var out []string
	for _, c := range list {
		out = append(out, e.failed(c, path))
	}
	return strings.Join(out, sep)
}

func (e *explainer) failedValue(word string, tests []test, query bool) string {
	for i := range tests {
		t := &tests[i]
		if t.holdsValue(e.v, query) {
			continue
		}
		var values []string
		take := func(value string) bool {
			values = append(values, value)
			return true
		}
		if query {
			eachQuery(e.v, t.rule.Name, take)
		} else {
			eachCookie(e.v, t.rule.Name, take)
		}
		return fmt.Sprintf("expected %s %s, found %s", word, t.rule.Describe(), found(values))
	}
	return ""
}

func found(values []string) string {
	if len(values) == 0 {
		return "none"
	}
	return fmt.Sprintf("%q", strings.Join(values, ", "))
}

// settings lists what holds for a request to a service: by its route, by the
// gateway's, or by both. The service is nil when a gateway's route answers.
func (e *explainer) settings(s *service, rt, gate *Route) {
	name := ""
	if s != nil {
		name = s.name
	}
	for _, have := range e.out.Settings {
		if have.Service == name {
			return
		}
	}
	e.several = e.several || len(e.out.Settings) > 0
	add := func(h rules.Holding) {
		if h.Value == "none" {
			return
		}
		e.out.Settings = append(e.out.Settings, Setting{h.Name, h.Value, h.From, h.Origin, name})
	}
	var home *rules.Service
	if s != nil {
		home = s.rule
	}
	by := rt
	if by == nil {
		by = gate
	}
	holds := e.table.resolver.RouteHoldings(home, by.rule)
	t := limit(s, rt, gate)
	for _, h := range holds {
		if h.Name == "timeout" && h.Origin != t.Origin { // the gateway's is shorter
			h = rules.Holding{Name: "timeout", Value: t.String(), From: "route " + gate.Name() + " of gateway " + gate.of, Origin: t.Origin}
		}
		if h.Name == "retry" && gate != nil && rt != nil && rt.settings.Retry == nil && gate.settings.Retry != nil { // nearer than the service's
			r := gate.settings.Retry
			h = rules.Holding{Name: "retry", Value: r.String(), From: "route " + gate.Name() + " of gateway " + gate.of, Origin: r.Origin}
		}
		add(h)
	}
	for _, by := range []*Route{gate, rt} {
		if by == nil || by.rule.Name == "" {
			continue
		}
		from := "route " + by.Name()
		if by == gate {
			from += " of gateway " + by.of
			if l := by.settings.Limit; l != nil && rt != nil {
				add(rules.Holding{Name: "limit", Value: l.String(), From: from, Origin: l.Origin})
			}
		}
		home := ""
		if by == rt {
			home = by.of
		}
		for _, a := range by.rule.Actions(home) {
			add(rules.Holding{Name: a.Name, Value: a.Value, From: from, Origin: a.Origin})
		}
	}
	if s != nil && e.out.Answer == nil {
		for _, h := range e.table.resolver.ServiceHoldings(home) {
			if h.Name != "timeout" && h.Name != "retry" {
				add(h)
			}
		}
	}
}
