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

	"nightjar/api/dto"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/control"
	"nightjar/core/release"
)

func (a *app) release() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "release",
		Short: "Move a service to a new version in judged stages",
		Long: `A release gives a new version a cohort first, then ever more of the requests, and
judges every stage by what was measured. A missed judgement takes the traffic back to
the old version. Releases are declared in the section releases of the rules.`,
		Example: `  nightjar release start sailings-to-v2 --follow
  nightjar release list`,
		Args: exactly(0, "list|show|start|hold|resume|skip|withdraw|finish|key"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.releaseList(), a.releaseShow(), a.releaseStart(),
		a.releaseAct(control.ActHold, "Stop a release at the weights that it has", "It is judged all the same, and withdrawn when it misses."),
		a.releaseAct(control.ActResume, "Let a held release go on", "It goes to the next stage when this one has shown what it had to, or when the judge could\nnot tell; else it is judged on."),
		a.releaseAct(control.ActSkip, "Leave out the rest of a stage", "The next stage begins at once, and nobody is asked for it."),
		a.releaseAct(control.ActWithdraw, "Take the traffic back to the old version", "A completed release can be taken back too, while its routes are as it wrote them."),
		a.releaseAct(control.ActFinish, "Go to the end at once", "The new version takes over without being judged any more."),
		a.releaseKey())
	return cmd
}

func (a *app) releaseList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Releases that run or ran, newest first, and those that are declared",
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
					s.Line("The rules in force declare no release. Write one in the section releases: see docs/releases.md")
					return
				}
				var rows [][]string
				for _, r := range list.Releases {
					last := ""
					if r.Last != nil {
						last = string(r.Last.Verdict)
					}
					rows = append(rows, []string{fmt.Sprint(r.Number), r.Name, r.Service, r.From + " to " + r.To, string(r.State), stepName(&r), last,
						fmt.Sprintf("%d of %d", r.Bad, r.Requests), cmp.Or(r.Starter, "–"), r.Began.Local().Format(time.DateTime), whyText(s, &r)})
				}
				if len(rows) > 0 || s.CSV {
					s.Table([]string{"NO>", "RELEASE", "SERVICE", "MOVES", "STATE", "STAGE", "JUDGED", "FAILED>", "BY", "BEGAN", "WHY"}, rows)
				}
				for _, d := range list.Declared {
					if d.Blocked != "" {
						s.Line("Declared: %s (%s %s to %s), which cannot begin now: %s.", d.Name, d.Service, d.From, d.To, d.Blocked)
					} else {
						s.Line("Declared: %s (%s %s to %s). Begin it: nightjar release start %s", d.Name, d.Service, d.From, d.To, d.Name)
					}
				}
			})
		},
	}
}

// whyText says who holds or ended a release and why, in a few words where there
// is no room for all of them.
func whyText(s *out.Sheet, r *control.Release) string {
	if s.Wide || s.CSV || r.Why == "" {
		return r.Why
	}
	why, _, _ := strings.Cut(r.Why, ": ")
	return r.By + ": " + why
}

func stepName(r *control.Release) string {
	if r.Step < 0 || r.Step >= len(r.Steps) {
		return "–"
	}
	return r.Steps[r.Step].Name
}

func (a *app) releaseStart() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use:   "start [NAME]",
		Short: "Begin a release that the rules in force declare",
		Long: `Begin a release that the rules in force declare; the name may be left out when there
is one. It goes on by itself. With --follow, exit code 1 when it is withdrawn.`,
		Example: `  nightjar release start sailings-to-v2
  nightjar release start sailings-to-v2 --follow`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.releaseNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ask := control.ReleaseAsk{By: author()}
			if len(args) == 1 {
				ask.Name = args[0]
			}
			r, err := c.StartRelease(cmd.Context(), ask)
			if err != nil {
				return err
			}
			if follow {
				return a.followRelease(cmd, c, fmt.Sprint(r.Number))
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) {
				s.Line("Release %d (%s) began: %s of %s to %s. Look: nightjar release show %s --follow", r.Number, r.Name, r.From, r.Service, r.To, r.Name)
			})
		},
	}
	cmd.Flags().BoolVar(&follow, "follow", false, "stay until its end: in place on a terminal, plain lines into a pipe")
	return cmd
}

func (a *app) releaseShow() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use:   "show NAME",
		Short: "One release with its judgements and events",
		Long: `One release, by its name (the newest run of it) or number, with its stages, judgements
and events. With --follow it is shown until its end; exit code 1 when it was withdrawn.`,
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
	cmd.Flags().BoolVar(&follow, "follow", false, "stay until its end: in place on a terminal, plain lines into a pipe")
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
			r, err := c.ActRelease(cmd.Context(), args[0], act, dto.ReleaseAct{By: author(), Why: why})
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) {
				s.Line("Release %d (%s): %s, stage %s.", r.Number, r.Name, r.State, stepName(&r))
			})
		},
	}
	if act != control.ActResume && act != control.ActSkip {
		cmd.Flags().StringVarP(&why, "message", "m", "", "why")
	}
	return cmd
}

func (a *app) releaseKey() *cobra.Command {
	return &cobra.Command{
		Use:   "key",
		Short: "The public key with which receivers check what they are told",
		Example: `  nightjar release key
  nightjar release key -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			k, err := c.NoticeKey(cmd.Context())
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
			fmt.Fprintf(cmd.ErrOrStderr(), "nightjar: %v; trying again\n", err)
		case inPlace:
			name = fmt.Sprint(r.Number) // a newer run of the name is another release
			var page bytes.Buffer
			if err := (&out.Printer{W: &page, Format: a.format, Colour: true}).Show(r, func(s *out.Sheet) { releaseSheet(s, &r, 8) }); err != nil {
				return err
			}
			if redraw(w, page.Bytes(), first) != nil {
				return nil
			}
		default:
			name = fmt.Sprint(r.Number)
			if a.releaseLines(w, &r, &judged, &happened) != nil {
				return nil // whoever read is gone
			}
		}
		if err == nil && r.State.Over() {
			if r.State == release.Withdrawn {
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
func (a *app) releaseLines(w io.Writer, r *control.Release, judged, happened *int) error {
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

func eventText(e *release.Event) string {
	text := strings.TrimPrefix(fmt.Sprintf("%s %s", e.Step, e.Kind), " ")
	if e.By != "" {
		text += " by " + e.By
	}
	if e.Text != "" {
		text += ": " + e.Text
	}
	return text
}

func judgementText(r *control.Release, j *release.Judgement) string {
	text := fmt.Sprintf("%s %s: %s %s, %s %s", j.StepName, j.Verdict, r.To, sideText(&j.To), r.From, sideText(&j.From))
	if f := j.Worst(); f != nil {
		text += "; " + f.Expectation + ": " + f.Measured
	}
	return text
}

func sideText(s *release.Side) string {
	if s.Requests == 0 {
		return "no requests"
	}
	return fmt.Sprintf("%.2f%% of %d", 100**s.Success, s.Requests)
}

// rail is the steps in one line.
func rail(r *control.Release) string {
	var parts []string
	for i, st := range r.Steps {
		mark := " "
		switch {
		case i < r.Step || i == r.Step && r.State == release.Completed:
			mark = "✓"
		case i == r.Step && r.State == release.Withdrawn:
			mark = "✗"
		case i == r.Step && r.State == release.Held:
			mark = "‖"
		case i == r.Step:
			mark = "▶"
		}
		name := st.Name
		if st.Hold {
			name += " (holds)"
		}
		parts = append(parts, "["+mark+" "+name+"]")
	}
	return strings.Join(parts, " ")
}

func releaseSheet(s *out.Sheet, r *control.Release, rows int) {
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
			list = append(list, []string{j.At.Local().Format(time.TimeOnly), j.StepName, string(j.Verdict), fmt.Sprintf("%.1f%%", 100*j.Share), sideText(&j.To), sideText(&j.From), p99Text(&j.To), p99Text(&j.From), why})
		}
		s.Table([]string{"AT", "STAGE", "JUDGED", "SHARE", r.To, r.From, "P99 " + r.To, "P99 " + r.From, "NUMBERS"}, list)
	}
	if s.CSV {
		table()
		return
	}
	s.Line("Release %d: %s, %s of %s to %s, on %s", r.Number, r.Name, r.From, r.Service, r.To, placesText(r.Places))
	s.Line("%s", rail(r))
	s.Line("%s", stateText(r))
	if r.Requests > 0 {
		s.Line("%s was sent %d requests; %d failed, about %.0f more than %s would have.", r.To, r.Requests, r.Bad, r.More, r.From)
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
	for _, n := range r.Notices {
		if n.State != "delivered" {
			s.Line("Not told yet: %s of %s (%s after %s: %s)", n.URL, n.Type, n.State, count(n.Tries, "try"), n.Answer)
		}
	}
}

func p99Text(s *release.Side) string {
	if s.P99MS == nil {
		return "–"
	}
	return fmt.Sprintf("%.1f ms", *s.P99MS)
}

func placesText(places []release.Place) string {
	var parts []string
	for _, p := range places {
		parts = append(parts, p.String())
	}
	return strings.Join(parts, ", ")
}

// stateText says where a release is and what it waits for.
func stateText(r *control.Release) string {
	left := func(seconds float64) string { return (time.Duration(seconds) * time.Second).String() }
	switch r.State {
	case release.Completed, release.Withdrawn:
		return fmt.Sprintf("%s by %s after %s: %s.", r.State, r.By, r.Ended.Sub(r.Began).Round(time.Second), r.Why)
	case release.Held:
		return fmt.Sprintf("held by %s: %s. Go on: nightjar release resume %s", r.By, r.Why, r.Name)
	case release.Ready:
		return "ready"
	case release.Shifting:
		if r.Asking {
			return "shifting: receivers are asked whether the next stage may begin"
		}
		return "shifting: proxies are getting the new weights"
	}
	text := fmt.Sprintf("%s: %s left, judged next in %s", r.State, left(r.Left+0.5), left(r.NextLook+0.5))
	if r.Left == 0 && r.Last != nil {
		text = fmt.Sprintf("%s: %s beyond its time, since it is %s; withdrawn or held after %s", r.State, left(r.Waited), r.Last.Verdict, left(r.Patience))
	}
	return text
}
