package api

import (
	"bytes"
	"io"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/report"
)

// effectOperations tell what changes did, and what they would do.
func (s *Server) effectOperations() []Operation {
	params := []Param{
		{"revision", "integer", "what a revision did; the newest when neither this nor at is given"},
		{"at", "integer", "any time, in seconds since 1970"},
		{"window", "integer", "seconds on each side, at most; 300 when absent"},
		{"settle", "integer", "seconds left out after the change; 5 when absent"},
		{"site", "string", "only requests made or answered at this site"},
	}
	forecastReport := page(
		http.MethodPost,
		"/forecasts/report",
		"forecastReport",
		"The same as one HTML page with charts",
		s.forecastReport,
	)
	forecastReport.In = model.ForecastRequest{}
	effectReport := page(
		http.MethodGet,
		"/effect/report",
		"effectReport",
		"The same as one HTML page with charts",
		s.effectReport,
	)
	effectReport.Params = params
	return []Operation{
		get(
			"/effects",
			"effects",
			"What each revision did to the success of requests, newest first",
			s.effects,
			pageParams...).forTeams(),
		get(
			"/effect",
			"effect",
			"What a change did: every caller, service, route, version and link before and after",
			s.effect,
			params...).forTeams(),
		effectReport,
		send(
			http.MethodPost,
			"/forecasts",
			"forecast",
			"Compute what would happen to requests under the rules in force and under a draft",
			func(c *echo.Context, in model.ForecastRequest) (model.Forecast, error) {
				if err := s.mayForecast(c, &in); err != nil {
					return model.Forecast{}, err
				}
				f, err := s.control.Forecasts.Forecast(c.Request().Context(), in)
				return forecastFor(f, s.scopeOf(c)), err
			},
		).needing(people.Viewer).forTeams(),
		forecastReport,
	}
}

// page is an operation that answers an HTML page.
func page(method, path, id, summary string, handle echo.HandlerFunc) Operation {
	return Operation{
		Method:  method,
		Path:    path,
		ID:      id,
		Summary: summary,
		Media:   "text/html",
		Status:  http.StatusOK,
		Needs:   people.Viewer,
		handle:  handle,
	}
}

// html writes the page of a report.
func html(c *echo.Context, write func(io.Writer) error) error {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return err
	}
	c.Response().
		Header().
		Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	return c.HTMLBlob(http.StatusOK, b.Bytes())
}

func (s *Server) effects(c *echo.Context) (model.EffectPage, error) {
	list, next, err := readPage(c, s.control.Effects.List, func(e *model.EffectSummary) uint { return e.Revision })
	if s.scopeOf(c).IsLimited() { // what is worst may be of others
		for i := range list {
			e := &list[i]
			author, message := saidBy(whoOf(c), e.Author, e.Message)
			list[i] = model.EffectSummary{
				Revision: e.Revision, At: e.At, Kind: e.Kind, Author: author, Message: message, IsComplete: e.IsComplete, Due: e.Due,
			}
		}
	}
	return model.EffectPage{Effects: list, Next: next}, err
}

func (s *Server) effect(c *echo.Context) (model.Effect, error) {
	q := model.EffectQuery{Site: c.QueryParam("site")}
	for _, p := range []struct {
		name         string
		absent, high int
		into         func(int)
	}{
		{"revision", 0, 1 << 31, func(n int) { q.Revision = uint(n) }},
		{"at", 0, 1 << 40, func(n int) { q.At = int64(n) }},
		{"window", 0, 24 * 3600, func(n int) { q.Window = int64(n) }},
		{"settle", -1, 3600, func(n int) { q.Settle = int64(n) }},
	} {
		n, err := number(c, p.name, p.absent, 0, p.high)
		if err != nil {
			return model.Effect{}, err
		}
		p.into(n)
	}
	if q.Revision > 0 && q.At > 0 {
		return model.Effect{}, failed(
			http.StatusBadRequest,
			"query",
			"revision and at cannot be combined: name one of them",
		)
	}
	e, err := s.control.Effects.Effect(c.Request().Context(), q)
	if sc := s.scopeOf(c); sc.IsLimited() {
		e.Rows, e.Notes = rowsFor(e.Rows, sc), []string{}
		e.Author, e.Message = saidBy(whoOf(c), e.Author, e.Message)
	}
	return e, err
}

func (s *Server) effectReport(c *echo.Context) error {
	e, err := s.effect(c)
	if err != nil {
		return err
	}
	var t model.Timeline
	if e.Before.From < e.After.To {
		q := model.TimelineQuery{From: e.Before.From, To: max(e.After.To, e.At.Unix()+1), Site: e.Site}
		if t, err = s.control.Views.Timeline(c.Request().Context(), q); err != nil {
			return err
		}
	}
	return html(c, func(w io.Writer) error { return report.Effect(w, &e, &t, time.Now()) })
}

func (s *Server) forecastReport(c *echo.Context) error {
	var in model.ForecastRequest
	if err := body(c, &in); err != nil {
		return err
	}
	f, err := s.control.Forecasts.Forecast(c.Request().Context(), in)
	if err != nil {
		return err
	}
	return html(c, func(w io.Writer) error { return report.Forecast(w, &f, time.Now()) })
}
