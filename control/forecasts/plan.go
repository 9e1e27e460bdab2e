package forecasts

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/effects"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/control/trials"
	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
)

// plan is a forecast that can be computed.
type plan struct {
	now      revisions.Current
	mesh     *meshModel
	seen     *measured
	draft    *rules.Rules // nil: none
	changes  []rules.Change
	trial    *rules.Trial // nil: none
	expect   []rules.Expectation
	requests uint64
	seed     uint64
	rate     float64
}

// plan reads a request for a forecast.
func (f *Forecasts) plan(ctx context.Context, q model.ForecastRequest) (*plan, error) {
	p := &plan{
		now:      f.Revisions.Current(),
		requests: cmp.Or(q.Requests, usualRequests),
		seed:     cmp.Or(q.Seed, 1),
		rate:     cmp.Or(q.Rate, 1),
	}
	window := cmp.Or(q.Window, effects.Window)
	switch {
	case p.requests > maxRequests:
		return nil, problem.Invalid("requests: at most %d can be simulated at once", maxRequests)
	case window < minWindow || window > maxWindow:
		return nil, problem.Invalid("window: a forecast uses measurements of %d to %d seconds", minWindow, maxWindow)
	case !(p.rate > 0 && p.rate <= maxRate):
		return nil, problem.Invalid("rate: the multiplier of the traffic must be above 0 and at most %d", maxRate)
	}
	if err := f.planRules(p, &q); err != nil {
		return nil, err
	}
	if err := f.planTrial(p, &q); err != nil {
		return nil, err
	}
	var changes forecast.Changes
	if q.Behaviour != "" {
		var err error
		if changes, err = forecast.ReadChanges("behaviour", q.Behaviour); err != nil {
			return nil, problem.InvalidRequest{Why: err.Error()}
		}
	}
	if err := f.build(ctx, p, window, changes); err != nil {
		return nil, err
	}
	if q.Alone {
		p.mesh.streams = nil
	}
	if p.trial != nil {
		p.addTrial()
	}
	if len(p.mesh.streams) == 0 {
		return nil, problem.Invalid("no requests enter the mesh: send some, or forecast a trial")
	}
	return p, p.takeDown(q.Down)
}

// planRules finds the draft: files, or changed weights, or a changed guard.
func (f *Forecasts) planRules(p *plan, q *model.ForecastRequest) error {
	if q.Split != nil && len(q.Rules) > 0 {
		return problem.Invalid("a draft and a split cannot be combined: write the weights into the draft")
	}
	if q.Split != nil {
		change, err := revisions.Split(&p.now, q.Split.Service, q.Split.Route, q.Split.Weights)
		if err != nil {
			return err
		}
		q.Bundle, q.Rules = change.Bundle, from.Files(change.Files)
	}
	if len(q.Rules) > 0 {
		var err error
		p.draft, p.changes, err = f.Revisions.Rules(cmp.Or(q.Bundle, model.MainBundle), from.ToFiles(q.Rules))
		if err != nil {
			return err
		}
	}
	if q.Guard == nil {
		return nil
	}
	if p.draft != nil {
		return problem.Invalid("a draft and a guard cannot be combined: write the guard into the draft")
	}
	var err error
	if p.draft, err = withGuard(p.now.Rules, q.Guard); err == nil {
		p.changes = rules.Diff(p.now.Rules, p.draft)
	}
	return err
}

// planTrial finds the trial, and reads the expectations.
func (f *Forecasts) planTrial(p *plan, q *model.ForecastRequest) error {
	if q.Trial != "" || len(q.File) > 0 {
		t, err := f.Trials.Plan(model.TrialRequest{Name: q.Trial, File: q.File, Rules: q.Rules, Bundle: q.Bundle})
		if err != nil {
			return err
		}
		p.trial = t.Trial
		p.expect = append(p.expect, t.Trial.Expect...)
	}
	for _, text := range q.Expect {
		e, err := rules.ParseExpectation(text)
		if err != nil {
			return problem.InvalidRequest{Why: err.Error()}
		}
		p.expect = append(p.expect, e)
	}
	return nil
}

// takeDown simulates an outage of sites, services and versions.
func (p *plan) takeDown(down []string) error {
	sites, targets := map[string]bool{}, map[string]bool{}
	for _, in := range p.mesh.instances {
		sites[in.Site], targets[in.Service+"/"+in.Version], targets[in.Service] = true, true, true
	}
	for _, rs := range []*rules.Rules{p.now.Rules, p.draft} {
		if rs == nil {
			continue
		}
		for _, s := range rs.Services {
			for _, in := range s.Instances {
				sites[in.Site], targets[s.Name+"/"+in.Version], targets[s.Name] = true, true, true
			}
		}
	}
	for _, name := range down {
		d := engine.Drill{ID: "down: " + name, Down: true}
		switch {
		case targets[name]:
			d.Service, d.Version, _ = strings.Cut(name, "/")
		case name != "" && sites[name]:
			d.Site = name
		default:
			return problem.Invalid("down: nothing runs at or as %q: name a site, SERVICE or SERVICE/VERSION", name)
		}
		p.mesh.drills = append(p.mesh.drills, d)
		p.mesh.assume("No instance of %s answers.", name)
	}
	return nil
}

// trialStream begins the names of a trial's streams.
const trialStream = "trial: "

// addTrial adds the load of the trial.
func (p *plan) addTrial() {
	t := p.trial
	for i := range t.Load {
		p.mesh.streams = append(p.mesh.streams, p.trialStream(i))
	}
	p.mesh.assume(
		"The requests of the trial arrive when it sends them, and pass their headers and cookies on to the " +
			"calls made for them.",
	)
	if d := t.Drill; d != nil {
		p.mesh.drills = append(
			p.mesh.drills,
			engine.Drill{
				ID:      "trial",
				Service: d.Service,
				Version: d.Version,
				Site:    d.Site,
				Fail:    d.Fail,
				Status:  503,
				Delay:   d.Delay,
				Down:    d.Down,
			},
		)
	}
}

// trialStream is one load of the trial.
func (p *plan) trialStream(i int) stream {
	t, l := p.trial, p.trial.Load[i]
	st := stream{load: l, warmUp: t.WarmUp, length: t.For, seed: trials.Seed(i)}
	st.Name, st.Caller, st.To, st.PassOn = fmt.Sprint(trialStream, i), cmp.Or(l.From, fleet.ServiceCaller), l.To, true
	st.Counted = max(t.WarmUp, warmUp)
	host := ""
	if g := p.now.Rules.Gateway(l.To); g != nil {
		st.Caller, st.To = g.Name, ""
		if at := slices.IndexFunc(g.Hosts, func(h string) bool { return !strings.HasPrefix(h, "*") }); at >= 0 {
			host = g.Hosts[at]
		}
	}
	path, query, _ := strings.Cut(l.Path, "?")
	kind := func(weight float64, headers, cookies []rules.Field) forecast.Kind {
		fields := fieldsOf(slices.Concat(l.Headers, headers), slices.Concat(l.Cookies, cookies))
		r := &forecast.Request{
			Method: l.Method,
			Path:   path,
			Query:  query,
			Host:   host,
			Fields: fields,
		}
		if h := fields["Host"]; len(h) > 0 {
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
	return st
}

// maxQueue bounds a guard that is tried out.
const maxQueue = 1_000_000

// withGuard is the rules with another queue for each version of a service.
func withGuard(rs *rules.Rules, g *model.GuardChange) (*rules.Rules, error) {
	s := rs.Service(g.Service)
	switch {
	case s == nil:
		return nil, problem.Missing("the rules in force declare no service %s: name one that they declare", g.Service)
	case g.InFlight < 1 || g.InFlight > maxQueue || g.Waiting < 0 || g.Waiting > maxQueue:
		return nil, problem.Invalid(
			"a guard allows 1 to %d requests in flight, and 0 to %d to wait",
			maxQueue,
			maxQueue,
		)
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
