package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/core/stats"
)

// scopeOf is what who calls sees and may change.
func (s *Server) scopeOf(c *echo.Context) *people.Scope {
	return whoOf(c).Scope(s.control.Revisions.Current().Rules)
}

// scopesOf is scopeOf for something that lasts: it follows the rules in force.
func (s *Server) scopesOf(c *echo.Context) func() *people.Scope {
	who := whoOf(c)
	var of *rules.Rules
	scope := &people.Scope{}
	return func() *people.Scope {
		if rs := s.control.Revisions.Current().Rules; rs != of && len(who.Teams) > 0 {
			of, scope = rs, who.Scope(rs)
		}
		return scope
	}
}

// notTheirs refuses what is of another team, or of the platform, and logs that.
func (s *Server) notTheirs(c *echo.Context, what string) error {
	who := whoOf(c)
	s.control.People.Refuse(c.Request().Context(), c.Request().Method+" "+c.Path(), "for "+what+", which is not of their team")
	return failed(http.StatusForbidden, "team", "%s is of team %s, and %s is not theirs: ask who owns it, or an admin",
		who.Name, strings.Join(who.Teams, ", "), what)
}

// owns checks that who calls may change a service.
func (s *Server) owns(c *echo.Context, service string) error {
	if s.scopeOf(c).Owns(service) {
		return nil
	}
	if service == "" {
		return s.notTheirs(c, "the whole mesh")
	}
	return s.notTheirs(c, "service "+service)
}

// sees checks that who calls sees a service. What they do not see is as if it were not
// there.
func (s *Server) sees(c *echo.Context, service string) error {
	if s.scopeOf(c).Sees(service) {
		return nil
	}
	return s.notTheirs(c, "service "+service)
}

// ownsBundles checks that who calls may publish bundles.
func (s *Server) ownsBundles(c *echo.Context, bundles ...string) error {
	sc := s.scopeOf(c)
	for _, b := range bundles {
		if !sc.OwnsBundle(b) {
			return s.notTheirs(c, "bundle "+b)
		}
	}
	return nil
}

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
// words of others may be about what they do not see.
func saidBy(who people.Who, author, message string) (string, string) {
	if author == who.Name {
		return author, message
	}
	return "", ""
}

// revisionFor is a revision with the bundles that somebody sees.
func revisionFor(r model.Revision, who people.Who, sc *people.Scope) model.Revision {
	if !sc.IsLimited() {
		return r
	}
	if r.Bundle == "" || !sc.OwnsBundle(r.Bundle) {
		r.Author, r.Message = saidBy(who, r.Author, r.Message)
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

// seesRequest tells whether somebody sees a request.
func seesRequest(r *model.RequestRecord, sc *people.Scope) bool {
	return sc.SeesLink(r.Caller, r.Service)
}

// teamLives are the live meshes of those who belong to teams.
type teamLives struct {
	mu sync.Mutex // guards of
	of map[string]*liveMesh
}

// maxLives is how many different sets of teams follow the mesh at once.
const maxLives = 256

// liveFor is the live mesh for who calls.
func (s *Server) liveFor(c *echo.Context) (*liveMesh, error) {
	who := whoOf(c)
	if len(who.Teams) == 0 {
		return &s.liveMesh, nil
	}
	key := strings.Join(slices.Sorted(slices.Values(who.Teams)), " ")
	s.lives.mu.Lock()
	defer s.lives.mu.Unlock()
	if l := s.lives.of[key]; l != nil {
		return l, nil
	}
	if len(s.lives.of) >= maxLives {
		return nil, failed(http.StatusServiceUnavailable, tooManyStreams, "%d sets of teams follow the mesh: try again later", maxLives)
	}
	l := &liveMesh{source: func(ctx context.Context) (model.Mesh, error) {
		m, err := s.liveMesh.newest(ctx)
		return meshFor(m, people.Who{}, who.Scope(s.control.Revisions.Current().Rules)), err
	}}
	if s.lives.of == nil {
		s.lives.of = map[string]*liveMesh{}
	}
	s.lives.of[key] = l
	return l, nil
}

// hostOf is the service or host that a URL of a request names.
func hostOf(url string) string {
	_, rest, hasScheme := strings.Cut(url, "://")
	if !hasScheme {
		rest = url
	}
	host, _, _ := strings.Cut(rest, "/")
	host, _, _ = strings.Cut(host, ":")
	return strings.ToLower(host)
}

// mayAsk checks that a request that somebody wants explained or sent stays within what
// they see: it begins at a service of theirs or at one that they use, or at a gateway, as
// outsiders' do.
func (s *Server) mayAsk(c *echo.Context, spec *model.RequestSpec) error {
	sc, rs := s.scopeOf(c), s.control.Revisions.Current().Rules
	if !sc.IsLimited() {
		return nil
	}
	if spec.From != "" && !sc.Owns(spec.From) {
		return s.notTheirs(c, "service "+spec.From)
	}
	host := hostOf(spec.URL)
	if rs.Service(host) != nil && !sc.Sees(host) {
		return s.notTheirs(c, "service "+host)
	}
	return nil
}

// releaseService is the service of a release, by its name or number; empty: unknown.
func (s *Server) releaseService(ctx context.Context, name string) (string, error) {
	r, err := s.control.Releases.Get(ctx, name)
	return r.Service, err
}

// declaredService is the service of a release that the rules declare; without a name of
// the only one.
func (s *Server) declaredService(name string) string {
	list := s.control.Revisions.Current().Rules.Releases
	for _, r := range list {
		if r.Name == name || name == "" && len(list) == 1 {
			return r.Service
		}
	}
	return ""
}

// standInService is the service of a stand-in.
func (s *Server) standInService(which string) string {
	which = strings.Replace(which, "~", "/", 1)
	for _, one := range s.standIns().List() {
		if one.Instance == which || one.Service+"/"+one.Version == which {
			return one.Service
		}
	}
	return cmp.Or(strings.Split(which, "/")[0], which)
}

// mayTry checks that a trial stays within what somebody owns: it sends as their services,
// to what they see, and breaks their own alone.
func (s *Server) mayTry(c *echo.Context, q *model.TrialRequest) error {
	sc, rs := s.scopeOf(c), s.control.Revisions.Current().Rules
	if !sc.IsLimited() {
		return nil
	}
	if len(q.Rules) > 0 {
		if err := s.ownsBundles(c, cmp.Or(q.Bundle, model.MainBundle)); err != nil {
			return err
		}
	}
	p, err := s.control.Trials.Plan(*q)
	if err != nil {
		return err
	}
	if d := p.Trial.Drill; d != nil && !sc.Owns(d.Service) {
		return s.notTheirs(c, cmp.Or(d.Service, "the whole mesh"))
	}
	for i := range p.Trial.Load {
		l := &p.Trial.Load[i]
		if l.From != "" && !sc.Owns(l.From) {
			return s.notTheirs(c, "service "+l.From)
		}
		if rs.Gateway(l.To) == nil && !sc.Sees(l.To) {
			return s.notTheirs(c, "service "+l.To)
		}
	}
	return nil
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
	f.Rows = rowsFor(f.Rows, sc)
	f.Draft = keep(f.Draft, func(c *model.Change) bool { return sc.OwnsBundle(rules.Origin{File: c.At.File}.Bundle()) })
	f.Behaviour = keep(f.Behaviour, func(b *model.VersionBehaviour) bool { return seesTarget(b.Target) })
	f.RefusalStart = keep(f.RefusalStart, func(r *model.RefusalStart) bool { return seesTarget(r.Where) })
	f.Sweep, f.Assumptions, f.Calibration = []model.SweepPoint{}, []string{}, []string{}
	return f
}

// mayForecast checks that what somebody wants forecast is a change of theirs.
func (s *Server) mayForecast(c *echo.Context, q *model.ForecastRequest) error {
	switch sc := s.scopeOf(c); {
	case !sc.IsLimited():
		return nil
	case len(q.Rules) > 0:
		return s.ownsBundles(c, cmp.Or(q.Bundle, model.MainBundle))
	case q.Split != nil && !sc.Sees(q.Split.Service):
		return s.notTheirs(c, "service "+q.Split.Service)
	case q.Guard != nil && !sc.Sees(q.Guard.Service):
		return s.notTheirs(c, "service "+q.Guard.Service)
	}
	return nil
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

// rejectionFor is the error of rules with mistakes, with those findings that somebody
// sees.
func rejectionFor(err error, sc *people.Scope) error {
	var rejected problem.RulesRejected
	if !sc.IsLimited() || !errors.As(err, &rejected) {
		return err
	}
	f := asProblem(err)
	rep := reportFor(model.CheckReport{Findings: f.Findings, Mistakes: rules.Mistakes(rejected.Findings)}, sc)
	f.Findings = rep.Findings
	return f
}

// ownsDrill checks that a running drill is of a service of who calls.
func (s *Server) ownsDrill(c *echo.Context, id string) error {
	if !s.scopeOf(c).IsLimited() {
		return nil
	}
	for _, d := range s.control.Drills.Specs() {
		if d.ID == id {
			return s.owns(c, d.Service)
		}
	}
	return s.notTheirs(c, "drill "+id)
}

// standInsFor is the stand-ins that somebody sees.
func (s *Server) standInsFor(sc *people.Scope, list []model.StandIn) model.StandInList {
	return model.StandInList{StandIns: keep(list, func(one *model.StandIn) bool { return sc.Sees(one.Service) })}
}
