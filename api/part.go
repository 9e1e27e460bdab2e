package api

import (
	"cmp"
	"slices"
	"strings"

	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/core/rules"
	"nightjar/core/stats"
)

// keep is the elements of a list that fit; never nil.
func keep[T any](list []T, fits func(*T) bool) []T {
	out := make([]T, 0, len(list))
	for i := range list {
		if fits(&list[i]) {
			out = append(out, list[i])
		}
	}
	return out
}

// meshFor is the part of the mesh that somebody sees.
func meshFor(m model.Mesh, who people.Who, sc *people.Scope) model.Mesh {
	if !sc.IsLimited() {
		return m
	}
	m.Services = keep(m.Services, func(s *model.Service) bool { return sc.Sees(s.Name) })
	for i := range m.Services {
		s := &m.Services[i]
		s.Guards = keep(s.Guards, func(g *model.GuardState) bool { return sc.SeesLink(g.Caller, s.Name) })
	}
	m.Gateways = keep(m.Gateways, func(g *model.Gateway) bool { return sc.SeesGateway(g.Name) })
	for i := range m.Gateways {
		g := &m.Gateways[i]
		g.Routes = keep(g.Routes, func(r *model.Route) bool { return sc.SeesRoute(r.Team) })
		g.Guards, g.Figures = []model.GuardState{}, sumOf(g.Routes)
	}
	m.Links = keep(m.Links, func(l *model.Link) bool { return sc.SeesLink(l.From, l.To) })
	m.Warnings = keep(m.Warnings, func(f *model.Finding) bool { return findingFor(f, sc) })
	m.WarningCount = len(m.Warnings)
	m.Drills = drillsFor(m.Drills, sc)
	m.Releases = keep(m.Releases, func(r *model.ReleaseSummary) bool { return sc.Owns(r.Service) })
	m.Unpublished = keep(m.Unpublished, func(u *model.Unpublished) bool { return sc.OwnsBundle(u.Bundle) })
	m.Problems = []model.ProxyProblem{}
	m.Revision.Behind = []string{}
	m.Revision.Author, m.Revision.Message = saidBy(who, m.Revision.Author, m.Revision.Message)
	return m
}

// sumOf is the requests of some routes of a gateway. Their latencies cannot be added.
func sumOf(routes []model.Route) (f model.Figures) {
	for i := range routes {
		r := &routes[i].Figures
		f.Requests, f.RPS, f.OK = f.Requests+r.Requests, f.RPS+r.RPS, f.OK+r.OK
		f.Failed, f.Refused, f.Abandoned = f.Failed+r.Failed, f.Refused+r.Refused, f.Abandoned+r.Abandoned
	}
	if n := f.OK + f.Failed + f.Refused; n > 0 {
		share := float64(f.OK) / float64(n)
		f.Success = &share
		f.SuccessLow, f.SuccessHigh = stats.Wilson(f.OK, n)
	}
	return f
}

func drillsFor(list []model.Drill, sc *people.Scope) []model.Drill {
	return keep(list, func(d *model.Drill) bool { return sc.Sees(d.Service) })
}

// findingFor tells whether somebody sees a finding: it is in their bundle. What it shows
// of the other place is the place alone.
func findingFor(f *model.Finding, sc *people.Scope) bool {
	return sc.OwnsBundle(rules.Origin{File: f.At.File}.Bundle())
}

// reportFor is the part of a check that somebody sees.
func reportFor(r model.CheckReport, sc *people.Scope) model.CheckReport {
	if !sc.IsLimited() {
		return r
	}
	mistakes := r.Mistakes
	r.Findings = keep(r.Findings, func(f *model.Finding) bool { return findingFor(f, sc) })
	r.Mistakes = 0
	for _, f := range r.Findings {
		if f.Severity == model.Mistake {
			r.Mistakes++
		}
	}
	r.Warnings = len(r.Findings) - r.Mistakes
	if hidden := mistakes - r.Mistakes; hidden > 0 { // publishing is refused for them too
		r.Findings = append(r.Findings, model.Finding{
			Severity: model.Mistake, Code: string(rules.CodeNotYours),
			Message:  "it makes a mistake in a bundle of somebody else",
			Expected: "what others use to stay: ask the platform which line it is",
		})
		r.Mistakes++
	}
	r.Changes = keep(r.Changes, func(c *model.Change) bool {
		return sc.OwnsBundle(rules.Origin{File: c.At.File}.Bundle())
	})
	r.Releases = []model.ReleaseChanges{}
	return r
}

// publishedFor is what somebody is told of a revision that they published.
func publishedFor(p model.Published, sc *people.Scope) model.Published {
	if !sc.IsLimited() {
		return p
	}
	p.Warnings = keep(p.Warnings, func(f *model.Finding) bool { return findingFor(f, sc) })
	p.Changes = keep(p.Changes, func(c *model.Change) bool {
		return sc.OwnsBundle(rules.Origin{File: c.At.File}.Bundle())
	})
	p.Rollout.Away, p.Rollout.Missing = []string{}, []string{}
	return p
}

// saidBy is the author and the message of a revision as somebody of a team sees them: the
// words of others may be about what they do not see, and so may their names.
func saidBy(who people.Who, author, message string) (string, string) {
	if author == who.Name || author == "" {
		return author, message
	}
	return "somebody else", ""
}

// revisionFor is a revision with the bundles that somebody sees.
func revisionFor(r model.Revision, who people.Who, sc *people.Scope) model.Revision {
	if !sc.IsLimited() {
		return r
	}
	if r.Bundle == "" || !sc.OwnsBundle(r.Bundle) {
		r.Author, r.Message = saidBy(who, r.Author, r.Message)
		r.Commit = ""
	}
	if r.Bundles == nil {
		return r
	}
	own := map[string][]model.File{}
	for name, files := range r.Bundles {
		if sc.OwnsBundle(name) {
			own[name] = files
		}
	}
	r.Bundles = own
	return r
}

// rowsFor is the rows of an effect or a forecast that somebody sees.
func rowsFor(rows []model.EffectRow, sc *people.Scope) []model.EffectRow {
	if !sc.IsLimited() {
		return rows
	}
	return keep(rows, func(r *model.EffectRow) bool {
		switch r.Kind {
		case model.RowCaller:
			return sc.Owns(r.Name)
		case model.RowService:
			return sc.Sees(r.Name)
		case model.RowVersion, model.RowRoute:
			name, _, _ := strings.Cut(r.Name, "/")
			return sc.Sees(name)
		case model.RowLink:
			from, to, _ := strings.Cut(r.Name, " > ")
			return sc.SeesLink(from, to)
		}
		return false
	})
}

// worseFor is what a forecast says gets worse, such as "service sailings: success …", if
// somebody sees it.
func worseFor(text string, sc *people.Scope) string {
	what, _, _ := strings.Cut(text, ":")
	kind, name, _ := strings.Cut(what, " ")
	if len(rowsFor([]model.EffectRow{{Kind: kind, Name: name}}, sc)) == 0 {
		return ""
	}
	return text
}

// activityFor is the entries of the activity log that somebody sees: their own acts, and
// what is about their services.
func activityFor(list []model.ActivityEntry, who people.Who, sc *people.Scope) []model.ActivityEntry {
	if !sc.IsLimited() {
		return list
	}
	return keep(list, func(e *model.ActivityEntry) bool {
		return e.Who == who.Name && e.Credential != "" || e.Service != "" && sc.Owns(e.Service)
	})
}

// fleetFor is the proxies that somebody sees.
func fleetFor(f model.Fleet, sc *people.Scope) model.Fleet {
	if sc.IsLimited() {
		f.Proxies = keep(f.Proxies, func(p *model.Proxy) bool { return p.Service != "" && sc.Owns(p.Service) })
		f.Upgrade, f.OutOfStep = nil, nil
	}
	return f
}

// matrixFor is the links of the access matrix that somebody sees.
func matrixFor(m model.AccessMatrix, sc *people.Scope) model.AccessMatrix {
	if !sc.IsLimited() {
		return m
	}
	m.Links = keep(m.Links, func(l *model.AccessLink) bool { return sc.SeesLink(l.From, l.To) })
	m.Unproven = keep(m.Unproven, func(u *model.UnprovenCaller) bool { return sc.Owns(u.Service) })
	return m
}

// seesGroup tells whether somebody sees a group of requests: all that it names, and the link
// when it names both ends.
func seesGroup(q *model.TimelineQuery, rs *rules.Rules, sc *people.Scope) bool {
	to := q.Service
	if rs.Gateway(q.Parent) == nil && q.Parent != "" {
		if to = cmp.Or(to, q.Parent); !sc.Sees(q.Parent) {
			return false
		}
	}
	switch {
	case q.Caller == "":
		return sc.Sees(to)
	case to == "":
		return sc.Owns(q.Caller)
	}
	return sc.SeesLink(q.Caller, to) && sc.Sees(to)
}

// seesRequest tells whether somebody sees a request.
func seesRequest(r *model.RequestRecord, sc *people.Scope) bool {
	return sc.SeesLink(r.Caller, r.Service)
}

// startedBy tells whether somebody sees a trial: of a team, those that they started.
func startedBy(who people.Who, sc *people.Scope) func(*model.Trial) bool {
	return func(t *model.Trial) bool { return !sc.IsLimited() || t.By == who.Name }
}

// forecastFor is the part of a forecast that somebody sees.
func forecastFor(f model.Forecast, sc *people.Scope) model.Forecast {
	if !sc.IsLimited() {
		return f
	}
	seesTarget := func(target string) bool {
		name, _, _ := strings.Cut(target, "/")
		return sc.Sees(name)
	}
	f.Rows, f.Worse = rowsFor(f.Rows, sc), worseFor(f.Worse, sc)
	f.Draft = keep(f.Draft, func(c *model.Change) bool { return sc.OwnsBundle(rules.Origin{File: c.At.File}.Bundle()) })
	f.Behaviour = keep(f.Behaviour, func(b *model.VersionBehaviour) bool { return seesTarget(b.Target) })
	f.RefusalStart = keep(f.RefusalStart, func(r *model.RefusalStart) bool { return seesTarget(r.Where) })
	f.Sweep, f.Assumptions, f.Calibration = []model.SweepPoint{}, []string{}, []string{}
	return f
}

// seesTrace tells whether somebody sees a trace: a service of theirs took part.
func seesTrace(t *model.TraceSummary, sc *people.Scope) bool {
	return !sc.IsLimited() || slices.ContainsFunc(t.Services, sc.Owns)
}

// explanationFor is an explanation without the routes of others.
func explanationFor(e model.Explanation, sc *people.Scope) model.Explanation {
	if !sc.IsLimited() {
		return e
	}
	e.Steps = slices.Clone(e.Steps)
	for i := range e.Steps {
		e.Steps[i].Routes = keep(e.Steps[i].Routes, func(r *model.RouteMatch) bool {
			return sc.OwnsBundle(rules.Origin{File: r.At.File}.Bundle()) || r.Result == model.RouteTaken
		})
	}
	return e
}
