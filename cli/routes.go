package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/control"
)

func (a *app) routes() *cobra.Command {
	var window windowFlags
	cmd := &cobra.Command{
		Use:   "routes [SERVICE]",
		Short: "Per route: share of the requests, success, latency, tries, refusals",
		Example: `  nightjar routes
  nightjar routes sailings -o wide`,
		ValidArgsFunction: a.serviceNames,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("expected: %s [SERVICE]", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.showMesh(cmd, &window, func(p *out.Printer, m control.Mesh) error {
				ladders := laddersOf(m)
				if len(args) > 0 {
					ladders = slices.DeleteFunc(ladders, func(l ladder) bool { return l.Of != args[0] })
					if len(ladders) == 0 {
						return usagef("there is no service or gateway %s with routes; these have some: %s", args[0], ladderNames(m))
					}
				}
				return p.Show(routesOut{m.End, m.Window, ladders}, func(s *out.Sheet) { routeSheet(s, m, ladders) })
			})
		},
	}
	window.add(cmd)
	return cmd
}

// routesOut is the answer of routes as JSON.
type routesOut struct {
	End     int64    `json:"end"`
	Window  int64    `json:"window"`
	Ladders []ladder `json:"ladders"`
}

// ladder is the routes of one service or gateway, in match order.
type ladder struct {
	Of     string          `json:"of"`
	Kind   string          `json:"kind"` // service or gateway
	Routes []control.Route `json:"routes"`
}

func laddersOf(m control.Mesh) []ladder {
	list := []ladder{}
	for _, g := range m.Gateways {
		list = append(list, ladder{g.Name, "gateway", g.Routes})
	}
	for _, s := range m.Services {
		if len(s.Routes) > 0 {
			list = append(list, ladder{s.Name, "service", s.Routes})
		}
	}
	return list
}

func ladderNames(m control.Mesh) string {
	var names []string
	for _, l := range laddersOf(m) {
		names = append(names, l.Of)
	}
	return strings.Join(names, ", ")
}

func routeSheet(s *out.Sheet, m control.Mesh, ladders []ladder) {
	s.Line("Figures of the last %d s; a share is of all requests on that ladder.\n", m.Window)
	header := []string{"LADDER", "ROUTE", "WHEN", "SHARE>", "RPS>", "SUCCESS>", "P50>", "P95>", "P99>", "LOAD>", "REFUSED>"}
	if s.Wide {
		header = append(header, "FIRST TRY>", "SENT>", "RECEIVED>", "REASONS", "WRITTEN")
	}
	var rows [][]string
	for _, l := range ladders {
		for i, r := range l.Routes {
			name := l.Of
			if i > 0 && !s.CSV {
				name = ""
			}
			when := strings.Join(r.When, "; or ")
			if when == "" {
				when = "always"
			}
			f := r.Figures
			row := []string{name, r.Name, when, out.Share(r.Share), fmt.Sprintf("%.1f", f.RPS), out.Share(f.Success), out.Millis(f.P50MS), out.Millis(f.P95MS), out.Millis(f.P99MS),
				load(f.LoadFactor), fmt.Sprint(f.Refused)}
			if s.Wide {
				row = append(row, out.Share(f.FirstTry), amount(f.Sent), amount(f.Received), reasonList(f.Reasons), r.At.String())
			}
			rows = append(rows, row)
		}
	}
	if len(rows) == 0 {
		s.Line("No routes are in force: every service is balanced plainly over all its instances.")
		return
	}
	s.Table(header, rows)
}

// reasonList is why the mesh answered, the most frequent first.
func reasonList(reasons map[string]uint64) string {
	var parts []string
	for name := range reasons {
		parts = append(parts, name)
	}
	slices.SortFunc(parts, func(a, b string) int {
		if reasons[a] != reasons[b] {
			return int(reasons[b]) - int(reasons[a])
		}
		return strings.Compare(a, b)
	})
	for i, name := range parts {
		parts[i] = fmt.Sprintf("%s %d", name, reasons[name])
	}
	return strings.Join(parts, ", ")
}
