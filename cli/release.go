package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
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
			q := model.StartReleaseRequest{}
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
			r, err := c.ActOnRelease(cmd.Context(), args[0], act, model.ReleaseAction{Why: why})
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) {
				s.Line("Release %d (%s): %s, stage %s.", r.Number, r.Name, r.State, stepName(&r))
			})
		},
	}
	cmd.Flags().StringVarP(&why, "message", "m", "", "why")
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
