package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/core/rules"
)

func (s *Server) format(c *echo.Context) error {
	var in dto.Files
	if err := body(c, &in); err != nil {
		return err
	}
	out := dto.Files{Files: []rules.File{}}
	for _, f := range in.Files {
		text, err := rules.Format(f)
		if err != nil {
			return problem(http.StatusUnprocessableEntity, "syntax", "%s", err.Error())
		}
		out.Files = append(out.Files, rules.File{Name: f.Name, Text: text})
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) schema(c *echo.Context) error {
	return c.Blob(http.StatusOK, "application/schema+json", rules.Schema)
}

func (s *Server) effective(c *echo.Context) error {
	out, err := s.control.Effective(c.Param("service"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}
