package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/store"
)

func (s *Server) drafts(c *echo.Context) error {
	list, err := s.control.Drafts(c.Request().Context())
	if err != nil {
		return err
	}
	out := dto.Drafts{Drafts: []dto.Draft{}}
	for _, d := range list {
		out.Drafts = append(out.Drafts, dto.FromDraft(d))
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) draft(c *echo.Context) error {
	d, err := s.control.Draft(c.Request().Context(), c.Param("bundle"), c.QueryParam("by"))
	if err == store.ErrNotFound {
		return problem(http.StatusNotFound, "no-draft", "%q has no draft of bundle %s", c.QueryParam("by"), c.Param("bundle"))
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, dto.FromDraft(d))
}

func (s *Server) saveDraft(c *echo.Context) error {
	var in dto.DraftIn
	if err := body(c, &in); err != nil {
		return err
	}
	expect, err := expected(c)
	if err != nil {
		return err
	}
	if expect == nil {
		return problem(http.StatusPreconditionRequired, "if-match", "If-Match is needed: the version of the draft in quotes, or \"0\" when there is none yet")
	}
	d, err := s.control.SaveDraft(c.Request().Context(), store.Draft{Bundle: c.Param("bundle"), By: in.By, Base: in.Base, Files: in.Files}, *expect)
	if err == store.ErrDraftChanged {
		return problem(http.StatusPreconditionFailed, "draft-changed", "the draft was changed elsewhere meanwhile: read it again, or save yours under another name")
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, dto.FromDraft(d))
}

func (s *Server) dropDraft(c *echo.Context) error {
	if err := s.control.DropDraft(c.Request().Context(), c.Param("bundle"), c.QueryParam("by")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
