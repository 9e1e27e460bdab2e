package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/dto"
	"nightjar/cli/out"
	"nightjar/control"
	"nightjar/core/rules"
)

func (a *app) standin() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "standin",
		Short: "The simulated workloads of the sample mesh",
		Example: `  nightjar standin list
  nightjar standin set sailings/v2 --errors 30%`,
		Args: exactly(0, "list|set"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "list",
		Short: "The simulated workloads and how they behave now",
		Example: `  nightjar standin list
  nightjar standin list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.Standins(cmd.Context())
			if err != nil {
				return err
			}
			return a.standins(cmd, list)
		},
	}, a.standinSet())
	return cmd
}

func (a *app) standinSet() *cobra.Command {
	var errors string
	var median, slower time.Duration
	var atOnce int
	var calls, needs []string
	change := control.StandinChange{}
	cmd := &cobra.Command{
		Use:   "set SERVICE/VERSION|INSTANCE",
		Short: "Let simulated workloads behave otherwise, from the next request on",
		Example: `  nightjar standin set sailings/v2 --reset --slower 60ms
  nightjar standin set sailings/v1 --needs berths`,
		Args: exactly(1, "SERVICE/VERSION"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) (names []string, _ cobra.ShellCompDirective) {
			if c, err := a.client(); err == nil && len(args) == 0 {
				list, _ := c.Standins(cmd.Context())
				for _, s := range list.Standins {
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
			if set("at-once") {
				change.AtOnce = &atOnce
			}
			if set("calls") {
				change.Calls = &calls
			}
			if set("needs") {
				change.Needs = &needs
			}
			if change == (control.StandinChange{}) {
				return usagef("nothing to change: give --errors, --median, --slower, --at-once, --calls, --needs or --reset")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			change.By = author()
			list, err := c.SetStandin(cmd.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.standins(cmd, list)
		},
	}
	f := cmd.Flags()
	f.StringVar(&errors, "errors", "", "share of the requests answered with 500, such as 30%")
	f.DurationVar(&median, "median", 0, "median of the service time")
	f.DurationVar(&slower, "slower", 0, "time by which the median is above that of the sample")
	f.IntVar(&atOnce, "at-once", 0, "requests worked on at once; more wait")
	f.StringSliceVar(&calls, "calls", nil, "services that it calls, such as berths,tides")
	f.StringSliceVar(&needs, "needs", nil, "of these, those without which it answers 502")
	f.BoolVar(&change.Reset, "reset", false, "first, as the sample says")
	return cmd
}

func (a *app) standins(cmd *cobra.Command, list dto.Standins) error {
	return a.printer(cmd).Show(list, func(s *out.Sheet) {
		if len(list.Standins) == 0 {
			s.Line("No simulated workloads run beside this service. The sample mesh has some: nightjar demo")
			return
		}
		var rows [][]string
		for _, x := range list.Standins {
			changed := ""
			if x.Changed {
				changed = "changed"
			}
			calls := slices.Clone(x.Calls)
			for i, name := range calls {
				if slices.Contains(x.Needs, name) {
					calls[i] = name + " (needed)"
				}
			}
			rows = append(rows, []string{x.Instance, x.Service + "/" + x.Version, x.Site, fmt.Sprintf("%.4g ms", x.MedianMS), fmt.Sprintf("%.4g%%", 100*x.Errors), fmt.Sprint(x.AtOnce), strings.Join(calls, ", "), changed})
		}
		s.Table([]string{"INSTANCE", "PLAYS", "SITE", "MEDIAN>", "ERRORS>", "AT ONCE>", "CALLS", ""}, rows)
	})
}
