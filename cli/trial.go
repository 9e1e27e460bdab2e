package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) trial() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "trial",
		Short: "Send a bounded load, and check expectations against the results",
		Long: `A trial sends the loads of the section trials at fixed rates, whatever the results of
earlier requests, and checks its expectations against the results. With --rules it
rehearses a draft: only the requests of the trial follow it.`,
		Example: `  nightjar trial run morning-rush
  nightjar trial list`,
		Args: exactly(0, "run|list|show|compare|stop"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.trialRun(), a.trialList(), a.trialShow(), a.trialCompare(), a.trialStop())
	return cmd
}

func (a *app) trialRun() *cobra.Command {
	var q model.TrialRequest
	var file, draft []string
	var junit, length string
	var wait bool
	cmd := &cobra.Command{
		Use:   "run NAME",
		Short: "Run a trial and wait for its end",
		Long: `Run a trial of the rules in force, or of a file (--file), and wait for its end. Latency
counts from the time when a request was due, so that a stall is not hidden. The trial
ends early when an expectation cannot be met any more (unless --to-end), and when this
command is interrupted. Exit code 1: an expectation was not met, or the trial was
stopped.`,
		Example: `  nightjar trial run morning-rush
  nightjar trial run morning-rush --rules examples/ferry --for 10s --junit trial.xml`,
		Annotations:       map[string]string{moreFormats: "html,junit"},
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.trialNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				q.Name = args[0]
			} else if len(file) == 0 && len(draft) == 0 {
				return usagef("expected: %s NAME, or --file with one trial in it", cmd.CommandPath())
			}
			var err error
			if q.File, err = readFiles(cmd, file); err != nil {
				return err
			}
			if q.Rules, err = readFiles(cmd, draft); err != nil {
				return err
			}
			q.For = length
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.StartTrial(cmd.Context(), q)
			if err != nil {
				return a.rejected(cmd, err)
			}
			if !wait {
				return a.printer(cmd).Show(t, func(s *out.Sheet) {
					s.Line("Trial %d (%s) started. Show it: nightjar trial show %d", t.Number, t.Name, t.Number)
				})
			}
			if t, err = a.followTrial(cmd, t); err != nil {
				return err
			}
			if err := a.showTrial(cmd, &t); err != nil {
				return err
			}
			if junit != "" {
				if err := writeJUnit(junit, &t); err != nil {
					return err
				}
			}
			if t.State != model.TrialMet {
				return finding
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&file, "file", nil, "file or directory with the trial, when the rules in force do not have it")
	f.StringArrayVar(&draft, "rules", nil,
		"draft to rehearse: a file or directory with all rules of the bundle; other traffic does not follow it")
	f.StringVar(&q.Bundle, "bundle", model.MainBundle, "bundle that the draft replaces")
	f.StringVar(&length, "for", "", "how long, instead of what the trial says")
	f.BoolVar(&q.ToEnd, "to-end", false, "continue when an expectation cannot be met any more")
	f.StringVar(&junit, "junit", "", "also write the result to this file as JUnit XML")
	f.BoolVar(&wait, "wait", true, "wait for the end; --wait=false only starts it")
	return cmd
}

// followTrial waits for the end of a trial, and stops it when the command is
// interrupted.
func (a *app) followTrial(cmd *cobra.Command, t model.Trial) (model.Trial, error) {
	c, err := a.client()
	if err != nil {
		return t, err
	}
	show, done := a.trialBar(&t)
	for t.State == model.TrialRunning {
		select {
		case <-cmd.Context().Done():
			stop, end := context.WithTimeout(context.Background(), 10*time.Second)
			t, err = c.StopTrial(stop, t.Number)
			end()
		case <-time.After(250 * time.Millisecond):
			var next model.Trial
			if next, err = c.Trial(cmd.Context(), t.Number); err == nil {
				t = next
			} else if errors.Is(err, context.Canceled) {
				continue // and stop it
			}
		}
		if err != nil {
			done()
			return t, err
		}
		show(&t)
	}
	done()
	return t, nil
}

func writeJUnit(path string, t *model.Trial) error {
	f, err := os.Create(path)
	if err != nil {
		return usage{err}
	}
	return errors.Join(out.JUnit(f, t), f.Close())
}

// trialNames completes the names of the trials in force.
func (a *app) trialNames(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	c, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := c.TrialNames(cmd.Context())
	return names, cobra.ShellCompDirectiveNoFileComp
}

// trialBar draws progress with live figures.
func (a *app) trialBar(t *model.Trial) (update func(*model.Trial), done func()) {
	show, done := a.progress(
		t.Name,
		int64(10*(t.For+t.WarmUp)),
		func(s *progress.Style) { s.Visibility.Value, s.Visibility.Speed = false, false },
	)
	return func(t *model.Trial) {
		text := fmt.Sprintf(
			"%s  %.0f/s  success %s  p99 %s",
			t.Name,
			t.Figures.RPS,
			out.Share(t.Figures.Success),
			out.Millis(t.Figures.P99MS),
		)
		if t.Seconds == 0 {
			text = t.Name + "  warming up"
		}
		show(text, int64(10*time.Since(t.Began).Seconds()))
	}, done
}

// showTrial prints a trial in any format.
func (a *app) showTrial(cmd *cobra.Command, t *model.Trial) error {
	switch a.format {
	case "junit":
		return out.JUnit(cmd.OutOrStdout(), t)
	case "html":
		c, err := a.client()
		if err != nil {
			return err
		}
		return c.TrialReport(cmd.Context(), t.Number, out.Exact(cmd.OutOrStdout()))
	}
	return a.printer(cmd).Show(t, func(s *out.Sheet) { trialSheet(s, t) })
}

func trialSheet(s *out.Sheet, t *model.Trial) {
	how := fmt.Sprintf("with the rules of revision %d", t.Revision)
	if t.IsRehearsal {
		how = fmt.Sprintf("rehearsed a draft with %s against revision %d", count(len(t.Draft), "change"), t.Revision)
	}
	s.Line("Trial %d, %s: %s; %s, measured for %.0f s.", t.Number, t.Name, t.State, how, t.Seconds)
	if t.Why != "" {
		s.Line("It ended early: %s.", t.Why)
	}
	for _, l := range t.Loads {
		s.Line("  · %s", l)
	}
	for _, n := range t.Notes {
		s.Line("  · %s", n)
	}
	if p := t.Pace.Bottleneck; p != "" {
		s.Line("! Load generator: %s.", p)
	}
	s.Line("")
	trialExpectations(s, t)
	f := t.Figures
	s.Line(
		"Requests  %d, %.1f/s: success %s (%s to %s), first attempt %s, %s attempts per request",
		f.Requests,
		f.RPS,
		out.Share(f.Success),
		out.Percent(f.SuccessLow),
		out.Percent(f.SuccessHigh),
		out.Share(f.FirstAttempt),
		perRequest(f.AttemptsPerRequest),
	)
	status := map[string]int{}
	for k, n := range t.Status {
		status[k] = n
	}
	s.Line("Status    %s", counts(status))
	if len(f.Reasons) > 0 {
		reasons := map[string]int{}
		for k, n := range f.Reasons {
			reasons[k] = int(n)
		}
		s.Line("Reasons   %s", counts(reasons))
	}
	var versions []string
	for _, v := range t.Versions {
		versions = append(
			versions,
			fmt.Sprintf(
				"%s %d (%s, %s to %s)",
				v.Target,
				v.Requests,
				out.Percent(v.Share),
				out.Percent(v.Low),
				out.Percent(v.High),
			),
		)
	}
	s.Line("Versions  %s", cmp.Or(strings.Join(versions, ", "), "none"))
	s.Line(
		"Latency   p50 %s, p95 %s, p99 %s, from the time when requests were due",
		out.Millis(f.P50MS),
		out.Millis(f.P95MS),
		out.Millis(f.P99MS),
	)
	if s.Wide {
		trialCurve(s, t)
	}
}

// trialExpectations prints the expectations with their results.
func trialExpectations(s *out.Sheet, t *model.Trial) {
	if len(t.Expected) == 0 {
		return
	}
	var rows [][]string
	for _, j := range t.Expected {
		verdict, hint := "met", ""
		if !j.IsMet {
			verdict = "! missed"
		}
		if t.State == model.TrialRunning {
			verdict = "so far " + strings.TrimPrefix(verdict, "! ")
		}
		if j.Value != nil && !j.IsConclusive {
			hint = "inconclusive"
		}
		rows = append(rows, []string{j.Expectation, verdict, j.Measured, hint})
	}
	s.Table([]string{"EXPECTATION", "RESULT", "MEASURED (95%)", ""}, rows)
	s.Line("")
}

// trialCurve prints the latency by share of the requests.
func trialCurve(s *out.Sheet, t *model.Trial) {
	var rows [][]string
	for _, p := range t.Curve {
		rows = append(
			rows,
			[]string{
				fmt.Sprintf("%g%%", 100*p.Share),
				out.MS(p.MS),
				strings.Repeat("▪", int(40*p.MS/max(t.Curve[len(t.Curve)-1].MS, 0.001))),
			},
		)
	}
	s.Line("")
	s.Table([]string{"REQUESTS>", "LATENCY (ms)>", ""}, rows)
	s.Line(
		"\nThe load generator sent %d requests; half of them at most %s late, 99 of 100 at most %s.",
		t.Pace.Sent,
		out.Millis(t.Pace.Late50MS),
		out.Millis(t.Pace.Late99MS),
	)
}

func (a *app) trialList() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "Trials, newest first",
		Example: `  nightjar trial list
  nightjar trial list --limit 5 -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, err := c.Trials(cmd.Context(), 0, limit)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(l, func(s *out.Sheet) {
				if len(l.Trials) == 0 {
					s.Line("There was no trial yet. Run one: nightjar trial run NAME")
					return
				}
				var rows [][]string
				for _, t := range l.Trials {
					kind := fmt.Sprintf("revision %d", t.Revision)
					if t.IsRehearsal {
						kind = "draft"
					}
					met := 0
					for _, j := range t.Expected {
						if j.IsMet {
							met++
						}
					}
					rows = append(
						rows,
						[]string{
							fmt.Sprint(t.Number),
							t.Name,
							t.State,
							fmt.Sprintf("%d of %d", met, len(t.Expected)),
							kind,
							fmt.Sprint(t.Figures.Requests),
							out.Share(t.Figures.Success),
							out.MS(t.Figures.P95MS),
							t.By,
							t.Began.Local().Format("2006-01-02 15:04:05"),
						},
					)
				}
				s.Table([]string{
					"TRIAL>", "NAME", "STATE", "MET>", "RULES", "REQUESTS>", "SUCCESS>", "P95 (ms)>", "BY",
					"STARTED",
				}, rows)
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 20, "how many, at most 200")
	return cmd
}

func trialNumber(text string) (uint, error) {
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil || n == 0 {
		return 0, usagef("%q is not the number of a trial: \"nightjar trial list\" lists the trials", text)
	}
	return uint(n), nil
}

func (a *app) trialShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show [NUMBER]",
		Short: "One trial; without a number, the newest",
		Example: `  nightjar trial show -o wide
  nightjar trial show 1 -o html > trial.html`,
		Annotations: map[string]string{moreFormats: "html,junit"},
		Args:        cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := uint(0), error(nil)
			if len(args) == 1 {
				if n, err = trialNumber(args[0]); err != nil {
					return err
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.Trial(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.showTrial(cmd, &t)
		},
	}
}

func (a *app) trialCompare() *cobra.Command {
	var rows rowFlags
	cmd := &cobra.Command{
		Use:   "compare BEFORE AFTER",
		Short: "What changed from one trial to another, as an effect",
		Example: `  nightjar trial compare 1 2
  nightjar trial compare 1 2 --by version -o json`,
		Args: exactly(2, "BEFORE AFTER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			before, err := trialNumber(args[0])
			if err != nil {
				return err
			}
			after, err := trialNumber(args[1])
			if err != nil {
				return err
			}
			if err := rows.check(); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.CompareTrials(cmd.Context(), before, after)
			if err != nil {
				return err
			}
			shown := t
			shown.Rows = rows.take(t.Rows)
			return a.printer(cmd).Show(shown, func(s *out.Sheet) {
				s.Line(
					"Trial %d (%s, %s) and trial %d (%s, %s).",
					t.Before.Number,
					t.Before.Name,
					t.Before.State,
					t.After.Number,
					t.After.Name,
					t.After.State,
				)
				for _, n := range t.Notes {
					s.Line("  · %s", n)
				}
				s.Line("")
				rows.sheet(s, t.Rows, fmt.Sprintf("trial %d", t.Before.Number), fmt.Sprintf("trial %d", t.After.Number))
			})
		},
	}
	rows.add(cmd)
	return cmd
}

func (a *app) trialStop() *cobra.Command {
	return &cobra.Command{
		Use:   "stop NUMBER",
		Short: "Stop a trial before its time; what it measured is kept",
		Example: `  nightjar trial stop 3
  nightjar trial stop 3 -o json`,
		Args: exactly(1, "NUMBER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := trialNumber(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.StopTrial(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.showTrial(cmd, &t)
		},
	}
}
