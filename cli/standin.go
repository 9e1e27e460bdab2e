package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/core/rules"
)

func (a *app) standin() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "standin",
		Short: "The stand-ins of the sample mesh: simulated workloads",
		Example: `  nightjar standin list
  nightjar standin set sailings/v2 --errors 30%`,
		Args: exactly(0, "list|set"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "list",
		Short: "The stand-ins and how they behave now",
		Example: `  nightjar standin list
  nightjar standin list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.StandIns(cmd.Context())
			if err != nil {
				return err
			}
			return a.standIns(cmd, list)
		},
	}, a.standinSet())
	return cmd
}

func (a *app) standinSet() *cobra.Command {
	var errors string
	var median, slower time.Duration
	var concurrency int
	var calls, requires []string
	change := model.StandInChange{}
	cmd := &cobra.Command{
		Use:   "set SERVICE/VERSION|INSTANCE",
		Short: "Change how stand-ins behave, from the next request on",
		Example: `  nightjar standin set sailings/v2 --reset --slower 60ms
  nightjar standin set sailings/v1 --requires berths`,
		Args: exactly(1, "SERVICE/VERSION"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) (names []string, _ completion) {
			if c, err := a.client(); err == nil && len(args) == 0 {
				list, _ := c.StandIns(cmd.Context())
				for _, s := range list.StandIns {
					names = append(names, s.Service+"/"+s.Version, s.Instance)
				}
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			set := cmd.Flags().Changed
			if set("errors") {
				p, err := rules.ParsePercent(errors)
				if err != nil {
					return usagef("--errors: %v", err)
				}
				share := p.Share()
				change.Errors = &share
			}
			ms := func(d time.Duration) *float64 { v := float64(d) / float64(time.Millisecond); return &v }
			if set("median") {
				change.MedianMS = ms(median)
			}
			if set("slower") {
				change.SlowerMS = ms(slower)
			}
			if set("concurrency") {
				change.Concurrency = &concurrency
			}
			if set("calls") {
				change.Calls = &calls
			}
			if set("requires") {
				change.Requires = &requires
			}
			if change == (model.StandInChange{}) {
				return usagef(
					"nothing to change: use --errors, --median, --slower, --concurrency, --calls, --requires " +
						"or --reset",
				)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.ChangeStandIn(cmd.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.standIns(cmd, list)
		},
	}
	f := cmd.Flags()
	f.StringVar(&errors, "errors", "", "share of the requests that it answers with 500, such as 30%")
	f.DurationVar(&median, "median", 0, "median of the service time")
	f.DurationVar(&slower, "slower", 0, "how much slower than in the sample")
	f.IntVar(&concurrency, "concurrency", 0, "requests that it works on at once; more of them wait")
	f.StringSliceVar(&calls, "calls", nil, "services that it calls, such as berths,tides")
	f.StringSliceVar(&requires, "requires", nil, "of these, services without which it answers 502")
	f.BoolVar(&change.Reset, "reset", false, "first reset to the settings of the sample")
	return cmd
}

func (a *app) standIns(cmd *cobra.Command, list model.StandInList) error {
	return a.printer(cmd).Show(list, func(s *out.Sheet) {
		if len(list.StandIns) == 0 {
			s.Line("This service has no stand-ins. The sample mesh has some: nightjar demo")
			return
		}
		var rows [][]string
		for _, x := range list.StandIns {
			changed := ""
			if x.IsChanged {
				changed = "changed"
			}
			calls := slices.Clone(x.Calls)
			for i, name := range calls {
				if slices.Contains(x.Requires, name) {
					calls[i] = name + " (required)"
				}
			}
			rows = append(
				rows,
				[]string{
					x.Instance,
					x.Service + "/" + x.Version,
					x.Site,
					fmt.Sprintf("%.1f", x.MedianMS),
					fmt.Sprintf("%.4g%%", 100*x.Errors),
					fmt.Sprint(x.Concurrency),
					strings.Join(calls, ", "),
					changed,
				},
			)
		}
		s.Table([]string{"INSTANCE", "VERSION", "SITE", "MEDIAN (ms)>", "ERRORS>", "CONCURRENCY>", "CALLS", ""}, rows)
	})
}
