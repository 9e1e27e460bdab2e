package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/control"
)

func (s *Server) activity(c *echo.Context) error {
	before, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	list, err := s.control.Activity(c.Request().Context(), c.QueryParam("service"), before, limit)
	if err != nil {
		return err
	}
	out := dto.Activity{Activity: list}
	if len(list) == limit {
		out.Next = list[limit-1].Number
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) drills(c *echo.Context) error {
	limit, err := number(c, "limit", 50, 1, 200)
	if err != nil {
		return err
	}
	list, err := s.control.Drills(c.Request().Context(), limit)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, dto.Drills{Drills: list})
}

func (s *Server) startDrill(c *echo.Context) error {
	var in control.DrillAsk
	if err := body(c, &in); err != nil {
		return err
	}
	out, err := s.control.StartDrill(c.Request().Context(), in)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, out)
}

func (s *Server) stopDrill(c *echo.Context) error {
	out, err := s.control.StopDrill(c.Request().Context(), c.Param("drill"), c.QueryParam("by"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}
