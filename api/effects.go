package api

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/control"
	"nightjar/report"
	"nightjar/store"
)

var effectParams = []param{{"revision", "integer", "what a revision did; the newest when neither this nor at is given"}, {"at", "integer", "any moment, in seconds since 1970"},
	{"window", "integer", "seconds on each side, at most; 300 when absent"}, {"settle", "integer", "seconds left out after the change; 5 when absent"}}

// effects are the operations that tell what changes do, or would do.
func (s *Server) effects() []operation {
	return []operation{
		{method: "GET", path: "/effects", id: "effects", summary: "What each revision did to the success of requests, newest first", out: dto.Effects{},
			query: []param{{"before", "integer", "only revisions below this number"}, {"limit", "integer", "1 to 200; 50 when absent"}}, handle: s.effectHeads},
		{method: "GET", path: "/effect", id: "effect", summary: "What a change did: every caller, service, route, version and link before and after", out: control.Effect{}, query: effectParams, handle: s.effect},
		{method: "GET", path: "/effect/report", id: "effectReport", summary: "The same as one HTML page with charts", media: "text/html", query: effectParams, handle: s.effectReport},
		{method: "GET", path: "/trials", id: "trials", summary: "Trials that run or ran, newest first", out: dto.Trials{},
			query: []param{{"before", "integer", "only trials below this number"}, {"limit", "integer", "1 to 200; 50 when absent"}}, handle: s.trials},
		{method: "GET", path: "/trials/names", id: "trialNames", summary: "The trials in the rules in force", out: dto.TrialNames{}, handle: s.trialNames},
		{method: "POST", path: "/trials", id: "startTrial", summary: "Begin a trial, by the rules in force or by a draft that only its requests follow", in: control.TrialAsk{}, out: control.Trial{}, handle: s.startTrial},
		{method: "GET", path: "/trials/:trial", id: "trial", summary: "A trial as it is now; 0 is the newest", out: control.Trial{}, handle: s.trial},
		{method: "DELETE", path: "/trials/:trial", id: "stopTrial", summary: "End a trial before its time; what it measured is kept", query: []param{{"by", "string", "who ends it"}}, out: control.Trial{}, handle: s.stopTrial},
		{method: "GET", path: "/trials/:trial/report", id: "trialReport", summary: "A trial as one HTML page with charts", media: "text/html", handle: s.trialReport},
		{method: "POST", path: "/forecasts", id: "forecast", summary: "Compute what requests would come to, by the rules in force and by a draft", in: control.ForecastAsk{}, out: control.Forecast{}, handle: s.forecast},
		{method: "POST", path: "/forecasts/report", id: "forecastReport", summary: "The same as one HTML page with charts", in: control.ForecastAsk{}, media: "text/html", handle: s.forecastReport},
		{method: "GET", path: "/trials/:trial/against/:other", id: "compareTrials", summary: "What changed from one trial to another, as an effect", out: control.TrialComparison{}, handle: s.compareTrials},
	}
}

func (s *Server) effectHeads(c *echo.Context) error {
	before, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	list, err := s.control.Effects(c.Request().Context(), before, limit)
	if err != nil {
		return err
	}
	out := dto.Effects{Effects: list}
	if len(list) == limit && list[limit-1].Revision > 1 {
		out.Next = list[limit-1].Revision
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) effectOf(c *echo.Context) (control.Effect, error) {
	var q control.EffectAsk
	for _, p := range []struct {
		name           string
		fallback, high int
		into           func(int)
	}{
		{"revision", 0, 1 << 31, func(n int) { q.Revision = uint(n) }}, {"at", 0, 1 << 40, func(n int) { q.At = int64(n) }},
		{"window", 0, 24 * 3600, func(n int) { q.Window = int64(n) }}, {"settle", -1, 3600, func(n int) { q.Settle = int64(n) }},
	} {
		n, err := number(c, p.name, p.fallback, 0, p.high)
		if err != nil {
			return control.Effect{}, err
		}
		p.into(n)
	}
	if q.Revision > 0 && q.At > 0 {
		return control.Effect{}, problem(http.StatusBadRequest, "query", "revision and at do not go together: name one")
	}
	e, err := s.control.Effect(c.Request().Context(), q)
	if errors.Is(err, store.ErrNotFound) && q.Revision == 0 {
		return e, problem(http.StatusNotFound, "not-found", "nothing was published yet: an effect needs a revision, or a moment (at)")
	}
	return e, err
}

func (s *Server) effect(c *echo.Context) error {
	e, err := s.effectOf(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, e)
}

func trialNumber(c *echo.Context, name string) (uint, error) {
	n, err := strconv.ParseUint(c.Param(name), 10, 32)
	if err != nil {
		return 0, problem(http.StatusBadRequest, "path", "%q is not the number of a trial", c.Param(name))
	}
	return uint(n), nil
}

// noTrial says that a trial is not there.
func noTrial(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return problem(http.StatusNotFound, "not-found", "there is no such trial: trial list lists them")
	}
	return err
}

func (s *Server) trials(c *echo.Context) error {
	before, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	list, err := s.control.Trials(c.Request().Context(), before, limit)
	if err != nil {
		return err
	}
	out := dto.Trials{Trials: list}
	if len(list) == limit && list[limit-1].Number > 1 {
		out.Next = list[limit-1].Number
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) trialNames(c *echo.Context) error {
	out := dto.TrialNames{Names: []string{}}
	for _, t := range s.control.InForce().Rules.Trials {
		out.Names = append(out.Names, t.Name)
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) startTrial(c *echo.Context) error {
	var in control.TrialAsk
	if err := body(c, &in); err != nil {
		return err
	}
	t, err := s.control.StartTrial(c.Request().Context(), in)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, t)
}

func (s *Server) trialOf(c *echo.Context) (control.Trial, error) {
	n, err := trialNumber(c, "trial")
	if err != nil {
		return control.Trial{}, err
	}
	t, err := s.control.Trial(c.Request().Context(), n)
	return t, noTrial(err)
}

func (s *Server) trial(c *echo.Context) error {
	t, err := s.trialOf(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, t)
}

func (s *Server) stopTrial(c *echo.Context) error {
	n, err := trialNumber(c, "trial")
	if err != nil {
		return err
	}
	t, err := s.control.StopTrial(c.Request().Context(), n, c.QueryParam("by"))
	if err != nil {
		return noTrial(err)
	}
	return c.JSON(http.StatusOK, t)
}

func (s *Server) compareTrials(c *echo.Context) error {
	before, err := trialNumber(c, "trial")
	if err != nil {
		return err
	}
	after, err := trialNumber(c, "other")
	if err != nil {
		return err
	}
	out, err := s.control.CompareTrials(c.Request().Context(), before, after)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// html writes a page of a report.
func html(c *echo.Context, write func(io.Writer) error) error {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	return c.HTMLBlob(http.StatusOK, b.Bytes())
}

func (s *Server) effectReport(c *echo.Context) error {
	e, err := s.effectOf(c)
	if err != nil {
		return err
	}
	var t control.Timeline
	if e.Before.From < e.After.To {
		if t, err = s.control.Timeline(c.Request().Context(), control.TimelineAsk{From: e.Before.From, To: max(e.After.To, e.At.Unix()+1)}); err != nil {
			return err
		}
	}
	return html(c, func(w io.Writer) error { return report.Effect(w, &e, &t, time.Now()) })
}

func (s *Server) trialReport(c *echo.Context) error {
	t, err := s.trialOf(c)
	if err != nil {
		return err
	}
	return html(c, func(w io.Writer) error { return report.Trial(w, &t, time.Now()) })
}

func (s *Server) forecastOf(c *echo.Context) (control.Forecast, error) {
	var in control.ForecastAsk
	if err := body(c, &in); err != nil {
		return control.Forecast{}, err
	}
	return s.control.Forecast(c.Request().Context(), in)
}

func (s *Server) forecast(c *echo.Context) error {
	f, err := s.forecastOf(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, f)
}

func (s *Server) forecastReport(c *echo.Context) error {
	f, err := s.forecastOf(c)
	if err != nil {
		return err
	}
	return html(c, func(w io.Writer) error { return report.Forecast(w, &f, time.Now()) })
}
