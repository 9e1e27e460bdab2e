package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/control"
)

// releases are the operations of releases, and of the sample's workloads.
func (s *Server) releases() []operation {
	return []operation{
		{method: "GET", path: "/releases", id: "releases", summary: "Releases that run or ran, newest first, and those that the rules in force declare", out: control.ReleaseList{},
			query: []param{{"before", "integer", "only releases below this number"}, {"limit", "integer", "1 to 200; 50 when absent"}}, handle: s.releaseList},
		{method: "GET", path: "/releases/key", id: "releaseKey", summary: "The public key with which receivers check what they are told (Ed25519)", out: dto.NoticeKey{}, handle: s.noticeKey},
		{method: "POST", path: "/releases", id: "startRelease", summary: "Begin a release that the rules in force declare", in: control.ReleaseAsk{}, out: control.Release{}, handle: s.startRelease},
		{method: "GET", path: "/releases/:release", id: "release", summary: "A release by its name (the newest run) or number, with its judgements, events and notices", out: control.Release{}, handle: s.release},
		{method: "POST", path: "/releases/:release/:act", id: "actRelease", summary: "Tell a release what a person wants: hold, resume, skip, withdraw or finish", in: dto.ReleaseAct{}, out: control.Release{}, handle: s.actRelease},
		{method: "GET", path: "/standins", id: "standins", summary: "The simulated workloads of the sample mesh; none elsewhere", out: dto.Standins{}, handle: s.standins},
		{method: "PUT", path: "/standins/:standin", id: "setStandin", summary: "Let simulated workloads behave otherwise: an instance, or all of SERVICE~VERSION", in: control.StandinChange{}, out: dto.Standins{}, handle: s.setStandin},
	}
}

func (s *Server) releaseList(c *echo.Context) error {
	before, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	list, err := s.control.Releases(c.Request().Context(), before, limit)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Server) noticeKey(c *echo.Context) error {
	key, err := s.control.NoticeKey()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, key)
}

func (s *Server) startRelease(c *echo.Context) error {
	var in control.ReleaseAsk
	if err := body(c, &in); err != nil {
		return err
	}
	out, err := s.control.StartRelease(c.Request().Context(), in)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, out)
}

func (s *Server) release(c *echo.Context) error {
	out, err := s.control.ReleaseDetail(c.Request().Context(), c.Param("release"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) actRelease(c *echo.Context) error {
	var in dto.ReleaseAct
	if err := body(c, &in); err != nil {
		return err
	}
	out, err := s.control.ActRelease(c.Request().Context(), c.Param("release"), c.Param("act"), in.By, in.Why)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) standins(c *echo.Context) error {
	return c.JSON(http.StatusOK, dto.Standins{Standins: s.control.Standins().List()})
}

func (s *Server) setStandin(c *echo.Context) error {
	var in control.StandinChange
	if err := body(c, &in); err != nil {
		return err
	}
	list, err := s.control.SetStandin(c.Param("standin"), in)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, dto.Standins{Standins: list})
}
