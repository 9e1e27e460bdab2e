package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"nightjar/api/model"
)

func effectQuery(q model.EffectQuery) string {
	v := url.Values{}
	for name, n := range map[string]int64{"revision": int64(q.Revision), "at": q.At, "window": q.Window} {
		if n > 0 {
			v.Set(name, fmt.Sprint(n))
		}
	}
	if q.Settle >= 0 {
		v.Set("settle", fmt.Sprint(q.Settle))
	}
	if q.Site != "" {
		v.Set("site", q.Site)
	}
	return v.Encode()
}

// Effects lists the effects of revisions below before (0: from the newest), newest
// first.
func (c *Client) Effects(ctx context.Context, before uint, limit int) (e model.EffectPage, err error) {
	return e, c.do(ctx, http.MethodGet, fmt.Sprintf("/effects?before=%d&limit=%d", before, limit), nil, &e)
}

// Effect returns what a change did.
func (c *Client) Effect(ctx context.Context, q model.EffectQuery) (e model.Effect, err error) {
	return e, c.do(ctx, http.MethodGet, "/effect?"+effectQuery(q), nil, &e)
}

// EffectReport writes the same as one HTML page.
func (c *Client) EffectReport(ctx context.Context, q model.EffectQuery, to io.Writer) error {
	return c.copy(ctx, http.MethodGet, "/effect/report?"+effectQuery(q), nil, to)
}

// copy writes a response as it is.
func (c *Client) copy(ctx context.Context, method, path string, in any, to io.Writer) error {
	resp, err := c.send(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(to, resp.Body)
	return err
}

// StartTrial starts a trial.
func (c *Client) StartTrial(ctx context.Context, ask model.TrialRequest) (t model.Trial, err error) {
	return t, c.do(ctx, http.MethodPost, "/trials", ask, &t)
}

// Trial is a trial as it is now; 0 is the newest.
func (c *Client) Trial(ctx context.Context, number uint) (t model.Trial, err error) {
	return t, c.do(ctx, http.MethodGet, fmt.Sprintf("/trials/%d", number), nil, &t)
}

// TrialReport writes the same as one HTML page.
func (c *Client) TrialReport(ctx context.Context, number uint, to io.Writer) error {
	return c.copy(ctx, http.MethodGet, fmt.Sprintf("/trials/%d/report", number), nil, to)
}

// StopTrial stops a trial before its time.
func (c *Client) StopTrial(ctx context.Context, number uint) (t model.Trial, err error) {
	return t, c.do(ctx, http.MethodDelete, fmt.Sprintf("/trials/%d", number), nil, &t)
}

// Trials lists trials below the number before (0: from the newest), newest first.
func (c *Client) Trials(ctx context.Context, before uint, limit int) (t model.TrialPage, err error) {
	return t, c.do(ctx, http.MethodGet, fmt.Sprintf("/trials?before=%d&limit=%d", before, limit), nil, &t)
}

// CompareTrials returns what changed from one trial to another.
func (c *Client) CompareTrials(ctx context.Context, before, after uint) (t model.TrialComparison, err error) {
	return t, c.do(ctx, http.MethodGet, fmt.Sprintf("/trials/%d/against/%d", before, after), nil, &t)
}

// TrialNames are the names of the trials in the rules in force.
func (c *Client) TrialNames(ctx context.Context) (names []string, err error) {
	var t model.TrialNames
	err = c.do(ctx, http.MethodGet, "/trials/names", nil, &t)
	return t.Names, err
}

// Forecast computes what would happen to requests.
func (c *Client) Forecast(ctx context.Context, ask model.ForecastRequest) (f model.Forecast, err error) {
	return f, c.do(ctx, http.MethodPost, "/forecasts", ask, &f)
}

// ForecastReport writes the same as one HTML page.
func (c *Client) ForecastReport(ctx context.Context, ask model.ForecastRequest, to io.Writer) error {
	return c.copy(ctx, http.MethodPost, "/forecasts/report", ask, to)
}
