package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/control"
)

func (a *app) links() *cobra.Command {
	var window windowFlags
	var from, to string
	cmd := &cobra.Command{
		Use:   "links",
		Short: "Who calls whom: what the callers got, and what the workloads answered",
		Long: `Who calls whom, with the figures of the callers' side and of the workloads' side.
The difference is what the mesh adds (time) or saves (failures that a retry hid).`,
		Example: `  nightjar links
  nightjar links --from kiosk -o wide`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.showMesh(cmd, &window, func(p *out.Printer, m control.Mesh) error {
				list := []control.Link{}
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
	cmd.Flags().StringVar(&from, "from", "", "only calls of this service or gateway")
	cmd.Flags().StringVar(&to, "to", "", "only calls of this service")
	a.completeService(cmd, "from", "to")
	return cmd
}

// linksOut is the answer of links as JSON.
type linksOut struct {
	End    int64          `json:"end"`
	Window int64          `json:"window"`
	Links  []control.Link `json:"links"`
}

func linkSheet(s *out.Sheet, m control.Mesh, list []control.Link) {
	s.Line("Figures of the last %d s. APP is what the workloads themselves answered.\n", m.Window)
	if len(list) == 0 {
		s.Line("Nobody called anybody.")
		return
	}
	header := []string{"FROM", "TO", "HOP", "RPS>", "SUCCESS>", "APP SUCCESS>", "LOAD>", "P50>", "P95>", "P99>", "APP P95>"}
	if s.Wide {
		header = append(header, "FIRST TRY>", "FAILED>", "REFUSED>", "ABANDONED>", "CALLER>", "SENT>", "RECEIVED>", "OPEN>")
	}
	var rows [][]string
	for _, l := range list {
		f := l.Figures
		row := []string{l.From, l.To, l.Hop, fmt.Sprintf("%.1f", f.RPS), out.Share(f.Success), appSuccess(f), load(f.LoadFactor),
			out.Millis(f.P50MS), out.Millis(f.P95MS), out.Millis(f.P99MS), appP95(f)}
		if s.Wide {
			row = append(row, out.Share(f.FirstTry), fmt.Sprint(f.Failed), fmt.Sprint(f.Refused), fmt.Sprint(f.Abandoned), fmt.Sprint(f.CallerFault), amount(f.Sent), amount(f.Received), opened(f.Open))
		}
		rows = append(rows, row)
	}
	s.Table(header, rows)
}

func appSuccess(f control.Figures) string {
	if f.App == nil {
		return "–"
	}
	return out.Share(f.App.Success)
}

func appP95(f control.Figures) string {
	if f.App == nil {
		return "–"
	}
	return out.Millis(f.App.P95MS)
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

// completeService completes flags with the names of services that run now.
func (a *app) completeService(cmd *cobra.Command, flags ...string) {
	for _, name := range flags {
		cmd.RegisterFlagCompletionFunc(name, func(cmd *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
			return a.serviceNames(cmd, nil, word)
		})
	}
}
