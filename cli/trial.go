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

	"nightjar/cli/out"
	"nightjar/control"
)

func (a *app) trial() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "trial",
		Short: "Send a bounded load with expectations, and judge what came of it",
		Long: `A trial sends the loads of the section trials at fixed rates, whatever comes of the
requests before, and compares what came of them with what was expected. With --rules
it rehearses a draft: only the requests of the trial follow it.`,
		Example: `  nightjar trial run morning-rush
  nightjar trial list`,
		Args: exactly(0, "run|list|show|compare|stop"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.trialRun(), a.trialList(), a.trialShow(), a.trialCompare(), a.trialStop())
	return cmd
}

func (a *app) trialRun() *cobra.Command {
	var ask control.TrialAsk
	var file, draft []string
	var junit, length string
	var wait bool
	cmd := &cobra.Command{
		Use:   "run NAME",
		Short: "Run a trial and wait for its end",
		Long: `Run a trial of the rules in force, or of a file (--file), and wait for its end. A
latency counts from the moment when its request was due, so that a stall is not
hidden. It ends early when an expectation cannot be met any more (unless --to-end),
and when this command is interrupted. Exit code 1: an expectation was not met, or the
trial did not come to its end.`,
		Example: `  nightjar trial run morning-rush
  nightjar trial run morning-rush --rules examples/ferry --for 10s --junit trial.xml`,
		Annotations:       map[string]string{moreFormats: "html,junit"},
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.trialNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				ask.Name = args[0]
			} else if len(file) == 0 && len(draft) == 0 {
				return usagef("expected: %s NAME, or --file with one trial in it", cmd.CommandPath())
			}
			var err error
			if ask.File, err = readFiles(cmd, file); err != nil {
				return err
			}
			if ask.Rules, err = readFiles(cmd, draft); err != nil {
				return err
			}
			ask.By, ask.For = author(), length
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.StartTrial(cmd.Context(), ask)
			if err != nil {
				return a.mistaken(cmd, err)
			}
			if !wait {
				return a.printer(cmd).Show(t, func(s *out.Sheet) { s.Line("Trial %d (%s) began: nightjar trial show %d", t.Number, t.Name, t.Number) })
			}
			show, done := a.trialBar(&t)
			for t.State == control.TrialRunning {
				select {
				case <-cmd.Context().Done():
					stop, end := context.WithTimeout(context.Background(), 10*time.Second)
					t, err = c.StopTrial(stop, t.Number, ask.By)
					end()
				case <-time.After(250 * time.Millisecond):
					var next control.Trial
					if next, err = c.Trial(cmd.Context(), t.Number); err == nil {
						t = next
					} else if errors.Is(err, context.Canceled) {
						continue // and stop it
					}
				}
				if err != nil {
					done()
					return err
				}
				show(&t)
			}
			done()
			if err := a.showTrial(cmd, &t); err != nil {
				return err
			}
			if junit != "" {
				if err := writeJUnit(junit, &t); err != nil {
					return err
				}
			}
			if t.State != control.TrialMet {
				return finding
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&file, "file", nil, "file or directory that holds the trial, when the rules in force do not")
	f.StringArrayVar(&draft, "rules", nil, "draft to rehearse: a file or directory with all rules of the bundle; real traffic does not follow it")
	f.StringVar(&ask.Bundle, "bundle", control.MainBundle, "bundle that the draft replaces")
	f.StringVar(&length, "for", "", "how long, in place of what the trial says")
	f.BoolVar(&ask.ToEnd, "to-end", false, "go on when an expectation cannot be met any more")
	f.StringVar(&junit, "junit", "", "also write the result to this file as JUnit XML")
	f.BoolVar(&wait, "wait", true, "wait for the end; --wait=false only begins")
	return cmd
}

func writeJUnit(path string, t *control.Trial) error {
	f, err := os.Create(path)
	if err != nil {
		return usage{err}
	}
	return errors.Join(out.JUnit(f, t), f.Close())
}

// trialNames completes the names of trials in force.
func (a *app) trialNames(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	c, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, _ := c.TrialNames(cmd.Context())
	return names, cobra.ShellCompDirectiveNoFileComp
}

// trialBar draws progress with live figures.
func (a *app) trialBar(t *control.Trial) (update func(*control.Trial), done func()) {
	show, done := a.progress(t.Name, int64(10*(t.For+t.WarmUp)), func(s *progress.Style) { s.Visibility.Value, s.Visibility.Speed = false, false })
	return func(t *control.Trial) {
		text := fmt.Sprintf("%s  %.0f/s  success %s  p99 %s", t.Name, t.Figures.RPS, out.Share(t.Figures.Success), out.Millis(t.Figures.P99MS))
		if t.Seconds == 0 {
			text = t.Name + "  warming up"
		}
		show(text, int64(10*time.Since(t.Began).Seconds()))
	}, done
}

// showTrial prints a trial in every format that there is.
func (a *app) showTrial(cmd *cobra.Command, t *control.Trial) error {
	switch a.format {
	case "junit":
		return out.JUnit(cmd.OutOrStdout(), t)
	case "html":
		c, err := a.client()
		if err != nil {
			return err
		}
		return c.TrialReport(cmd.Context(), t.Number, cmd.OutOrStdout())
	}
	return a.printer(cmd).Show(t, func(s *out.Sheet) { trialSheet(s, t) })
}

func trialSheet(s *out.Sheet, t *control.Trial) {
	how := fmt.Sprintf("by the rules of revision %d", t.Revision)
	if t.Rehearse {
		how = fmt.Sprintf("rehearsed a draft with %s against revision %d", count(len(t.Draft), "change"), t.Revision)
	}
	s.Line("Trial %d, %s: %s; %s, %.0f s measured.", t.Number, t.Name, t.State, how, t.Seconds)
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
		s.Line("! The generator: %s.", p)
	}
	s.Line("")
	if len(t.Expected) > 0 {
		var rows [][]string
		for _, j := range t.Expected {
			verdict, hint := "met", ""
			if !j.Met {
				verdict = "! missed"
			}
			if t.State == control.TrialRunning {
				verdict = "so far " + strings.TrimPrefix(verdict, "! ")
			}
			if j.Value != nil && !j.Sure {
				hint = "the interval says both"
			}
			rows = append(rows, []string{j.Expectation, verdict, j.Measured, hint})
		}
		s.Table([]string{"EXPECTED", "", "MEASURED (95%)", ""}, rows)
		s.Line("")
	}
	f := t.Figures
	s.Line("Requests  %d, %.1f/s: success %s (%s to %s), first try %s, load factor %s", f.Requests, f.RPS, out.Share(f.Success), out.Percent(f.SuccessLow), out.Percent(f.SuccessHigh), out.Share(f.FirstTry), load(f.LoadFactor))
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
		versions = append(versions, fmt.Sprintf("%s %d (%s, %s to %s)", v.Target, v.Requests, out.Percent(v.Share), out.Percent(v.Low), out.Percent(v.High)))
	}
	s.Line("Versions  %s", cmp.Or(strings.Join(versions, ", "), "none"))
	s.Line("Latency   p50 %s, p95 %s, p99 %s; since the requests were due", out.Millis(f.P50MS), out.Millis(f.P95MS), out.Millis(f.P99MS))
	if s.Wide {
		var rows [][]string
		for _, p := range t.Curve {
			rows = append(rows, []string{fmt.Sprintf("%g%%", 100*p.Share), out.Millis(p.MS), strings.Repeat("▪", int(40*p.MS/max(t.Curve[len(t.Curve)-1].MS, 0.001)))})
		}
		s.Line("")
		s.Table([]string{"OF REQUESTS>", "WITHIN>", ""}, rows)
		s.Line("\nThe generator sent %d, half of them within %s of their time, 99 of 100 within %s.", t.Pace.Sent, out.Millis(t.Pace.Late50MS), out.Millis(t.Pace.Late99MS))
	}
}

func (a *app) trialList() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "Trials that run or ran, newest first",
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
					s.Line("There was no trial yet: nightjar trial run NAME")
					return
				}
				var rows [][]string
				for _, t := range l.Trials {
					kind := fmt.Sprintf("revision %d", t.Revision)
					if t.Rehearse {
						kind = "a draft"
					}
					met := 0
					for _, j := range t.Expected {
						if j.Met {
							met++
						}
					}
					rows = append(rows, []string{fmt.Sprint(t.Number), t.Name, t.State, fmt.Sprintf("%d of %d", met, len(t.Expected)), kind, fmt.Sprint(t.Figures.Requests), out.Share(t.Figures.Success),
						out.Millis(t.Figures.P95MS), t.By, t.Began.Local().Format("2006-01-02 15:04:05")})
				}
				s.Table([]string{"TRIAL>", "NAME", "", "MET>", "RULES", "REQUESTS>", "SUCCESS>", "P95>", "BY", "BEGAN"}, rows)
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 20, "how many, at most 200")
	return cmd
}

func trialNumber(text string) (uint, error) {
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil || n == 0 {
		return 0, usagef("%q is not the number of a trial: nightjar trial list lists them", text)
	}
	return uint(n), nil
}

func (a *app) trialShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show [NUMBER]",
		Short: "A trial as it is now; the newest without a number",
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
				s.Line("Trial %d (%s, %s) and trial %d (%s, %s).", t.Before.Number, t.Before.Name, t.Before.State, t.After.Number, t.After.Name, t.After.State)
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
		Short: "End a trial before its time; what it measured is kept",
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
			t, err := c.StopTrial(cmd.Context(), n, author())
			if err != nil {
				return err
			}
			return a.showTrial(cmd, &t)
		},
	}
}
