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
	call, _ := c.Get(callKey).(string)
	s.control.People.Refuse(c.Request().Context(), call, "for "+what+", which is not of their team")
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

// teamLives are the live meshes of those who belong to teams, by the set of their teams. One
// is there as long as somebody follows it.
type teamLives struct {
	mu sync.Mutex // guards of
	of map[string]*teamLive
}

type teamLive struct {
	liveMesh
	followers int
}

// maxLives is how many different sets of teams follow the mesh at once.
const maxLives = 256

// follow is the live mesh of a set of teams; without one there, of a source. leave has to be
// called when it is not followed any more.
func (t *teamLives) follow(
	key string, source func(context.Context) (model.Mesh, error),
) (mesh *liveMesh, leave func(), err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	l := t.of[key]
	switch {
	case l != nil:
	case len(t.of) >= maxLives:
		return nil, nil, failed(http.StatusServiceUnavailable, tooManyStreams,
			"%d sets of teams follow the mesh: try again later", maxLives)
	default:
		l = &teamLive{liveMesh: liveMesh{source: source}}
		if t.of == nil {
			t.of = map[string]*teamLive{}
		}
		t.of[key] = l
	}
	l.followers++
	return &l.liveMesh, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if l.followers--; l.followers == 0 {
			delete(t.of, key)
		}
	}, nil
}

// liveFor is the live mesh for who calls. leave has to be called when the call ends.
func (s *Server) liveFor(c *echo.Context) (mesh *liveMesh, leave func(), err error) {
	who := whoOf(c)
	if len(who.Teams) == 0 {
		return &s.liveMesh, func() {}, nil
	}
	key := strings.Join(slices.Sorted(slices.Values(who.Teams)), " ")
	return s.lives.follow(key, func(ctx context.Context) (model.Mesh, error) {
		m, err := s.liveMesh.newest(ctx)
		return meshFor(m, people.Who{}, who.Scope(s.control.Revisions.Current().Rules)), err
	})
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
