package cli

import (
	"cmp"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) activity() *cobra.Command {
	f := model.ActivityFilter{}
	cmd := &cobra.Command{
		Use:   "activity",
		Short: "Changes and guard events, newest first",
		Example: `  nightjar activity --about rules --who mara
  nightjar activity --service sailings -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.Limit < 1 || f.Limit > 200 {
				return usagef("--limit %d: expected 1 to 200", f.Limit)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.Activity(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(list, func(s *out.Sheet) {
				if len(list.Activity) == 0 {
					s.Line("There is no such activity.")
					return
				}
				var rows [][]string
				for _, e := range list.Activity {
					what := e.Service
					if e.Version != "" {
						what += "/" + e.Version
					}
					rows = append(
						rows,
						[]string{e.At.Local().Format(time.DateTime), e.Who, e.Kind, cmp.Or(e.Instance, what), e.Detail},
					)
				}
				s.Table([]string{"TIME", "WHO", "EVENT", "TARGET", "DETAIL"}, rows)
			})
		},
	}
	cmd.Flags().StringVar(&f.Service, "service", "", "only what concerns this service")
	cmd.Flags().StringVar(&f.Who, "who", "", "only what somebody did or reported whose name has this part")
	cmd.Flags().StringVar(&f.About, "about", "", "only rules, drills, proxies or guards")
	cmd.Flags().IntVar(&f.Limit, "limit", 30, "how many, at most 200")
	subjects := []string{model.AboutRules, model.AboutDrills, model.AboutProxies, model.AboutGuards}
	cmd.RegisterFlagCompletionFunc("about", cobra.FixedCompletions(subjects, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc(
		"service",
		func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			return a.serviceNames(cmd, nil, word)
		},
	)
	return cmd
}
