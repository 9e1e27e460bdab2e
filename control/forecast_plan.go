package control

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
)

// forecastPlan is a forecast that can be computed.
type forecastPlan struct {
	model    *model
	seen     *measured
	draft    *rules.Rules
	changes  []rules.Change
	trial    *rules.Trial
	expect   []rules.Expectation
	requests uint64
	seed     uint64
	rate     float64
}

func (c *Control) forecastPlan(ask ForecastAsk) (*forecastPlan, error) {
	q := &forecastPlan{requests: cmp.Or(ask.Requests, usualRequests), seed: cmp.Or(ask.Seed, 1), rate: cmp.Or(ask.Rate, 1)}
	window := cmp.Or(ask.Window, EffectWindow)
	switch {
	case q.requests > maxForecastRequests:
		return nil, Unusable{fmt.Sprintf("at most %d requests are simulated at once", maxForecastRequests)}
	case window < 5 || window > maxModelWindow:
		return nil, Unusable{fmt.Sprintf("a forecast takes measurements of 5 to %d seconds", maxModelWindow)}
	case !(q.rate > 0 && q.rate <= 1000):
		return nil, Unusable{"rate is a multiple of today's rates, above 0 and at most 1000"}
	case ask.Split != nil && len(ask.Rules) > 0:
		return nil, Unusable{"a draft and a split do not go together: write the weights into the draft"}
	}
	bundle, files := cmp.Or(ask.Bundle, MainBundle), ask.Rules
	if s := ask.Split; s != nil {
		force := c.InForce()
		change, err := splitOf(&force, s.Service, s.Route, s.Weights)
		if err != nil {
			return nil, err
		}
		bundle, files = change.bundle, change.files
	}
	if len(files) > 0 {
		rs, rep, err := c.check(bundle, files)
		if err != nil {
			return nil, err
		}
		if rep.Mistakes > 0 {
			return nil, Mistaken{rep.Findings}
		}
		q.draft, q.changes = rs, rep.Changes
	}
	if ask.Guard != nil {
		if q.draft != nil {
			return nil, Unusable{"a draft and a guard do not go together: write the guard into the draft"}
		}
		rs, err := ask.Guard.draft(c.InForce().Rules)
		if err != nil {
			return nil, err
		}
		q.draft, q.changes = rs, rules.Diff(c.InForce().Rules, rs)
	}
	var changes forecast.Changes
	if ask.Behaviour != "" {
		var err error
		if changes, err = forecast.ReadChanges("behaviour", ask.Behaviour); err != nil {
			return nil, Unusable{err.Error()}
		}
	}
	if ask.Trial != "" || len(ask.File) > 0 {
		p, err := c.plan(TrialAsk{Name: ask.Trial, File: ask.File, Rules: files, Bundle: bundle})
		if err != nil {
			return nil, err
		}
		q.trial = p.trial
		q.expect = append(q.expect, p.trial.Expect...)
	}
	for _, text := range ask.Expect {
		e, err := rules.ParseExpectation(text)
		if err != nil {
			return nil, Unusable{err.Error()}
		}
		q.expect = append(q.expect, e)
	}
	var err error
	if q.model, q.seen, err = c.model(window, changes, q.draft); err != nil {
		return nil, err
	}
	if ask.Alone {
		q.model.streams = nil
	}
	if q.trial != nil {
		if err := q.addTrial(c); err != nil {
			return nil, err
		}
	}
	if len(q.model.streams) == 0 {
		return nil, Unusable{"nothing comes into the mesh: send some requests, or forecast a trial"}
	}
	return q, q.takeDown(c, ask.Down)
}

// takeDown lets sites and versions be down.
func (q *forecastPlan) takeDown(c *Control, down []string) error {
	sites, services := map[string]bool{}, map[string]bool{}
	for _, in := range q.model.instances {
		sites[in.Site], services[in.Service+"/"+in.Version], services[in.Service] = true, true, true
	}
	for _, rs := range []*rules.Rules{c.InForce().Rules, q.draft} {
		if rs != nil {
			for _, s := range rs.Services {
				for _, in := range s.Instances {
					sites[in.Site], services[s.Name+"/"+in.Version], services[s.Name] = true, true, true
				}
			}
		}
	}
	for _, name := range down {
		d := engine.Drill{ID: "down: " + name, Down: true}
		switch {
		case services[name]:
			d.Service, d.Version = cutTarget(name)
		case name != "" && sites[name]:
			d.Site = name
		default:
			return Unusable{fmt.Sprintf("nothing runs at or as %q: name a site, SERVICE or SERVICE/VERSION", name)}
		}
		q.model.drills = append(q.model.drills, d)
		q.model.assume("Nobody answers of %s.", name)
	}
	return nil
}

// trialStream begins the names of a trial's streams.
const trialStream = "trial: "

// addTrial adds the load of a trial.
func (q *forecastPlan) addTrial(c *Control) error {
	t, rs := q.trial, c.InForce().Rules
	for i := range t.Load {
		l := t.Load[i]
		st := modelStream{load: l, warmUp: t.WarmUp, length: t.For, seed: arrivalsOf(i)}
		st.Name, st.Caller, st.To, st.PassOn = fmt.Sprint(trialStream, i), cmp.Or(l.From, ownCaller), l.To, true
		host := ""
		if g := rs.Gateway(l.To); g != nil {
			st.Caller, st.To = g.Name, ""
			for _, h := range g.Hosts {
				if host == "" && !strings.HasPrefix(h, "*") {
					host = h
				}
			}
		}
		st.Counted = max(t.WarmUp, warmUp)
		path, query, _ := strings.Cut(l.Path, "?")
		kind := func(weight float64, headers, cookies []rules.Field) forecast.Kind {
			r := &forecast.Request{Method: l.Method, Path: path, Query: query, Host: host, Fields: fieldsOf(slices.Concat(l.Headers, headers), slices.Concat(l.Cookies, cookies))}
			if h := r.Fields["Host"]; len(h) > 0 {
				r.Host = h[0]
			}
			return forecast.Kind{Weight: weight, Request: r}
		}
		rest := 1.0
		for _, s := range l.Shares {
			rest -= s.Of.Share()
			st.Kinds = append(st.Kinds, kind(s.Of.Share(), s.Headers, s.Cookies))
		}
		if rest > 1e-9 {
			st.Kinds = append(st.Kinds, kind(rest, nil, nil))
		}
		q.model.streams = append(q.model.streams, st)
	}
	q.model.assume("The requests of the trial come at the times at which it sends them, and hand their headers and cookies on to what is called for them.")
	if d := t.Drill; d != nil {
		q.model.drills = append(q.model.drills, engine.Drill{ID: "trial", Service: d.Service, Version: d.Version, Site: d.Site, Fail: d.Fail, Status: 503, Delay: d.Delay, Down: d.Down})
	}
	return nil
}

// draft is the rules in which the guard is so.
func (g *GuardAsk) draft(rs *rules.Rules) (*rules.Rules, error) {
	s := rs.Service(g.Service)
	switch {
	case s == nil:
		return nil, Unusable{fmt.Sprintf("the rules in force declare no service %s", g.Service)}
	case g.InFlight < 1 || g.InFlight > 1_000_000 || g.Waiting < 0 || g.Waiting > 1_000_000:
		return nil, Unusable{"a guard lets 1 to 1000000 requests through at once, and lets 0 to 1000000 wait"}
	}
	own := *s
	queue := rules.Queue{Waiting: g.Waiting, WaitAtMost: 100 * time.Millisecond, Origin: s.At}
	if s.Queue != nil {
		queue.WaitAtMost = s.Queue.WaitAtMost
	}
	queue.InFlight = g.InFlight
	own.Queue = &queue
	out := *rs
	out.Services = slices.Clone(rs.Services)
	out.Services[slices.Index(rs.Services, s)] = &own
	return &out, nil
}

// fieldsOf are header fields and cookies by canonical name.
func fieldsOf(headers, cookies []rules.Field) map[string][]string {
	h := map[string][]string{}
	for _, f := range headers {
		h[http.CanonicalHeaderKey(f.Name)] = []string{f.Value}
	}
	var pairs []string
	for _, f := range cookies {
		pairs = append(pairs, f.Name+"="+f.Value)
	}
	if len(pairs) > 0 {
		h["Cookie"] = append(h["Cookie"], strings.Join(pairs, "; "))
	}
	return h
}
