package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/core/rules"
)

func (a *app) forecast() *cobra.Command {
	var q model.ForecastRequest
	var rows rowFlags
	var behaviour string
	var file, split []string
	cmd := &cobra.Command{
		Use:   "forecast [" + filesWords + "]",
		Short: "Compute what would happen to requests, before a draft is published",
		Long: `Simulate the mesh with the code of the proxies, and with the rates and the behaviour
measured in the last minutes: under the rules in force and under a draft, side by side.
Without a draft, the forecast for the rules in force is compared with what was measured,
which shows how far it can be trusted. With --sweep, also at other rates. Exit code 1: an
expectation is not met; or, without any, the success of a caller or a service drops by
more than one point.`,
		Example: `  nightjar forecast examples/ferry --trial morning-rush --sweep
  nightjar forecast --split sailings/timetable:v1=50,v2=50 --expect 'p95 <= 100ms'`,
		Annotations: map[string]string{moreFormats: "html"},
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if q.Rules, err = readFiles(cmd, args); err != nil {
				return err
			}
			if q.File, err = readFiles(cmd, file); err != nil {
				return err
			}
			if behaviour != "" {
				b, err := os.ReadFile(behaviour)
				if err != nil {
					return usage{err}
				}
				q.Behaviour = string(b)
			}
			if q.Split, err = splitFlag(split); err != nil {
				return err
			}
			if err := rows.check(); err != nil {
				return err
			}
			return a.showForecast(cmd, q, &rows)
		},
	}
	rows.add(cmd)
	f := cmd.Flags()
	f.StringVar(&q.Bundle, "bundle", model.MainBundle, "bundle that the draft replaces")
	f.StringArrayVar(&split, "split", nil,
		"instead of a draft: other weights, as SERVICE:v1=50,v2=50 or SERVICE/ROUTE:v1=50,v2=50")
	f.StringVar(&q.Trial, "trial", "", "a trial whose load is added, and whose expectations are checked")
	f.StringArrayVar(&file, "file", nil, "file or directory with the trial")
	f.BoolVar(&q.Alone, "alone", false, "only the load of the trial, without the requests that enter the mesh now")
	f.StringArrayVar(&q.Expect, "expect", nil, "an expectation, such as 'success >= 98.5%'; can be repeated")
	f.Int64Var(&q.Window, "window", 300, "seconds of measurements to use, at most 840")
	f.Uint64Var(&q.Requests, "requests", 50_000, "requests that enter the mesh on each side")
	f.Uint64Var(&q.Seed, "seed", 1, "seed of the random numbers")
	f.StringVar(&behaviour, "behaviour", "", "file with the behaviour of versions, instead of what was measured")
	f.Float64Var(&q.Rate, "rate", 1, "traffic multiplier")
	f.BoolVar(&q.Sweep, "sweep", false, "also at other rates, to find where requests are refused")
	f.StringArrayVar(&q.Down, "down", nil, "simulate an outage of a site, SERVICE or SERVICE/VERSION")
	cmd.RegisterFlagCompletionFunc("trial", a.trialNames)
	return cmd
}

// showForecast computes a forecast and prints it.
func (a *app) showForecast(cmd *cobra.Command, q model.ForecastRequest, rows *rowFlags) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	if a.format == "html" {
		return a.rejectedOr(cmd, c.ForecastReport(cmd.Context(), q, out.Exact(cmd.OutOrStdout())))
	}
	f, err := c.Forecast(cmd.Context(), q)
	if err != nil {
		return a.rejected(cmd, err)
	}
	shown := f
	shown.Rows = rows.take(f.Rows)
	if err := a.printer(cmd).Show(shown, func(s *out.Sheet) { forecastSheet(s, &f, rows) }); err != nil {
		return err
	}
	missed := slices.ContainsFunc(f.Expected, func(j model.ExpectationResult) bool { return !j.IsMet })
	if missed || len(f.Expected) == 0 && len(f.Draft) > 0 && f.Worse != "" {
		return finding
	}
	return nil
}

// rejectedOr prints the mistakes of rules that were rejected.
func (a *app) rejectedOr(cmd *cobra.Command, err error) error {
	if err == nil {
		return nil
	}
	return a.rejected(cmd, err)
}

// splitFlag reads SERVICE/ROUTE:v1=50,v2=50.
func splitFlag(list []string) (*model.SplitChange, error) {
	if len(list) == 0 {
		return nil, nil
	}
	of, weights, ok := strings.Cut(list[0], ":")
	service, route, _ := strings.Cut(of, "/")
	if !ok || len(list) > 1 {
		return nil, usagef("--split %s: expected it once, as SERVICE:v1=50,v2=50", strings.Join(list, " "))
	}
	out := &model.SplitChange{Service: service, Route: route}
	for _, w := range strings.Split(weights, ",") {
		to, share, ok := strings.Cut(w, "=")
		if !ok {
			return nil, usagef("--split: %q is not VERSION=WEIGHT", w)
		}
		p, err := rules.ParsePercent(strings.TrimSuffix(share, "%") + "%")
		if err != nil {
			return nil, usagef("--split: %q is not a weight", share)
		}
		out.Weights = append(out.Weights, model.Weight{Target: to, Weight: p.String()})
	}
	return out, nil
}

func forecastSheet(s *out.Sheet, f *model.Forecast, rows *rowFlags) {
	if f.After == model.SideDraft {
		s.Line("Revision %d, which is in force, and the draft (%s):", f.Revision, count(len(f.Draft), "change"))
		printChanges(s, f.Draft, "IN FORCE", "DRAFT")
	} else {
		s.Line("What was measured, and the forecast for the same rules (revision %d):", f.Revision)
	}
	s.Line(
		"%d requests entered the mesh on each side, in %.0f s of simulated time; computed in %s; seed %d.",
		f.Requests,
		f.Simulated,
		out.Millis(f.TookMS),
		f.Seed,
	)
	for _, c := range f.Calibration {
		s.Line("  · %s", c)
	}
	s.Line("")
	forecastExpectations(s, f)
	rows.sheet(s, f.Rows, f.Before, f.After)
	sweepSheet(s, f)
	if f.Worse != "" && f.After == model.SideDraft {
		s.Line("! Worse by more than one point: %s.", f.Worse)
	}
	if s.Wide {
		behaviourSheet(s, f)
	}
	s.Line("\nAssumptions:")
	for _, t := range f.Assumptions {
		s.Line("  · %s", t)
	}
}

// forecastExpectations prints the expectations with their results.
func forecastExpectations(s *out.Sheet, f *model.Forecast) {
	if len(f.Expected) == 0 {
		return
	}
	var table [][]string
	for i, j := range f.Expected {
		verdict := "met"
		if !j.IsMet {
			verdict = "! missed"
		}
		line := []string{j.Expectation, verdict, j.Measured}
		if len(f.Now) > i {
			line = append(line, f.Now[i].Measured)
		}
		table = append(table, line)
	}
	header := []string{"EXPECTATION", "RESULT", strings.ToUpper(f.After)}
	if len(f.Now) > 0 {
		header = append(header, "IN FORCE")
	}
	s.Table(header, table)
	s.Line("")
}

// sweepSheet prints the results at other rates.
func sweepSheet(s *out.Sheet, f *model.Forecast) {
	if len(f.Sweep) == 0 {
		return
	}
	s.Line("")
	var table [][]string
	one := len(f.RefusalStart) == 1
	cells := func(p *model.SweepSide) []string {
		return []string{
			out.Percent(p.Success), out.Percent(p.Refused), out.MS(p.P95MS),
			fmt.Sprintf("%.2f", p.AttemptsPerRequest), refusedBar(p.Refused),
		}
	}
	for _, p := range f.Sweep {
		line := append([]string{fmt.Sprintf("%.0f", p.RPS)}, cells(&p.Before)...)
		if !one {
			line = append(line, cells(&p.After)...)
		}
		table = append(table, line)
	}
	header := []string{"REQ/S>", "SUCCESS>", "REFUSED>", "P95 (ms)>", "ATTEMPTS/REQ>", ""}
	if !one {
		s.Line("With the rules in force, then with the draft:")
		header = append(header, "DRAFT SUCCESS>", "DRAFT REFUSED>", "DRAFT P95 (ms)>", "DRAFT ATTEMPTS/REQ>", "")
	}
	s.Table(header, table)
	for _, b := range f.RefusalStart {
		s.Line("%s", b.Words())
	}
}

// behaviourSheet prints what the forecast assumes of each version.
func behaviourSheet(s *out.Sheet, f *model.Forecast) {
	s.Line("")
	var table [][]string
	for _, t := range f.Behaviour {
		table = append(
			table,
			[]string{
				t.Target,
				fmt.Sprint(t.Requests),
				out.MS(t.P50MS),
				out.MS(t.P95MS),
				out.MS(t.HopMS),
				out.Percent(t.Errors),
				t.Calls,
			},
		)
	}
	s.Table([]string{
		"VERSION", "MEASURED REQUESTS>", "OWN P50 (ms)>", "OWN P95 (ms)>", "HOP (ms)>", "ERRORS>",
		"CALLS PER REQUEST",
	}, table)
}

// refusedBar draws a share as a bar.
func refusedBar(share float64) string {
	if share == 0 {
		return ""
	}
	return strings.Repeat("▪", max(1, int(20*share+0.5)))
}
