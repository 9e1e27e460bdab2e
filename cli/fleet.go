package cli

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/cli/out"
)

func (a *app) fleet() *cobra.Command {
	return &cobra.Command{
		Use:   "fleet",
		Short: "Proxies: where they are and which revision they follow",
		Example: `  nightjar fleet
  nightjar fleet -o csv`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			f, err := c.Fleet(cmd.Context())
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(f, func(s *out.Sheet) {
				var rows [][]string
				for _, p := range f.Proxies {
					what := strings.Trim(p.Service+"/"+p.Version, "/")
					if p.Gateway != "" {
						what = "gateway " + p.Gateway
					}
					state := "follows"
					switch {
					case !p.Connected:
						state = fmt.Sprintf("away for %s", time.Since(p.Seen).Round(time.Second))
					case p.Error != "":
						state = p.Error
					case p.Behind:
						state = "behind"
					}
					rows = append(rows, []string{p.ID, cmp.Or(what, "calls only"), p.Site, fmt.Sprint(p.Revision), state, p.Inbound, p.Outbound, p.Program})
				}
				s.Table([]string{"PROXY", "BESIDE", "SITE", "REVISION>", "STATE", "INBOUND", "OUTBOUND", "PROGRAM"}, rows)
			})
		},
	}
}
