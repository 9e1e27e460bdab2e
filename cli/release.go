package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) release() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "release",
		Short: "Move a service to a new version in judged stages",
		Long: `A release sends a cohort to a new version first, then a growing share of the requests,
and judges every stage by what was measured. A missed judgement returns all traffic to
the old version. Releases are declared in the section releases of the rules.`,
		Example: `  nightjar release start sailings-to-v2 --follow
  nightjar release list`,
		Args: exactly(0, "list|show|start|hold|resume|skip|withdraw|finish|key"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(
		a.releaseList(),
		a.releaseShow(),
		a.releaseStart(),
		a.releaseAct(
			model.ActHold,
			"Hold a release at its weights",
			"It is still judged, and withdrawn when it misses a judgement.",
		),
		a.releaseAct(
			model.ActResume,
			"Resume a held release",
			"It continues with the next stage if this one is finished, or if the figures were\n"+
				"inconclusive; else the stage is judged further.",
		),
		a.releaseAct(
			model.ActSkip,
			"Skip the rest of a stage",
			"The next stage begins at once, and no receiver is asked.",
		),
		a.releaseAct(
			model.ActWithdraw,
			"Return all traffic to the old version",
			"A completed release can be withdrawn too, as long as nobody changed its routes.",
		),
		a.releaseAct(
			model.ActFinish,
			"Finish a release at once",
			"The new version takes over without further judgements.",
		),
		a.releaseKey(),
	)
	return cmd
}

func (a *app) releaseList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Releases, newest first, and those that can be started",
		Example: `  nightjar release list
  nightjar release list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.Releases(cmd.Context(), 0, 50)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(list, func(s *out.Sheet) {
				if len(list.Releases)+len(list.Declared) == 0 {
					s.Line(
						"The rules in force declare no release. Add one in the section releases: see docs/releases.md",
					)
					return
				}
				var rows [][]string
				for _, r := range list.Releases {
					last := ""
					if r.Last != nil {
						last = r.Last.Verdict
					}
					rows = append(
						rows,
						[]string{
							fmt.Sprint(r.Number),
							r.Name,
							r.Service,
							r.From + " to " + r.To,
							r.State,
							stepName(&r),
							last,
							fmt.Sprintf("%d of %d", r.Bad, r.Requests),
							cmp.Or(r.StartedBy, "–"),
							r.Began.Local().Format(time.DateTime),
							whyText(s, &r),
						},
					)
				}
				if len(rows) > 0 || s.CSV {
					s.Table([]string{
						"NUMBER>", "RELEASE", "SERVICE", "VERSIONS", "STATE", "STAGE", "LAST JUDGEMENT",
						"FAILED>", "BY", "STARTED", "WHY",
					}, rows)
				}
				for _, d := range list.Declared {
					if d.Blocked != "" {
						s.Line(
							"Declared: %s (%s %s to %s), which cannot start now: %s.",
							d.Name,
							d.Service,
							d.From,
							d.To,
							d.Blocked,
						)
					} else {
						s.Line("Declared: %s (%s %s to %s). Start it: nightjar release start %[1]s",
							d.Name, d.Service, d.From, d.To)
					}
				}
			})
		},
	}
}

// whyText is who holds or ended a release and why, shortened where there is no room.
func whyText(s *out.Sheet, r *model.Release) string {
	if s.Wide || s.CSV || r.Why == "" {
		return r.Why
	}
	why, _, _ := strings.Cut(r.Why, ": ")
	return r.By + ": " + why
}

func stepName(r *model.Release) string {
	if r.Step < 0 || r.Step >= len(r.Steps) {
		return "–"
	}
	return r.Steps[r.Step].Name
}

func (a *app) releaseStart() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use:   "start [NAME]",
		Short: "Start a release that the rules in force declare",
		Long: `Start a release that the rules in force declare; the name may be left out when there is
only one. It continues by itself. With --follow, exit code 1 when it is withdrawn.`,
		Example: `  nightjar release start sailings-to-v2
  nightjar release start sailings-to-v2 --follow`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.releaseNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			q := model.StartReleaseRequest{By: author()}
			if len(args) == 1 {
				q.Name = args[0]
			}
			r, err := c.StartRelease(cmd.Context(), q)
			if err != nil {
				return err
			}
			if follow {
				return a.followRelease(cmd, c, fmt.Sprint(r.Number))
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) {
				s.Line(
					"Release %d (%s) started: %s of %s to %s. Watch it: nightjar release show %s --follow",
					r.Number,
					r.Name,
					r.From,
					r.Service,
					r.To,
					r.Name,
				)
			})
		},
	}
	cmd.Flags().
		BoolVar(&follow, "follow", false, "show it until its end: in place on a terminal, line by line into a pipe")
	return cmd
}

func (a *app) releaseShow() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use:   "show NAME",
		Short: "One release with its judgements and events",
		Long: `One release, by its name (the newest run) or number, with its stages, judgements and
events. With --follow, it is shown until its end; exit code 1 when it is withdrawn.`,
		Example: `  nightjar release show sailings-to-v2
  nightjar release show sailings-to-v2 --follow`,
		Args:              exactly(1, "NAME"),
		ValidArgsFunction: a.releaseNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if follow {
				return a.followRelease(cmd, c, args[0])
			}
			r, err := c.Release(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) { releaseSheet(s, &r, 15) })
		},
	}
	cmd.Flags().
		BoolVar(&follow, "follow", false, "show it until its end: in place on a terminal, line by line into a pipe")
	return cmd
}

func (a *app) releaseAct(act, short, long string) *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use:   act + " NAME",
		Short: short,
		Long:  short + ". " + long,
		Example: fmt.Sprintf(`  nightjar release %[1]s sailings-to-v2
  nightjar release %[1]s sailings-to-v2 -o json`, act),
		Args:              exactly(1, "NAME"),
		ValidArgsFunction: a.releaseNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.ActOnRelease(cmd.Context(), args[0], act, model.ReleaseAction{By: author(), Why: why})
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) {
				s.Line("Release %d (%s): %s, stage %s.", r.Number, r.Name, r.State, stepName(&r))
			})
		},
	}
	if act != model.ActResume && act != model.ActSkip {
		cmd.Flags().StringVarP(&why, "message", "m", "", "why")
	}
	return cmd
}

func (a *app) releaseKey() *cobra.Command {
	return &cobra.Command{
		Use:   "key",
		Short: "The public key by which receivers check the signatures of events",
		Example: `  nightjar release key
  nightjar release key -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			k, err := c.SigningKey(cmd.Context())
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(k, func(s *out.Sheet) {
				if s.CSV {
					s.Table([]string{"ID", "ALGORITHM", "PEM"}, [][]string{{k.ID, k.Algorithm, k.PEM}})
					return
				}
				s.Line("keyid %s, %s (RFC 9421)\n%s", k.ID, k.Algorithm, strings.TrimSpace(k.PEM))
			})
		},
	}
}

// releaseNames completes the names of releases.
func (a *app) releaseNames(cmd *cobra.Command, args []string, _ string) (names []string, _ cobra.ShellCompDirective) {
	c, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, _ := c.Releases(cmd.Context(), 0, 50)
	for _, r := range list.Releases {
		names = append(names, r.Name)
	}
	for _, d := range list.Declared {
		names = append(names, d.Name)
	}
	slices.Sort(names)
	return slices.Compact(names), cobra.ShellCompDirectiveNoFileComp
}

// followRelease shows a release until it is over: in place on a terminal, one
// line for everything that happens into a pipe.
func (a *app) followRelease(cmd *cobra.Command, c *client.Client, name string) error {
	w := cmd.OutOrStdout()
	f, _ := w.(*os.File)
	inPlace := f != nil && out.Terminal(f) && a.format != "json"
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	judged, happened := 0, 0
	for first := true; ; first = false {
		r, err := c.Release(cmd.Context(), name)
		switch {
		case cmd.Context().Err() != nil:
			return nil
		case err != nil && first:
			return err
		case err != nil:
			fmt.Fprintf(cmd.ErrOrStderr(), "nightjar: %v; retrying\n", err)
		case inPlace:
			name = fmt.Sprint(r.Number) // a newer run of the name is another release
			var page bytes.Buffer
			p := &out.Printer{W: &page, Format: a.format, Colour: true, Width: pageWidth(f)}
			if err := p.Show(r, func(s *out.Sheet) { releaseSheet(s, &r, 8) }); err != nil {
				return err
			}
			if redraw(w, page.Bytes(), first) != nil {
				return nil
			}
		default:
			name = fmt.Sprint(r.Number)
			if a.releaseLines(w, &r, &judged, &happened) != nil {
				return nil // the reader is gone
			}
		}
		if err == nil && r.IsOver() {
			if r.State == model.ReleaseWithdrawn {
				return finding
			}
			return nil
		}
		select {
		case <-cmd.Context().Done():
			return nil
		case <-t.C:
		}
	}
}

// releaseLines writes what is new, one line each.
func (a *app) releaseLines(w io.Writer, r *model.Release, judged, happened *int) error {
	type line struct {
		at    time.Time
		text  string
		value any
	}
	var lines []line
	for i := min(*judged, len(r.Judgements)); i < len(r.Judgements); i++ {
		j := &r.Judgements[i]
		lines = append(lines, line{j.At, judgementText(r, j), j})
	}
	for _, e := range r.Events[min(*happened, len(r.Events)):] {
		if e.Kind != "judged" || a.format == "json" { // its judgement says the same
			lines = append(lines, line{e.At, eventText(&e), e})
		}
	}
	*judged, *happened = len(r.Judgements), len(r.Events)
	slices.SortStableFunc(lines, func(a, b line) int { return a.at.Compare(b.at) })
	for _, l := range lines {
		if a.format == "json" {
			b, err := json.Marshal(l.value)
			if err != nil {
				return err
			}
			l.text = string(b)
		} else {
			l.text = l.at.Local().Format(time.TimeOnly) + "  " + l.text
		}
		if _, err := fmt.Fprintln(w, l.text); err != nil {
			return err
		}
	}
	return nil
}

func eventText(e *model.ReleaseEvent) string {
	text := strings.TrimPrefix(fmt.Sprintf("%s %s", e.Step, e.Kind), " ")
	if e.By != "" {
		text += " by " + e.By
	}
	if e.Text != "" {
		text += ": " + e.Text
	}
	return text
}

func judgementText(r *model.Release, j *model.StageJudgement) string {
	text := fmt.Sprintf("%s %s: %s %s, %s %s", j.StepName, j.Verdict, r.To, sideText(&j.To), r.From, sideText(&j.From))
	if f := j.Worst(); f != nil {
		text += "; " + f.Expectation + ": " + f.Measured
	}
	return text
}

func sideText(s *model.JudgementSide) string {
	if s.Requests == 0 {
		return "no requests"
	}
	return fmt.Sprintf("%.2f%% of %d", 100**s.Success, s.Requests)
}

// rail is all steps in one line.
func rail(r *model.Release) string {
	var parts []string
	for i, st := range r.Steps {
		mark := " "
		switch {
		case i < r.Step || i == r.Step && r.State == model.ReleaseCompleted:
			mark = "✓"
		case i == r.Step && r.State == model.ReleaseWithdrawn:
			mark = "✗"
		case i == r.Step && r.State == model.ReleaseHeld:
			mark = "‖"
		case i == r.Step:
			mark = "▶"
		}
		name := st.Name
		if st.Holds {
			name += " (holds)"
		}
		parts = append(parts, "["+mark+" "+name+"]")
	}
	return strings.Join(parts, " ")
}

func releaseSheet(s *out.Sheet, r *model.Release, rows int) {
	table := func() {
		var list [][]string
		for i := range slices.Backward(r.Judgements) {
			j := &r.Judgements[i]
			if len(list) == rows && !s.CSV {
				break
			}
			why := ""
			if f := j.Worst(); f != nil {
				why = f.Expectation + ": " + f.Measured
			} else if n := len(j.Findings); n > 0 {
				why = j.Findings[n-1].Expectation + ": " + j.Findings[n-1].Measured
			}
			list = append(
				list,
				[]string{
					j.At.Local().Format(time.TimeOnly),
					j.StepName,
					j.Verdict,
					fmt.Sprintf("%.1f%%", 100*j.Share),
					sideText(&j.To),
					sideText(&j.From),
					p99Text(&j.To),
					p99Text(&j.From),
					why,
				},
			)
		}
		s.Table([]string{
			"TIME", "STAGE", "VERDICT", "SHARE>", r.To + " SUCCESS>", r.From + " SUCCESS>",
			r.To + " P99 (ms)>", r.From + " P99 (ms)>", "FIGURES",
		}, list)
	}
	if s.CSV {
		table()
		return
	}
	s.Line("Release %d: %s, %s of %s to %s, on %s", r.Number, r.Name, r.From, r.Service, r.To, placesText(r.Places))
	s.Line("%s", rail(r))
	s.Line("%s", stateText(r))
	if r.Requests > 0 {
		s.Line(
			"%s got %d requests; %d failed, about %.0f more than %s would have.",
			r.To,
			r.Requests,
			r.Bad,
			r.Excess,
			r.From,
		)
	}
	if len(r.Judgements) > 0 {
		s.Line("")
		table()
	}
	s.Line("")
	for i, e := range r.Events {
		if i >= len(r.Events)-rows {
			s.Line("%s  %s", e.At.Local().Format(time.TimeOnly), eventText(&e))
		}
	}
	for _, n := range r.Notifications {
		if n.State != "delivered" {
			s.Line(
				"Not delivered: %s to %s (%s after %s: %s)",
				n.Type,
				n.URL,
				n.State,
				count(n.Attempts, "attempt"),
				n.Response,
			)
		}
	}
}

func p99Text(s *model.JudgementSide) string {
	if s.P99MS == nil {
		return "–"
	}
	return fmt.Sprintf("%.1f", *s.P99MS)
}

func placesText(places []model.RouteRef) string {
	var parts []string
	for _, p := range places {
		parts = append(parts, p.String())
	}
	return strings.Join(parts, ", ")
}

// stateText is the state of a release, and what it waits for.
func stateText(r *model.Release) string {
	left := func(seconds float64) string { return (time.Duration(seconds) * time.Second).String() }
	switch r.State {
	case model.ReleaseCompleted, model.ReleaseWithdrawn:
		return fmt.Sprintf("%s by %s after %s: %s.", r.State, r.By, r.Ended.Sub(r.Began).Round(time.Second), r.Why)
	case model.ReleaseHeld:
		return fmt.Sprintf("held by %s: %s. Resume it: nightjar release resume %s", r.By, r.Why, r.Name)
	case model.ReleaseReady:
		return "ready"
	case model.ReleaseShifting:
		if r.IsAsking {
			return "shifting: asking receivers whether the next stage may begin"
		}
		return "shifting: sending the new weights to the proxies"
	}
	text := fmt.Sprintf(
		"%s: %s left, next judgement in %s",
		r.State,
		left(r.LeftSeconds+0.5),
		left(r.NextJudgementSeconds+0.5),
	)
	if r.LeftSeconds == 0 && r.Last != nil {
		text = fmt.Sprintf(
			"%s: %s over its time, because the last judgement is %s; withdrawn or held after %s",
			r.State,
			left(r.WaitedSeconds),
			r.Last.Verdict,
			left(r.PatienceSeconds),
		)
	}
	return text
}
