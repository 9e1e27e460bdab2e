package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/core/rules"
)

// Explanation says what would happen to a request and why, without sending it.
type Explanation struct {
	// the routes that were looked at, the gateway's before the service's
	Ladders  []Ladder  `json:"ladders"`
	Odds     []Odds    `json:"odds"`     // where the request goes, and how likely
	Settings []Setting `json:"settings"` // every setting that holds, with its origin
	// set when a route answers by itself, with a redirect or a fixed reply
	Answer  *Answered `json:"answer,omitempty"`
	Refusal *Refusal  `json:"refusal,omitempty"` // set when the mesh refuses the request
	// what the access rules say, of every service that the request can go to; empty: there
	// are none
	Access []Admission `json:"access,omitempty"`
	Path   string      `json:"path"` // path that the instance gets
}

// Ladder is the routes of one service or gateway, in match order.
type Ladder struct {
	Kind string `json:"kind"` // gateway or service
	Name string `json:"name"`
	// the service has no routes: plain balancing over all its instances
	Plain bool   `json:"plain,omitempty"`
	Rungs []Rung `json:"rungs"`
}

// Rung is one route and what became of the request there.
type Rung struct {
	Route  string       `json:"route"`
	Result string       `json:"result"` // taken, passed (a condition failed) or not reached
	Why    string       `json:"why"`    // the condition that decided: expected and found
	At     rules.Origin `json:"at"`
}

// Admission is what the access rules say of a request to a service.
type Admission struct {
	Service string       `json:"service"`
	Allowed bool         `json:"allowed"`
	Watched bool         `json:"watched,omitempty"` // it would be denied, and that is only watched
	Rule    string       `json:"rule,omitempty"`    // that decides; empty: the default does
	Origin  rules.Origin `json:"origin"`            // where that was written
}

// Odds is the chance of one version, at one site when rules name it.
type Odds struct {
	Service   string  `json:"service"`
	Version   string  `json:"version"`
	Site      string  `json:"site,omitempty"` // when rules send to its instances at that site alone
	Share     float64 `json:"share"`          // 0 to 1
	Instances int     `json:"instances"`      // known now
}

// Setting is one effective setting or action.
type Setting struct {
	Name    string       `json:"name"`
	Value   string       `json:"value"`
	From    string       `json:"from"`              // the level that set it, or built in
	Origin  rules.Origin `json:"origin"`            // where it was written; empty: built in
	Service string       `json:"service,omitempty"` // set when the request can go to several services
}

// Answered is what a route answers by itself.
type Answered struct {
	Status   int    `json:"status"`
	Location string `json:"location,omitempty"` // of a redirect
	Body     string `json:"body,omitempty"`     // of a fixed reply
}

// Refusal is the mesh's own answer.
type Refusal struct {
	Status int    `json:"status"`
	Reason Reason `json:"reason"`
	Detail string `json:"detail"`
}

// Explain tells what Begin would decide: the same walk, with the odds in place of
// a choice. It draws from no split and takes from no limit.
func Explain(t *Table, entry Entry, v View, now time.Duration) Explanation {
	e := &explainer{now: now}
	e.walk = walk{table: t, entry: entry, view: v, path: v.Path()}
	e.out.Path = v.Path()
	e.out.Odds, e.out.Settings, e.out.Ladders = []Odds{}, []Setting{}, []Ladder{}
	e.walk.looked = e.looked
	e.run(e)
	if !e.hasSeveral {
		for i := range e.out.Settings {
			e.out.Settings[i].Service = ""
		}
	}
	return e.out
}

// explainer is the visitor that writes down what it sees.
type explainer struct {
	walk
	now        time.Duration
	out        Explanation
	hasSeveral bool // the request can go to several services
}

func (e *explainer) refuse(s Step) {
	if e.out.Refusal == nil {
		e.out.Refusal = &Refusal{s.Status, s.Reason, s.Detail}
	}
}

// take tells what a route does by itself: it may answer, or refuse everything.
func (e *explainer) take(rt *Route, cond *condition) (over bool) {
	for i := range rt.rule.Faults {
		if f := &rt.rule.Faults[i]; f.Status > 0 && f.Share == rules.Whole {
			e.refuse(
				Step{
					Status: f.Status,
					Reason: Fault,
					Detail: fmt.Sprintf("route %s injects failures into 100%% of its requests", rt.Name()),
				},
			)
			e.settings(e.service, e.route, e.gate)
			return true
		}
	}
	switch {
	case rt.rule.Reply != nil:
		e.out.Answer = &Answered{Status: rt.rule.Reply.Status, Body: rt.rule.Reply.Body}
	case rt.rule.Redirect != nil:
		e.out.Answer = &Answered{
			Status:   rt.rule.Redirect.Status,
			Location: location(rt.rule.Redirect, e.view, e.path, cond),
		}
	default:
		return false
	}
	e.settings(e.service, e.route, e.gate)
	return true
}

// choose tells how the requests like this one are shared out among the targets
// of a route.
func (e *explainer) choose(rt *Route) (out []choice) {
	if to := rt.kept(e.view); to != nil {
		return []choice{{to, 1}}
	}
	for i := range rt.targets {
		if w := rt.split.plan.weights[i]; w > 0 {
			out = append(out, choice{&rt.targets[i], w.Share()})
		}
	}
	return out
}

func (e *explainer) send(to *target, by *Route, chance float64) {
	e.out.Path = e.path
	e.admit(to.service.name)
	if to.version == "" {
		e.sendPlain(to.service, chance)
	} else if o := by.otherwise; o != nil && to.pool.mayGive(o.pool) && !to.pool.empty(e.now) {
		e.odds(to, chance*(1-to.pool.leaves))
		e.odds(o, chance*to.pool.leaves)
	} else {
		e.odds(by.orOtherwise(to, e.now), chance)
	}
	e.settings(e.service, e.route, e.gate)
}

// admit tells what the access rules say of the request to a service.
func (e *explainer) admit(service string) {
	a := e.table.access
	isOf := func(x Admission) bool { return x.Service == service }
	if a == nil || e.entry.From.IsNode || slices.ContainsFunc(e.out.Access, isOf) {
		return
	}
	d := a.strictly(e.entry.From, service, 0, e.view, e.path)
	one := Admission{Service: service, Allowed: !d.Denied, Watched: d.Watched, Origin: d.At}
	if d.Rule != nil {
		one.Rule = d.Rule.Name
	}
	e.out.Access = append(e.out.Access, one)
	if d.Denied {
		e.refuse(Refuse(Denied, d.Why(e.entry.From, service)))
	}
}

// sendPlain tells how a service without routes is called: its versions by the
// instances that take requests, where those of nearer sites come first.
func (e *explainer) sendPlain(s *service, chance float64) {
	e.out.Ladders = append(e.out.Ladders, Ladder{Kind: "service", Name: s.name, Plain: true, Rungs: []Rung{}})
	shares := s.all.versionShares(e.now)
	for _, v := range sortedVersions(s) {
		if share, known := shares[v]; known {
			e.odds(&target{service: s, version: v, pool: s.versions[v]}, chance*share)
		}
	}
	if len(s.all.peers) == 0 {
		e.refuse(Refuse(NoInstance, fmt.Sprintf("service %s has no instance", s.name)))
	}
}

func sortedVersions(s *service) []string {
	var out []string
	for v := range s.versions {
		out = append(out, v)
	}
	slices.Sort(out)
	return out
}

// odds adds to the chance of a version, and tells of the drills that run there.
func (e *explainer) odds(to *target, chance float64) {
	for i, o := range e.out.Odds {
		if o.Service == to.service.name && o.Version == to.version && o.Site == to.site {
			e.out.Odds[i].Share += chance
			return
		}
	}
	e.out.Odds = append(e.out.Odds, Odds{to.service.name, to.version, to.site, chance, len(to.pool.peers)})
	if chance > 0 && to.pool.empty(e.now) {
		e.refuse(Refuse(NoInstance, to.pool.whyNone(describe(to))))
	}
	if given := to.pool.leaves; given > 0 {
		e.out.Settings = append(e.out.Settings, Setting{
			Name:    "drain",
			Value:   fmt.Sprintf("all instances of %s are at a site that is drained", describe(to)),
			From:    fmt.Sprintf("%.0f%% given away", 100*given),
			Service: to.service.name,
		})
	}
	for _, d := range to.pool.version.drills {
		if e.now < d.Until && d.concerns(e.view) {
			e.out.Settings = append(
				e.out.Settings,
				Setting{
					Name:    "drill",
					Value:   d.describe(to.pool.version.called()),
					From:    d.ID,
					Service: to.service.name,
				},
			)
		}
	}
}

// looked writes down what became of the request at every route of a ladder.
func (e *explainer) looked(l *ladder, taken *Route, cond *condition) {
	out := Ladder{Kind: "gateway", Name: e.entry.Gateway, Rungs: []Rung{}}
	if e.service != nil {
		out.Kind, out.Name = "service", e.service.name
	}
	isReached := true
	for _, rt := range l.routes {
		r := Rung{Route: rt.Name(), At: rt.rule.At}
		switch {
		case !isReached:
			r.Result, r.Why = "not reached", "an earlier route took the request"
		case rt == taken:
			r.Result, r.Why, isReached = "taken", "it has no condition", false
			if cond != nil {
				r.Why = cond.rule.Describe()
			}
		default:
			r.Result, r.Why = "skipped", e.whyNot(rt, e.path)
		}
		out.Rungs = append(out.Rungs, r)
	}
	e.out.Ladders = append(e.out.Ladders, out)
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
	switch c.failing(e.view, path) {
	case byPath:
		return said(fmt.Sprintf("path regex %q", c.rule.PathRegex), path)
	case byMethod:
		return one("method", c.rule.Methods, e.view.Method())
	case byHost:
		return one("host", c.rule.Hosts, bareHost(e.view.Host()))
	case byFrom:
		return one("from", c.rule.From, e.view.Caller())
	case bySite:
		return one("site", c.rule.Sites, e.view.Site())
	case byAddress:
		have := "none"
		if a := e.view.Address(); a.IsValid() {
			have = a.String()
		}
		return said(rules.Condition{Addresses: c.rule.Addresses}.Describe(), have)
	case byClaim:
		for i := range c.claims {
			if t := &c.claims[i]; !t.holdsClaim(e.view) {
				return said("claim "+t.rule.Describe(), found(e.view.Claim(t.rule.Name)))
			}
		}
	case byHeader:
		for i := range c.headers {
			if t := &c.headers[i]; !t.holdsHeader(e.view) {
				lower := *t.rule
				lower.Name = strings.ToLower(lower.Name)
				return said("header "+lower.Describe(), found(headerValues(e.view, t.rule.Name)))
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
			if !sub.holds(e.view, path, false) {
				return e.failed(sub, path)
			}
		}
	case byNot:
		for _, sub := range c.not {
			if sub.holds(e.view, path, false) {
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
		if t.holdsValue(e.view, query) {
			continue
		}
		var values []string
		take := func(value string) bool {
			values = append(values, value)
			return true
		}
		if query {
			eachQuery(e.view, t.rule.Name, take)
		} else {
			eachCookie(e.view, t.rule.Name, take)
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
		if have.Service == name && have.Name != "drill" {
			return
		}
	}
	e.hasSeveral = e.hasSeveral ||
		slices.ContainsFunc(e.out.Settings, func(s Setting) bool { return s.Service != name })
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
			h = rules.Holding{
				Name:   "timeout",
				Value:  t.String(),
				From:   "route " + gate.Name() + " of gateway " + gate.of,
				Origin: t.Origin,
			}
		}
		if h.Name == "retry" && gate != nil && rt != nil && rt.settings.Retry == nil &&
			gate.settings.Retry != nil { // nearer than the service's
			r := gate.settings.Retry
			h = rules.Holding{
				Name:   "retry",
				Value:  r.String(),
				From:   "route " + gate.Name() + " of gateway " + gate.of,
				Origin: r.Origin,
			}
		}
		add(h)
	}
	for _, by := range []*Route{gate, rt} {
		if by == nil || by.rule.Name == "" {
			continue
		}
		from := "route " + by.Name()
		if by == gate {
			if a := e.rule.Authenticate; a != nil && by.rule.Authenticate == nil {
				add(rules.Holding{Name: "authenticate", Value: a.String(), From: "gateway " + by.of, Origin: a.Origin})
			}
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
