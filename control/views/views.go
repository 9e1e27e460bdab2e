// Package views puts together what people look at: the mesh with its figures, the
// figures over time, and what holds for a service.
package views

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/figures"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

const (
	maxMarks    = 2000 // of revisions on a timeline, the newest
	maxDrills   = 1000 // that are looked at
	maxWarnings = 50   // that a mesh has, which is sent every second
)

// Records is what views need of the store.
type Records interface {
	Around(ctx context.Context, number uint, at time.Time) (before, after store.Revision, err error)
	RevisionsBetween(ctx context.Context, from, to time.Time, limit int) ([]store.Revision, error)
}

// Drills is the drills that are running, and those that ran.
type Drills interface {
	Running() []model.Drill
	List(ctx context.Context, limit int) ([]model.Drill, error)
}

// Config is what Views are made of.
type Config struct {
	Records   Records
	Revisions *revisions.Revisions
	Fleet     *fleet.Fleet
	Figures   *figures.Figures
	Drills    Drills
	Drains    func(site string) *model.Drain // nil: it is not drained
	Releases  func() []model.ReleaseSummary  // that are running
	Domain    string                         // trust domain
	Now       func() time.Time
}

// Views puts views together. It is safe for concurrent use.
type Views struct{ Config }

// New makes Views.
func New(c Config) *Views { return &Views{c} }

// Mesh returns the mesh with the figures of a window: its length, and its end in
// seconds since 1970 (0: the last complete second). With a site it is the part of it there:
// what runs at it, and the requests that were made or answered at it. The list of what runs
// is always the present one.
func (v *Views) Mesh(ctx context.Context, seconds, end int64, site string) (model.Mesh, error) {
	unpublished, err := v.Revisions.Unpublished(ctx)
	if err != nil {
		return model.Mesh{}, err
	}
	now, proxies, warnings := v.Revisions.Current(), v.Fleet.List().Proxies, v.Revisions.Warnings()
	begin, until := v.Figures.Span(seconds, end)
	revision := now.Revision.Number
	if end > 0 {
		if revision, err = v.revisionAt(ctx, until); err != nil {
			return model.Mesh{}, err
		}
	}
	all := proxies
	if site != "" {
		proxies = slices.DeleteFunc(slices.Clone(proxies), func(p model.Proxy) bool { return p.Site != site })
	}
	g, err := v.group(ctx, begin, until, revision, now.Rules, site)
	if err != nil {
		return model.Mesh{}, err
	}
	if end == 0 && site == "" { // connections are those of now
		for caller, list := range v.Fleet.Open() {
			g.addOpen(caller, list)
		}
	}
	m := model.Mesh{
		At:          v.Now().UTC(),
		End:         until,
		Window:      g.seconds,
		Revision:    revisionState(now.Revision, all),
		Unpublished: unpublished,
		Problems:    problems(proxies),
		Drills:      v.Drills.Running(),
		Releases:    v.Releases(),
		Warnings:    warnings[:min(len(warnings), maxWarnings)],

		WarningCount: len(warnings),
	}
	there := newMembers(now.Rules, proxies, v.guards(proxies))
	there.domain = v.Domain
	m.Services, m.Gateways, m.Links = g.services(there), g.gateways(there), g.links(there)
	m.Sites = siteNames(now.Rules, all)
	m.Series, m.Other = v.Figures.State()
	return m, nil
}

// guards is the state of the guards in some proxies, by called service.
func (v *Views) guards(proxies []model.Proxy) map[string][]model.GuardState {
	out, isThere := map[string][]model.GuardState{}, map[string]bool{}
	for i := range proxies {
		isThere[proxies[i].ID] = true
	}
	v.Fleet.Guards(func(proxy, caller string, at time.Time, s engine.Status) {
		if !isThere[proxy] {
			return
		}
		out[s.Service] = append(
			out[s.Service],
			model.GuardState{Proxy: proxy, Caller: caller, At: at, GuardStatus: from.GuardStatus(s)},
		)
	})
	return out
}

func revisionState(rev store.Revision, proxies []model.Proxy) model.RevisionState {
	s := model.RevisionState{
		Number:  rev.Number,
		Kind:    rev.Kind,
		Author:  rev.Author,
		Message: rev.Message,
		At:      rev.At,
		Behind:  []string{},
	}
	for _, p := range proxies {
		switch p.State {
		case model.ProxyBehind, model.ProxyRejecting:
			s.Behind = append(s.Behind, p.ID)
			s.Connected++
		case model.ProxyCurrent:
			s.Connected++
			s.Acknowledged++
		}
	}
	return s
}

// problems is what is wrong with proxies.
func problems(proxies []model.Proxy) []model.ProxyProblem {
	out := []model.ProxyProblem{}
	for _, p := range proxies {
		out = append(out, p.Problems...)
		if p.State == model.ProxyRejecting {
			out = append(
				out,
				model.ProxyProblem{Proxy: p.ID, Gateway: p.Gateway, Kind: "rejecting", Detail: p.Rejection},
			)
		}
	}
	return out
}

// workloadProblem is why the proxy beside a workload cannot reach it; empty: it can.
func workloadProblem(p *model.Proxy) string {
	for _, one := range p.Problems {
		if one.Kind == wire.ProblemWorkload {
			return one.Detail
		}
	}
	return ""
}

// revisionAt is the number of the revision that was in force at a time; 0: none was.
func (v *Views) revisionAt(ctx context.Context, at int64) (uint, error) {
	before, _, err := v.Records.Around(ctx, 0, time.Unix(at, 0).Add(-time.Nanosecond))
	return before.Number, err
}

// Timeline is the figures of a group of requests over time, with the revisions and
// drills meanwhile.
func (v *Views) Timeline(ctx context.Context, q model.TimelineQuery) (model.Timeline, error) {
	out, err := v.Figures.Timeline(ctx, q)
	if err != nil {
		return out, err
	}
	out.Marks, err = v.marks(ctx, out.From, out.To)
	return out, err
}

// marks are the revisions and drills that began in a time.
func (v *Views) marks(ctx context.Context, begin, end int64) ([]model.Mark, error) {
	out := []model.Mark{}
	list, err := v.Records.RevisionsBetween(ctx, time.Unix(begin, 0), time.Unix(end, 0), maxMarks)
	if err != nil {
		return out, err
	}
	for _, r := range list {
		m := model.Mark{
			At:   r.At.Unix(),
			Kind: model.MarkRevision,
			Name: strconv.Itoa(int(r.Number)),
			Text: cmp.Or(r.Message, r.Kind),
			By:   r.Author,
		}
		if r.Kind == "release" {
			m.Kind, m.Step = model.MarkRelease, stepOf(r.Message)
		}
		out = append(out, m)
	}
	drills, err := v.Drills.List(ctx, maxDrills)
	if err != nil {
		return out, err
	}
	for _, d := range drills {
		if at := d.Began.Unix(); at >= begin && at < end {
			out = append(
				out,
				model.Mark{
					At:   at,
					Ends: d.Ends.Unix(),
					Kind: model.MarkDrill,
					Name: d.ID,
					Text: d.What,
					By:   d.By,
				},
			)
		}
	}
	slices.SortFunc(out, func(a, b model.Mark) int { return cmp.Compare(a.At, b.At) })
	return out, nil
}

// stepOf reads the step out of the message of a release's revision.
func stepOf(message string) string {
	switch what, rest, _ := strings.Cut(message, ":"); {
	case strings.HasPrefix(what, "stage ") && rest != "":
		return strings.TrimPrefix(what, "stage ")
	case what == "completed":
		return "done"
	case what == "withdrawn" || what == "held":
		return "back"
	}
	return ""
}

// Effective is what holds for a service under the rules in force, after policies and
// defaults.
func (v *Views) Effective(name string) (model.EffectiveSettings, error) {
	now := v.Revisions.Current()
	s := now.Rules.Service(name)
	if s == nil {
		return model.EffectiveSettings{}, problem.Missing(
			"the rules in force declare no service %s: \"nightjar services\" lists the services",
			name,
		)
	}
	resolver := rules.NewResolver(now.Rules)
	out := model.EffectiveSettings{
		Service:  name,
		Revision: now.Revision.Number,
		Settings: from.Settings(resolver.ServiceHoldings(s)),
		Routes:   []model.EffectiveRoute{},
	}
	for _, rt := range s.Routes {
		r := model.EffectiveRoute{
			Name: rt.Name,
			At:   model.Origin(rt.At),
			When: conditions(rt),
			Send: rules.SendText(rt.Send, name),
		}
		r.Settings = append(actions(rt, name), from.Settings(resolver.RouteHoldings(s, rt))...)
		out.Routes = append(out.Routes, r)
	}
	return out, nil
}

// conditions are the conditions of a route in words.
func conditions(rt *rules.Route) []string {
	out := []string{}
	for _, w := range rt.When {
		out = append(out, w.Describe())
	}
	return out
}

// actions are the actions of a route of a service.
func actions(rt *rules.Route, service string) []model.Setting {
	out := []model.Setting{}
	for _, a := range rt.Actions(service) {
		out = append(out, model.Setting{Name: a.Name, Value: a.Value, From: rt.Called(), At: model.Origin(a.Origin)})
	}
	return out
}

// members are what runs and what is declared, by name.
type members struct {
	rules     *rules.Rules
	resolver  *rules.Resolver
	proxies   []model.Proxy
	declared  map[string]*rules.Service
	instances map[string][]*model.Proxy // by service
	guards    map[string][]model.GuardState
	domain    string // trust domain
}

func newMembers(rs *rules.Rules, proxies []model.Proxy, guards map[string][]model.GuardState) *members {
	m := &members{
		rules:     rs,
		resolver:  rules.NewResolver(rs),
		proxies:   proxies,
		declared:  map[string]*rules.Service{},
		instances: map[string][]*model.Proxy{},
		guards:    guards,
	}
	for _, s := range rs.Services {
		m.declared[s.Name] = s
	}
	for i := range proxies {
		if p := &proxies[i]; p.Inbound != "" {
			m.instances[p.Service] = append(m.instances[p.Service], p)
		}
	}
	return m
}

// serviceNames are the services that are declared or have instances.
func (m *members) serviceNames() []string {
	names := map[string]bool{}
	for name := range m.declared {
		names[name] = true
	}
	for name := range m.instances {
		names[name] = true
	}
	return slices.Sorted(maps.Keys(names))
}
