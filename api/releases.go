package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
)

// releaseOperations are about releases and the events that receivers get.
func (s *Server) releaseOperations() []Operation {
	return []Operation{
		get(
			"/releases",
			"releases",
			"Releases, newest first, and those that the rules in force declare",
			s.releases,
			pageParams...).forTeams(),
		get("/releases/key", "signingKey", "The public key by which receivers check the signatures of events (Ed25519)",
			func(*echo.Context) (model.SigningKey, error) { return s.control.Outbox.SigningKey() }).forTeams(),
		create("/releases", "startRelease", "Start a release that the rules in force declare",
			func(c *echo.Context, in model.StartReleaseRequest) (model.Release, error) {
				if err := s.owns(c, s.declaredService(in.Name)); err != nil {
					return model.Release{}, err
				}
				return s.control.Releases.Start(c.Request().Context(), in)
			}).forTeams(),
		get(
			"/releases/:release",
			"release",
			"A release by its name (its newest run) or number, with judgements, events and notifications",
			func(c *echo.Context) (model.Release, error) {
				r, err := s.control.Releases.Get(c.Request().Context(), c.Param("release"))
				if err == nil && !s.scopeOf(c).Owns(r.Service) {
					return model.Release{}, s.notTheirs(c, "release "+r.Name)
				}
				return r, err
			},
		).forTeams(),
		send(
			http.MethodPost,
			"/releases/:release/:act",
			"actOnRelease",
			"Hold, resume, skip a step of, withdraw or finish a release",
			func(c *echo.Context, in model.ReleaseAction) (model.Release, error) {
				if s.scopeOf(c).IsLimited() {
					service, err := s.releaseService(c.Request().Context(), c.Param("release"))
					if err == nil {
						err = s.owns(c, service)
					}
					if err != nil {
						return model.Release{}, err
					}
				}
				return s.control.Releases.Act(c.Request().Context(), c.Param("release"), c.Param("act"), in)
			},
		).forTeams(),
	}
}

func (s *Server) releases(c *echo.Context) (model.ReleasePage, error) {
	before, limit, err := pageOf(c)
	if err != nil {
		return model.ReleasePage{}, err
	}
	page, err := s.control.Releases.List(c.Request().Context(), before, limit)
	sc := s.scopeOf(c)
	page.Releases = keep(page.Releases, func(r *model.Release) bool { return sc.Owns(r.Service) })
	page.Declared = keep(page.Declared, func(d *model.DeclaredRelease) bool { return sc.Owns(d.Service) })
	return page, err
}
