package api

import (
	"io"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/report"
)

// trialOperations are about trials.
func (s *Server) trialOperations() []Operation {
	return []Operation{
		get("/trials", "trials", "Trials, newest first", s.trials, pageParams...).forTeams(),
		get("/trials/names", "trialNames", "The trials in the rules in force",
			func(*echo.Context) (model.TrialNames, error) { return s.control.Trials.Names(), nil }).forTeams(),
		create(
			"/trials",
			"startTrial",
			"Start a trial, with the rules in force or with a draft that only its requests follow",
			func(c *echo.Context, in model.TrialRequest) (model.Trial, error) {
				if err := s.mayTry(c, &in); err != nil {
					return model.Trial{}, err
				}
				return s.control.Trials.Start(c.Request().Context(), in)
			},
		).forTeams(),
		get("/trials/:trial", "trial", "A trial as it is now; 0 is the newest", s.trial).forTeams(),
		remove(
			"/trials/:trial",
			"stopTrial",
			"Stop a trial before its time; what it measured is kept",
			s.stopTrial,
		).forTeams(),
		page(
			http.MethodGet,
			"/trials/:trial/report",
			"trialReport",
			"A trial as one HTML page with charts",
			s.trialReport,
		).forTeams(),
		get(
			"/trials/:trial/against/:other",
			"compareTrials",
			"What changed from one trial to another, as an effect",
			s.compareTrials,
		),
	}
}

func (s *Server) trials(c *echo.Context) (model.TrialPage, error) {
	list, next, err := readPage(c, s.control.Trials.List, func(e *model.Trial) uint { return e.Number })
	return model.TrialPage{Trials: keep(list, startedBy(whoOf(c), s.scopeOf(c))), Next: next}, err
}

func (s *Server) trial(c *echo.Context) (model.Trial, error) {
	n, err := pathNumber(c, "trial", "trial")
	if err != nil {
		return model.Trial{}, err
	}
	t, err := s.control.Trials.Get(c.Request().Context(), n)
	if err == nil && !startedBy(whoOf(c), s.scopeOf(c))(&t) {
		return model.Trial{}, s.notTheirs(c, "this trial")
	}
	return t, err
}

func (s *Server) stopTrial(c *echo.Context) (model.Trial, error) {
	n, err := pathNumber(c, "trial", "trial")
	if err != nil {
		return model.Trial{}, err
	}
	if _, err := s.trial(c); err != nil {
		return model.Trial{}, err
	}
	return s.control.Trials.Stop(c.Request().Context(), n)
}

func (s *Server) compareTrials(c *echo.Context) (model.TrialComparison, error) {
	before, err := pathNumber(c, "trial", "trial")
	if err != nil {
		return model.TrialComparison{}, err
	}
	after, err := pathNumber(c, "other", "trial")
	if err != nil {
		return model.TrialComparison{}, err
	}
	return s.control.Trials.Compare(c.Request().Context(), before, after)
}

func (s *Server) trialReport(c *echo.Context) error {
	t, err := s.trial(c)
	if err != nil {
		return err
	}
	return html(c, func(w io.Writer) error { return report.Trial(w, &t, time.Now()) })
}
