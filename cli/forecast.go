package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/control"
	"nightjar/core/rules"
	"nightjar/core/trial"
)

func (a *app) forecast() *cobra.Command {
	var ask control.ForecastAsk
	var rows rowFlags
	var behaviour string
	var file, split []string
	cmd := &cobra.Command{
		Use:   "forecast [" + filesWords + "]",
		Short: "Compute what requests would come to, before a draft is published",
		Long: `Simulate the mesh on the proxies' own code: with the rates and the behaviour that
were measured in the last minutes, by the rules in force and by a draft side by side.
Without a draft the rules in force are simulated and compared with what was measured,
which shows how far the forecast can be trusted. With --sweep also at other rates.
Exit code 1: an expectation is not met, or, without any, the success of a caller or
of a service becomes worse by more than one point.`,
		Example: `  nightjar forecast examples/ferry --trial morning-rush --sweep
  nightjar forecast --split sailings/timetable:v1=50,v2=50 --expect 'p95 <= 100ms'`,
		Annotations: map[string]string{moreFormats: "html"},
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if ask.Rules, err = readFiles(cmd, args); err != nil {
				return err
			}
			if ask.File, err = readFiles(cmd, file); err != nil {
				return err
			}
			if behaviour != "" {
				b, err := os.ReadFile(behaviour)
				if err != nil {
					return usage{err}
				}
				ask.Behaviour = string(b)
			}
			if ask.Split, err = splitFlag(split); err != nil {
				return err
			}
			if err := rows.check(); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if a.format == "html" {
				return a.mistakenOr(cmd, c.ForecastReport(cmd.Context(), ask, cmd.OutOrStdout()))
			}
			f, err := c.Forecast(cmd.Context(), ask)
			if err != nil {
				return a.mistaken(cmd, err)
			}
			shown := f
			shown.Rows = rows.take(f.Rows)
			if err := a.printer(cmd).Show(shown, func(s *out.Sheet) { forecastSheet(s, &f, &rows) }); err != nil {
				return err
			}
			missed := slices.ContainsFunc(f.Expected, func(j trial.Judgement) bool { return !j.Met })
			if missed || len(f.Expected) == 0 && len(f.Draft) > 0 && f.Worse != "" {
				return finding
			}
			return nil
		},
	}
	rows.add(cmd)
	f := cmd.Flags()
	f.StringVar(&ask.Bundle, "bundle", control.MainBundle, "bundle that the draft replaces")
	f.StringArrayVar(&split, "split", nil, "in place of a draft: other weights, as SERVICE:v1=50,v2=50 or SERVICE/ROUTE:v1=50,v2=50")
	f.StringVar(&ask.Trial, "trial", "", "a trial whose load comes besides, and whose expectations are judged")
	f.StringArrayVar(&file, "file", nil, "file or directory that holds the trial")
	f.BoolVar(&ask.Alone, "alone", false, "the trial's load alone, without what comes into the mesh now")
	f.StringArrayVar(&ask.Expect, "expect", nil, "an expectation, such as 'success >= 98.5%'; may come several times")
	f.Int64Var(&ask.Window, "window", control.EffectWindow, "seconds whose measurements are taken, at most 840")
	f.Uint64Var(&ask.Requests, "requests", 50_000, "requests that come into the mesh on each side")
	f.Uint64Var(&ask.Seed, "seed", 1, "of all that is left to chance")
	f.StringVar(&behaviour, "behaviour", "", "file that says how versions behave, in place of what was measured")
	f.Float64Var(&ask.Rate, "rate", 1, "multiple of today's rates")
	f.BoolVar(&ask.Sweep, "sweep", false, "also at other rates: where does it begin to refuse?")
	f.StringArrayVar(&ask.Down, "down", nil, "a site, SERVICE or SERVICE/VERSION of which nobody answers")
	cmd.RegisterFlagCompletionFunc("trial", func(cmd *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
		return a.trialNames(cmd, nil, word)
	})
	return cmd
}

// mistakenOr prints mistakes if that is what went wrong.
func (a *app) mistakenOr(cmd *cobra.Command, err error) error {
	if err == nil {
		return nil
	}
	return a.mistaken(cmd, err)
}

// splitFlag reads SERVICE/ROUTE:v1=50,v2=50.
func splitFlag(list []string) (*control.SplitAsk, error) {
	if len(list) == 0 {
		return nil, nil
	}
	of, weights, ok := strings.Cut(list[0], ":")
	service, route, _ := strings.Cut(of, "/")
	if !ok || len(list) > 1 {
		return nil, usagef("--split %s: expected it once, as SERVICE:v1=50,v2=50", strings.Join(list, " "))
	}
	out := &control.SplitAsk{Service: service, Route: route}
	for _, w := range strings.Split(weights, ",") {
		to, share, ok := strings.Cut(w, "=")
		if !ok {
			return nil, usagef("--split: %q is not VERSION=WEIGHT", w)
		}
		p, err := rules.ParsePercent(strings.TrimSuffix(share, "%") + "%")
		if err != nil {
			return nil, usagef("--split: %q is not a weight", share)
		}
		out.Weights = append(out.Weights, control.Weight{Target: to, Weight: p.String()})
	}
	return out, nil
}

func forecastSheet(s *out.Sheet, f *control.Forecast, rows *rowFlags) {
	if f.After == control.DraftSide {
		s.Line("Revision %d, which is in force, and the draft (%s):", f.Revision, count(len(f.Draft), "change"))
		printChanges(s, f.Draft, "IN FORCE", "DRAFT")
	} else {
		s.Line("What was measured, and what the forecast says of the same rules (revision %d):", f.Revision)
	}
	s.Line("%d requests came in on each side, in %.0f s of the mesh's time; computed in %s; seed %d.", f.Requests, f.Simulated, out.Millis(f.TookMS), f.Seed)
	for _, c := range f.Calibration {
		s.Line("  · %s", c)
	}
	s.Line("")
	if len(f.Expected) > 0 {
		var table [][]string
		for i, j := range f.Expected {
			verdict := "met"
			if !j.Met {
				verdict = "! missed"
			}
			line := []string{j.Expectation, verdict, j.Measured}
			if len(f.Now) > i {
				line = append(line, f.Now[i].Measured)
			}
			table = append(table, line)
		}
		header := []string{"EXPECTED", "", strings.ToUpper(f.After)}
		if len(f.Now) > 0 {
			header = append(header, "IN FORCE")
		}
		s.Table(header, table)
		s.Line("")
	}
	rows.sheet(s, f.Rows, f.Before, f.After)
	if len(f.Sweep) > 0 {
		s.Line("")
		var table [][]string
		one := len(f.Begins) == 1
		for _, p := range f.Sweep {
			line := []string{fmt.Sprintf("%.0f", p.RPS), out.Percent(p.Before.Success), out.Percent(p.Before.Refused), out.Millis(p.Before.P95MS), fmt.Sprintf("%.2f", p.Before.Load), refusedBar(p.Before.Refused)}
			if !one {
				line = append(line, out.Percent(p.After.Success), out.Percent(p.After.Refused), out.Millis(p.After.P95MS), fmt.Sprintf("%.2f", p.After.Load), refusedBar(p.After.Refused))
			}
			table = append(table, line)
		}
		side := []string{"SUCCESS>", "REFUSED>", "P95>", "TRIES/REQUEST>", "REFUSED"}
		header := append([]string{"REQUESTS/s>"}, side...)
		if !one {
			s.Line("By the rules in force, then by the draft:")
			header = append(header, side...)
		}
		s.Table(header, table)
		for _, b := range f.Begins {
			s.Line("%s", b.Words())
		}
	}
	if f.Worse != "" && f.After == control.DraftSide {
		s.Line("! Worse by more than a point: %s.", f.Worse)
	}
	if s.Wide {
		s.Line("")
		var table [][]string
		for _, t := range f.Behaviour {
			table = append(table, []string{t.Target, fmt.Sprint(t.Requests), out.Millis(t.P50MS), out.Millis(t.P95MS), out.Millis(t.HopMS), out.Percent(t.Errors), t.Calls})
		}
		s.Table([]string{"TAKEN TO BEHAVE", "MEASURED BY>", "OWN P50>", "OWN P95>", "HOP>", "ERRORS>", "CALLS FOR EACH REQUEST"}, table)
	}
	s.Line("\nAssumed:")
	for _, t := range f.Assumed {
		s.Line("  · %s", t)
	}
}

// refusedBar draws a share as a bar.
func refusedBar(share float64) string {
	if share == 0 {
		return ""
	}
	return strings.Repeat("▪", max(1, int(20*share+0.5)))
}
