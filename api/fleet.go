package api

import (
	"context"
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
)

// fleetOperations are about proxies, the activity log, drills and stand-ins.
func (s *Server) fleetOperations() []Operation {
	return []Operation{
		get(
			"/fleet",
			"fleet",
			"The proxies",
			func(*echo.Context) (model.Fleet, error) { return s.control.Fleet.List(), nil },
		),
		send(
			http.MethodPost,
			"/fleet/adopt",
			"adopt",
			"Tell proxies to follow this mesh, whatever mesh they followed before",
			s.adopt,
		),
		get("/doctor", "doctor", "What is wrong with the service, its records and its proxies, and what to do about it",
			func(c *echo.Context) (model.Examination, error) {
				ctx, stop := context.WithTimeout(c.Request().Context(), readyTime)
				defer stop()
				return s.control.Examine(ctx, c.Request().Host), nil
			}),
		send(
			http.MethodPost,
			"/services/:service/instances/:instance/let-back",
			"letBack",
			"Let a sidelined instance take requests again before its time",
			func(c *echo.Context, in model.LetBackRequest) (model.LetBackResult, error) {
				n, err := s.control.Fleet.LetBack(c.Param("service"), c.Param("instance"), in.By)
				return model.LetBackResult{Proxies: n}, err
			},
		),
		get("/activity", "activity", "What people did and what proxies reported, newest first", s.activity,
			append([]Param{
				{"service", "string", "only what concerns this service"},
				{"who", "string", "only what somebody did or reported whose name has this part"},
				{"about", "string", "only rules (and releases), drills (and trials), proxies or guards (and health)"},
			}, pageParams...)...),
		get("/drills", "drills", "Drills, newest first", s.drills, pageParams[1]),
		create(
			"/drills",
			"startDrill",
			"Start a drill: failures that are injected for a limited time, and end by themselves in every proxy",
			func(c *echo.Context, in model.DrillRequest) (model.Drill, error) {
				return s.control.Drills.Start(c.Request().Context(), in)
			},
		),
		remove(
			"/drills/:drill",
			"stopDrill",
			"Stop a drill before its time",
			func(c *echo.Context) (model.Drill, error) {
				return s.control.Drills.Stop(c.Request().Context(), c.Param("drill"), c.QueryParam("by"))
			},
			byParam,
		),
		get("/standins", "standIns", "The stand-ins of the sample mesh; none elsewhere",
			func(*echo.Context) (model.StandInList, error) {
				return model.StandInList{StandIns: s.standIns().List()}, nil
			}),
		send(
			http.MethodPut,
			"/standins/:standin",
			"changeStandIn",
			"Change how stand-ins behave: an instance, or all of SERVICE~VERSION",
			func(c *echo.Context, in model.StandInChange) (model.StandInList, error) {
				list, err := s.standIns().Change(c.Param("standin"), in)
				return model.StandInList{StandIns: list}, err
			},
		),
	}
}

func (s *Server) adopt(_ *echo.Context, in model.AdoptRequest) (model.AdoptResult, error) {
	told, err := s.control.Fleet.Adopt(in.Proxies)
	return model.AdoptResult{Proxies: append([]string{}, told...)}, err
}

func (s *Server) activity(c *echo.Context) (model.ActivityPage, error) {
	read := func(ctx context.Context, before uint, limit int) ([]model.ActivityEntry, error) {
		return s.control.Journal.List(ctx, model.ActivityFilter{
			Service: c.QueryParam("service"),
			Who:     c.QueryParam("who"),
			About:   c.QueryParam("about"),
			Before:  before,
			Limit:   limit,
		})
	}
	list, next, err := readPage(c, read, func(e *model.ActivityEntry) uint { return e.Number })
	return model.ActivityPage{Activity: list, Next: next}, err
}

func (s *Server) drills(c *echo.Context) (model.DrillList, error) {
	limit, err := number(c, "limit", 50, 1, 200)
	if err != nil {
		return model.DrillList{}, err
	}
	list, err := s.control.Drills.List(c.Request().Context(), limit)
	return model.DrillList{Drills: list}, err
}
