package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/store"
)

// siteOperations are about sites.
func (s *Server) siteOperations() []Operation {
	return []Operation{
		get("/sites", "sites", "The sites, and the requests between them", s.sites,
			Param{"window", "integer", "seconds that the figures cover; 60 when absent, at most 14 days"},
			Param{"at", "integer", "end of the window in seconds since 1970; now when absent"}),
		send(
			http.MethodPut,
			"/sites/:site/drain",
			"drainSite",
			"Have the instances of a site give their requests away to those elsewhere, bit by bit",
			func(c *echo.Context, in model.DrainRequest) (model.Drain, error) {
				return s.control.Drains.Drain(c.Request().Context(), c.Param("site"), in.Over)
			},
		),
		send(
			http.MethodPut,
			"/sites/:site/resume",
			"resumeSite",
			"Have the instances of a site that is drained take their requests back, bit by bit",
			func(c *echo.Context, in model.DrainRequest) (model.Drain, error) {
				return s.control.Drains.Resume(c.Request().Context(), c.Param("site"), in.Over)
			},
		),
	}
}

const sitesWindow = 60 // seconds that figures of sites cover

func (s *Server) sites(c *echo.Context) (model.Sites, error) {
	seconds, err := number(c, "window", sitesWindow, 1, store.CoarseTime)
	if err != nil {
		return model.Sites{}, err
	}
	at, err := number(c, "at", 0, 0, 1<<40)
	if err != nil {
		return model.Sites{}, err
	}
	return s.control.Views.Sites(c.Request().Context(), int64(seconds), int64(at))
}
