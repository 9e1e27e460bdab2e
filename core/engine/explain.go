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
	Refusal  *Refusal  `json:"refusal,omitempty" doc:"set when the mesh itself answers"`
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

// Odds is the chance of one version.
type Odds struct {
	Service   string  `json:"service"`
	Version   string  `json:"version"`
	Share     float64 `json:"share" doc:"0 to 1"`
	Instances int     `json:"instances" doc:"known now"`
}

// Setting is one effective setting.
type Setting struct {
	Name   string       `json:"name"`
	Value  string       `json:"value"`
	Origin rules.Origin `json:"origin" doc:"empty: built in"`
}

// Refusal is the mesh's own answer.
type Refusal struct {
	Status int    `json:"status"`
	Reason Reason `json:"reason"`
	Detail string `json:"detail"`
}

// Explain takes the decisions of Begin without drawing from a split: it runs
// the same matching and tells the odds in place of a choice.
func Explain(t *Table, entry Entry, v View) Explanation {
	e := &explainer{v: v}
	e.out.Path = v.Path()
	e.out.Odds = []Odds{}
	why := unfit(v)
	switch {
	case why != "":
		e.refuse(refuse(BadRequest, why))
	case entry.Gateway != "":
		g := t.gateways[entry.Gateway]
		switch {
		case g == nil:
			e.refuse(refuse(NoRoute, "the rules in force declare no gateway "+entry.Gateway))
		case !g.serves(v.Host()):
			e.refuse(refuse(NoRoute, fmt.Sprintf("gateway %s serves no host %s", entry.Gateway, v.Host())))
		default:
			e.gateway(entry.Gateway, g)
		}
	default:
		name := ServiceName(v.Host())
		s := t.services[name]
		if s == nil {
			e.refuse(refuse(NoRoute, fmt.Sprintf("the mesh has no service %q", name)))
			break
		}
		e.service(s, nil, v.Path(), 1)
	}
	return e.out
}

type explainer struct {
	v   View
	out Explanation
}

func (e *explainer) refuse(s Step) {
	if e.out.Refusal == nil {
		e.out.Refusal = &Refusal{s.Status, s.Reason, s.Detail}
	}
}

func (e *explainer) gateway(name string, g *gateway) {
	rt, path := e.climb("gateway", name, g.ladder, e.v.Path())
	if rt == nil {
		e.refuse(refuse(NoRoute, fmt.Sprintf("no route of gateway %s takes %s %s", name, e.v.Method(), path)))
		return
	}
	for i, to := range rt.targets {
		share := rt.split.plan.weights[i].Share()
		if share == 0 {
			continue
		}
		if to.version == "" {
			e.service(to.service, rt, path, share)
		} else {
			e.odds(to.service, to.version, share, to.pool)
			e.settings(path, to.service, nil, rt)
		}
	}
}

func (e *explainer) service(s *service, gate *Route, path string, share float64) {
	if s.ladder == nil {
		e.out.Ladders = append(e.out.Ladders, Ladder{Kind: "service", Name: s.name, Plain: true, Rungs: []Rung{}})
		for _, v := range sortedVersions(s) {
			p := s.versions[v]
			if n := len(p.instances); n > 0 {
				e.odds(s, v, share*float64(n)/float64(len(s.all.instances)), p)
			}
		}
		if len(s.all.instances) == 0 {
			e.refuse(refuse(NoInstance, fmt.Sprintf("service %s has no instance", s.name)))
		}
		e.settings(path, s, s.plain, gate)
		return
	}
	rt, path := e.climb("service", s.name, s.ladder, path)
	if rt == nil {
		e.refuse(refuse(NoRoute, fmt.Sprintf("no route of service %s takes %s %s", s.name, e.v.Method(), path)))
		return
	}
	for i, to := range rt.targets {
		if w := rt.split.plan.weights[i]; w > 0 {
			e.odds(to.service, to.version, share*w.Share(), to.pool)
		}
	}
	e.settings(path, s, rt, gate)
}

func sortedVersions(s *service) []string {
	var out []string
	for v := range s.versions {
		out = append(out, v)
	}
	slices.Sort(out)
	return out
}

func (e *explainer) odds(s *service, version string, share float64, p *pool) {
	for i, o := range e.out.Odds {
		if o.Service == s.name && o.Version == version {
			e.out.Odds[i].Share += share
			return
		}
	}
	e.out.Odds = append(e.out.Odds, Odds{Service: s.name, Version: version, Share: share, Instances: len(p.instances)})
	if share > 0 && len(p.instances) == 0 {
		e.refuse(refuse(NoInstance, fmt.Sprintf("%s/%s has no instance", s.name, version)))
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

func (e *explainer) failed(c *condition, path string) string {
	if !c.pathFits(path) {
		return fmt.Sprintf("expected path %s, found %s", c.rule.Path, path)
	}
	if len(c.methods) > 0 && !slices.Contains(c.methods, e.v.Method()) {
		return fmt.Sprintf("expected method %s, found %s", strings.Join(c.methods, "|"), e.v.Method())
	}
	for i := range c.headers {
		if t := &c.headers[i]; !t.holdsHeader(e.v) {
			return fmt.Sprintf("expected header %s, found %s", t.rule.Describe(), found(e.v.Header(t.rule.Name)))
		}
	}
	for i := range c.cookies {
		if t := &c.cookies[i]; !t.holdsCookie(e.v) {
			var values []string
			eachCookie(e.v, t.rule.Name, func(value string) { values = append(values, value) })
			return fmt.Sprintf("expected cookie %s, found %s", t.rule.Describe(), found(values))
		}
	}
	return "every entry held"
}

func found(values []string) string {
	if len(values) == 0 {
		return "none"
	}
	return fmt.Sprintf("%q", strings.Join(values, ", "))
}

func (e *explainer) settings(path string, s *service, rt, gate *Route) {
	if e.out.Settings != nil {
		return
	}
	e.out.Path = path
	t := limit(s, rt, gate)
	e.out.Settings = append(e.out.Settings, Setting{"timeout", t.Value.String(), t.At})
	for _, r := range []*Route{gate, rt} {
		if r == nil || r.rule.Rewrite == nil {
			continue
		}
		rw := r.rule.Rewrite
		for _, s := range []Setting{{"rewrite.path", rw.Path, rw.At}, {"rewrite.host", rw.Host, rw.At}} {
			if s.Value != "" {
				e.out.Settings = append(e.out.Settings, s)
			}
		}
	}
	e.out.Settings = append(e.out.Settings, Setting{Name: "balance", Value: "in-turn"})
}
