package api

import (
	"context"
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/control/upgrades"
)

// fleetOperations are about proxies, drills and stand-ins.
func (s *Server) fleetOperations() []Operation {
	return []Operation{
		get(
			"/fleet",
			"fleet",
			"The proxies",
			func(c *echo.Context) (model.Fleet, error) {
				f := s.control.Fleet.List()
				upgrades.Compare(&f, s.control.Upgrades.Newest())
				return fleetFor(f, s.scopeOf(c)), nil
			},
		).forTeams(),
		send(
			http.MethodPost,
			"/fleet/adopt",
			"adopt",
			"Tell proxies to follow this mesh, whatever mesh they followed before",
			s.adopt,
		).needing(people.Admin),
		get("/doctor", "doctor", "What is wrong with the service, its records and its proxies, and what to do about it",
			func(c *echo.Context) (model.Examination, error) {
				ctx, stop := context.WithTimeout(c.Request().Context(), readyTime)
				defer stop()
				return s.control.Examine(ctx, c.Request().Host), nil
			}),
		act(
			"/services/:service/instances/:instance/let-back",
			"letBack",
			"Let a sidelined instance take requests again before its time",
			func(c *echo.Context) (model.LetBackResult, error) {
				if err := s.owns(c, c.Param("service")); err != nil {
					return model.LetBackResult{}, err
				}
				n, err := s.control.Fleet.LetBack(c.Request().Context(), c.Param("service"), c.Param("instance"))
				return model.LetBackResult{Proxies: n}, err
			},
		).forTeams(),
		get("/drills", "drills", "Drills, newest first", s.drills, pageParams[1]).forTeams(),
		create(
			"/drills",
			"startDrill",
			"Start a drill: failures that are injected for a limited time, and end by themselves in every proxy",
			func(c *echo.Context, in model.DrillRequest) (model.Drill, error) {
				if err := s.owns(c, in.Service); err != nil {
					return model.Drill{}, err
				}
				return s.control.Drills.Start(c.Request().Context(), in)
			},
		).forTeams(),
		remove(
			"/drills/:drill",
			"stopDrill",
			"Stop a drill before its time",
			func(c *echo.Context) (model.Drill, error) {
				if err := s.ownsDrill(c, c.Param("drill")); err != nil {
					return model.Drill{}, err
				}
				return s.control.Drills.Stop(c.Request().Context(), c.Param("drill"))
			},
		).forTeams(),
		get("/standins", "standIns", "The stand-ins of the sample mesh; none elsewhere",
			func(c *echo.Context) (model.StandInList, error) {
				return s.standInsFor(s.scopeOf(c), s.standIns().List()), nil
			}).forTeams(),
		send(
			http.MethodPut,
			"/standins/:standin",
			"changeStandIn",
			"Change how stand-ins behave: an instance, or all of SERVICE~VERSION",
			func(c *echo.Context, in model.StandInChange) (model.StandInList, error) {
				if err := s.owns(c, s.standInService(c.Param("standin"))); err != nil {
					return model.StandInList{}, err
				}
				list, err := s.standIns().Change(c.Request().Context(), c.Param("standin"), in)
				return s.standInsFor(s.scopeOf(c), list), err
			},
		).forTeams(),
	}
}

func (s *Server) adopt(c *echo.Context, in model.AdoptRequest) (model.AdoptResult, error) {
	told, err := s.control.Fleet.Adopt(c.Request().Context(), in.Proxies)
	return model.AdoptResult{Proxies: append([]string{}, told...)}, err
}

func (s *Server) drills(c *echo.Context) (model.DrillList, error) {
	limit, err := number(c, "limit", 50, 1, 200)
	if err != nil {
		return model.DrillList{}, err
	}
	list, err := s.control.Drills.List(c.Request().Context(), limit)
	if sc := s.scopeOf(c); sc.IsLimited() {
		list = drillsFor(list, sc)
	}
	return model.DrillList{Drills: list}, err
}
