package cli

import (
	"cmp"
	"time"

	"github.com/spf13/cobra"

	"nightjar/cli/out"
)

func (a *app) activity() *cobra.Command {
	var service string
	var limit int
	cmd := &cobra.Command{
		Use:   "activity",
		Short: "Changes and guard events, newest first",
		Example: `  nightjar activity
  nightjar activity --service sailings -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 || limit > 200 {
				return usagef("--limit %d: expected 1 to 200", limit)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.Activity(cmd.Context(), service, 0, limit)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(list, func(s *out.Sheet) {
				if len(list.Activity) == 0 {
					s.Line("There is no activity yet.")
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
	cmd.Flags().StringVar(&service, "service", "", "only what concerns this service")
	cmd.Flags().IntVar(&limit, "limit", 30, "how many, at most 200")
	cmd.RegisterFlagCompletionFunc(
		"service",
		func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			return a.serviceNames(cmd, nil, word)
		},
	)
	return cmd
}
