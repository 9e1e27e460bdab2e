package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) links() *cobra.Command {
	var window windowFlags
	var from, to string
	cmd := &cobra.Command{
		Use:   "links",
		Short: "Who calls whom: what callers got, and what workloads answered",
		Long: `Who calls whom, with the figures as callers saw them and as workloads answered. The
difference is what the mesh adds (time) or saves (failures that a retry hid).`,
		Example: `  nightjar links
  nightjar links --from kiosk -o wide`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.showMesh(cmd, &window, func(p *out.Printer, m model.Mesh) error {
				list := []model.Link{}
				for _, l := range m.Links {
					if (from == "" || l.From == from) && (to == "" || l.To == to) {
						list = append(list, l)
					}
				}
				return p.Show(linksOut{m.End, m.Window, list}, func(s *out.Sheet) { linkSheet(s, m, list) })
			})
		},
	}
	window.add(cmd)
	a.addSite(cmd, &window.site)
	cmd.Flags().StringVar(&from, "from", "", "only requests of this service or gateway")
	cmd.Flags().StringVar(&to, "to", "", "only requests to this service")
	a.completeService(cmd, "from", "to")
	return cmd
}

// linksOut is the output of the command as JSON.
type linksOut struct {
	End    int64        `json:"end"`
	Window int64        `json:"window"`
	Links  []model.Link `json:"links"`
}

func linkSheet(s *out.Sheet, m model.Mesh, list []model.Link) {
	s.Line("Figures of the last %d s. WORKLOAD: as the workloads answered, each attempt by itself.\n", m.Window)
	if len(list) == 0 {
		s.Line("There were no requests between services.")
		return
	}
	header := []string{
		"FROM",
		"TO",
		"TRANSPORT",
		"REQ/S>",
		"SUCCESS>",
		"WORKLOAD SUCCESS>",
		"ATTEMPTS/REQ>",
		"P50 (ms)>",
		"P95 (ms)>",
		"P99 (ms)>",
		"WORKLOAD P95 (ms)>",
	}
	if s.Wide {
		header = append(
			header,
			"FIRST ATTEMPT>",
			"FAILED>",
			"REFUSED>",
			"ABANDONED>",
			"CALLER FAULT>",
			"REQUEST BYTES>",
			"RESPONSE BYTES>",
			"OPEN CONNECTIONS>",
		)
	}
	var rows [][]string
	for _, l := range list {
		f := l.Figures
		row := []string{
			l.From,
			l.To,
			l.Transport,
			fmt.Sprintf("%.1f", f.RPS),
			out.Share(f.Success),
			workloadSuccess(f),
			perRequest(f.AttemptsPerRequest),
			out.MS(f.P50MS),
			out.MS(f.P95MS),
			out.MS(f.P99MS),
			workloadP95(f),
		}
		if s.Wide {
			row = append(
				row,
				out.Share(f.FirstAttempt),
				fmt.Sprint(f.Failed),
				fmt.Sprint(f.Refused),
				fmt.Sprint(f.Abandoned),
				fmt.Sprint(f.CallerFault),
				amount(f.RequestBytes),
				amount(f.ResponseBytes),
				opened(f.OpenConnections),
			)
		}
		rows = append(rows, row)
	}
	s.Table(header, rows)
}

func workloadSuccess(f model.Figures) string {
	if f.Workload == nil {
		return "–"
	}
	return out.Share(f.Workload.Success)
}

func workloadP95(f model.Figures) string {
	if f.Workload == nil {
		return "–"
	}
	return out.MS(f.Workload.P95MS)
}

func opened(n int64) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

// amount writes bytes, exactly up to 10 KiB.
func amount(n uint64) string {
	switch {
	case n < 10<<10:
		return fmt.Sprintf("%d B", n)
	case n < 10<<20:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	case n < 10<<30:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
}

// completeService completes flags with the names of services.
func (a *app) completeService(cmd *cobra.Command, flags ...string) {
	for _, name := range flags {
		cmd.RegisterFlagCompletionFunc(
			name,
			func(cmd *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
				return a.serviceNames(cmd, nil, word)
			},
		)
	}
}
