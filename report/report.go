// Package report writes effects, trials and forecasts as one HTML page each, with
// charts and without anything that a browser would have to fetch.
package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"time"

	"gonum.org/v1/plot/plotter"

	"nightjar/api/model"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"percent": func(f *float64) string { return shown(f, 100, "%.2f%%") },
	"points":  func(f *float64) string { return shown(f, 100, "%+.2f") },
	"ms":      func(f *float64) string { return shown(f, 1, "%.1f ms") },
	"plusMS":  func(f *float64) string { return shown(f, 1, "%+.1f ms") },
	"times":   func(f *float64) string { return shown(f, 1, "%.3f") },
	"share":   func(f float64) string { return fmt.Sprintf("%.1f%%", 100*f) },
	"num":     func(f float64) string { return fmt.Sprintf("%.1f", f) },
	"local":   func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") },
}).Parse(pageText))

func shown(f *float64, by float64, format string) string {
	if f == nil {
		return "–"
	}
	return fmt.Sprintf(format, *f*by)
}

// sheet is what a page shows.
type sheet struct {
	Title   string
	Lead    []string
	Notes   []string
	Charts  []template.HTML
	Before  string // names of the sides
	After   string
	Rows    []model.EffectRow
	Trial   *model.Trial
	Made    time.Time
	Assumed []string

	Expected []model.ExpectationResult // of a forecast
}

func (s *sheet) write(w io.Writer, charts ...chart) error {
	for i := range charts {
		drawn, err := charts[i].svg()
		if err != nil {
			return fmt.Errorf("a chart could not be drawn: %w", err)
		}
		s.Charts = append(s.Charts, drawn)
	}
	return page.Execute(w, s)
}

// Effect writes an effect, with the figures of the whole mesh over time.
func Effect(w io.Writer, e *model.Effect, t *model.Timeline, now time.Time) error {
	s := &sheet{
		Title:  "Effect of " + e.Name(),
		Notes:  e.Notes,
		Before: "before",
		After:  "after",
		Rows:   e.Rows,
		Made:   now,
	}
	if e.Message != "" {
		s.Lead = append(
			s.Lead,
			fmt.Sprintf("“%s”, by %s, %s.", e.Message, e.Author, e.At.Format("2006-01-02 15:04:05 UTC")),
		)
	}
	s.Lead = append(s.Lead, e.Windows())
	if whole := e.Whole(); whole != nil {
		s.Lead = append(s.Lead, fmt.Sprintf("Success of all %s: %s.", e.Of(), whole.Verdict))
	}
	zero := e.At.Unix()
	at := func(p model.Point) float64 { return float64(p.At-zero) + float64(t.Step)/2 }
	success := chart{title: "Success of all requests", y: "%", ticks: sinceTicks{}, lines: []line{{name: "success"}}}
	latency := chart{
		title: "Latency of all requests",
		y:     "ms",
		ticks: sinceTicks{},
		lines: []line{{name: "p50"}, {name: "p95"}, {name: "p99"}},
	}
	for _, p := range t.Points {
		ok, values := math.NaN(), []float64{math.NaN(), math.NaN(), math.NaN()}
		if p.Success != nil {
			ok, values = 100**p.Success, []float64{p.P50MS, p.P95MS, p.P99MS}
		}
		success.lines[0].points = append(success.lines[0].points, plotter.XY{X: at(p), Y: ok})
		for i, v := range values {
			latency.lines[i].points = append(latency.lines[i].points, plotter.XY{X: at(p), Y: v})
		}
	}
	for _, c := range []*chart{&success, &latency} {
		c.bands = [][2]float64{
			{float64(e.Before.From - zero), float64(e.Before.To - zero)},
			{float64(e.After.From - zero), float64(e.After.To - zero)},
		}
		for _, m := range t.Marks {
			name := "r" + m.Name
			if m.Kind == model.MarkDrill {
				name = m.Name
			}
			c.marks = append(c.marks, mark{float64(m.At - zero), name})
		}
	}
	return s.write(w, success, latency)
}

// Trial writes a trial.
func Trial(w io.Writer, t *model.Trial, now time.Time) error {
	s := &sheet{Title: fmt.Sprintf("Trial %d: %s", t.Number, t.Name), Notes: t.Notes, Trial: t, Made: now}
	s.Lead = append(
		s.Lead,
		fmt.Sprintf(
			"%s. Started by %s, %s; measured for %.0f s.",
			t.State,
			t.By,
			t.Began.Format("2006-01-02 15:04:05 UTC"),
			t.Seconds,
		),
	)
	if t.Why != "" {
		s.Lead = append(s.Lead, "It ended early: "+t.Why+".")
	}
	if t.Pace.Bottleneck != "" {
		s.Notes = append([]string{"Load generator: " + t.Pace.Bottleneck + "."}, s.Notes...)
	}
	rate := chart{
		title: "Requests per second",
		x:     "seconds",
		lines: []line{{name: "all"}, {name: "without success"}},
		low:   0,
		high:  1,
	}
	latency := chart{
		title: "Latency over time",
		x:     "seconds",
		y:     "ms",
		lines: []line{{name: "p50"}, {name: "p95"}, {name: "p99"}},
	}
	for _, p := range t.Points {
		x := float64(p.At) + 0.5
		rate.lines[0].points = append(rate.lines[0].points, plotter.XY{X: x, Y: float64(p.OK + p.Failed + p.Refused)})
		rate.lines[1].points = append(rate.lines[1].points, plotter.XY{X: x, Y: float64(p.Failed + p.Refused)})
		for i, v := range []float64{p.P50MS, p.P95MS, p.P99MS} {
			if p.Success == nil {
				v = math.NaN()
			}
			latency.lines[i].points = append(latency.lines[i].points, plotter.XY{X: x, Y: v})
		}
	}
	curve := chart{
		title: "Latency by share of the requests",
		x:     "share of the requests, %",
		y:     "ms",
		lines: []line{{name: "latency"}},
	}
	for _, p := range t.Curve {
		curve.lines[0].points = append(curve.lines[0].points, plotter.XY{X: 100 * p.Share, Y: p.MS})
	}
	return s.write(w, rate, latency, curve)
}

// Forecast writes a forecast.
func Forecast(w io.Writer, f *model.Forecast, now time.Time) error {
	s := &sheet{
		Title:    "Forecast: " + f.Before + " and " + f.After,
		Notes:    f.Calibration,
		Before:   f.Before,
		After:    f.After,
		Rows:     f.Rows,
		Made:     now,
		Assumed:  f.Assumptions,
		Expected: f.Expected,
	}
	s.Lead = append(
		s.Lead,
		fmt.Sprintf(
			"%d requests entered the simulated mesh on each side, in %.0f s of simulated time; seed %d.",
			f.Requests,
			f.Simulated,
			f.Seed,
		),
	)
	for _, c := range f.Draft {
		s.Lead = append(s.Lead, fmt.Sprintf("Draft: %s %s %s → %s", c.Kind(), c.Path, c.Before, c.After))
	}
	for _, b := range f.RefusalStart {
		s.Lead = append(s.Lead, b.Words())
	}
	if len(f.Sweep) == 0 {
		return s.write(w)
	}
	refused := chart{
		title: "Refused by guards and limits",
		x:     "requests per second that enter the mesh",
		y:     "%",
		lines: []line{{name: f.Before}, {name: f.After}},
	}
	success := chart{
		title: "Success of requests that enter the mesh",
		x:     "requests per second that enter the mesh",
		y:     "%",
		lines: []line{{name: f.Before}, {name: f.After}},
	}
	p95 := chart{
		title: "Latency of requests that enter the mesh",
		x:     "requests per second that enter the mesh",
		y:     "p95, ms",
		lines: []line{{name: f.Before}, {name: f.After}},
	}
	charts := []*chart{&refused, &success, &p95}
	for _, p := range f.Sweep {
		for i, side := range []model.SweepSide{p.Before, p.After} {
			for n, y := range []float64{100 * side.Refused, 100 * side.Success, side.P95MS} {
				charts[n].lines[i].points = append(charts[n].lines[i].points, plotter.XY{X: p.RPS, Y: y})
			}
		}
	}
	if len(f.RefusalStart) == 1 { // one set of rules
		for _, c := range charts {
			c.lines = c.lines[:1]
		}
	}
	return s.write(w, refused, success, p95)
}
