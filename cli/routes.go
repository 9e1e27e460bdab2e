package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) routes() *cobra.Command {
	var window windowFlags
	var by string
	cmd := &cobra.Command{
		Use:   "routes [SERVICE]",
		Short: "Routes with their share of requests, success, latency, attempts and refusals",
		Example: `  nightjar routes --sort refused
  nightjar routes sailings -o wide`,
		ValidArgsFunction: a.serviceNames,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("expected: %s [SERVICE]", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if by != "" && routeOrders[by] == nil {
				return usagef(
					"--sort %s: expected one of %s",
					by,
					strings.Join(slices.Sorted(maps.Keys(routeOrders)), ", "),
				)
			}
			return a.showMesh(cmd, &window, func(p *out.Printer, m model.Mesh) error {
				lists := routeLists(m)
				if len(args) > 0 {
					lists = slices.DeleteFunc(lists, func(l routeList) bool { return l.Parent != args[0] })
					if len(lists) == 0 {
						return usagef(
							"there is no service or gateway %s with routes: name one of %s",
							args[0],
							parentNames(m),
						)
					}
				}
				if order := routeOrders[by]; order != nil {
					lists = sorted(lists, order)
				}
				return p.Show(routesOut{m.End, m.Window, lists}, func(s *out.Sheet) { routeSheet(s, m, lists) })
			})
		},
	}
	window.add(cmd)
	a.addSite(cmd, &window.site)
	cmd.Flags().StringVar(&by, "sort", "",
		"order: requests, success, latency, attempts or refused, those to look at first on top (default: as they match)")
	return cmd
}

// routeOrders are the values of --sort: what a route is sorted by, the largest first.
var routeOrders = map[string]func(f *model.Figures) float64{
	"requests": func(f *model.Figures) float64 { return float64(f.Requests) },
	"success": func(f *model.Figures) float64 {
		if f.Success == nil {
			return -1
		}
		return 1 - *f.Success
	},
	"latency": func(f *model.Figures) float64 { return f.P95MS },
	"attempts": func(f *model.Figures) float64 {
		if f.AttemptsPerRequest == nil {
			return 0
		}
		return *f.AttemptsPerRequest
	},
	"refused": func(f *model.Figures) float64 { return float64(f.Refused) },
}

// sorted is the routes one by one in an order of all of them.
func sorted(lists []routeList, by func(f *model.Figures) float64) (out []routeList) {
	for _, l := range lists {
		for _, r := range l.Routes {
			out = append(out, routeList{l.Parent, l.Kind, []model.Route{r}})
		}
	}
	slices.SortStableFunc(out, func(a, b routeList) int {
		return cmp.Compare(by(&b.Routes[0].Figures), by(&a.Routes[0].Figures))
	})
	return out
}

// routesOut is the output of the command as JSON.
type routesOut struct {
	End    int64       `json:"end"`    // of the window, in seconds since 1970
	Window int64       `json:"window"` // in seconds
	Routes []routeList `json:"routes"`
}

// routeList is the routes of one service or gateway, in match order.
type routeList struct {
	Parent string        `json:"parent"`
	Kind   string        `json:"kind"` // service or gateway
	Routes []model.Route `json:"routes"`
}

func routeLists(m model.Mesh) []routeList {
	list := []routeList{}
	for _, g := range m.Gateways {
		list = append(list, routeList{g.Name, "gateway", g.Routes})
	}
	for _, s := range m.Services {
		if len(s.Routes) > 0 {
			list = append(list, routeList{s.Name, "service", s.Routes})
		}
	}
	return list
}

func parentNames(m model.Mesh) string {
	var names []string
	for _, l := range routeLists(m) {
		names = append(names, l.Parent)
	}
	return strings.Join(names, ", ")
}

func routeSheet(s *out.Sheet, m model.Mesh, lists []routeList) {
	s.Line("Figures of the last %d s. SHARE: of all requests that these routes took.\n", m.Window)
	header := []string{
		"SERVICE",
		"ROUTE",
		"WHEN",
		"SHARE>",
		"REQ/S>",
		"SUCCESS>",
		"P50 (ms)>",
		"P95 (ms)>",
		"P99 (ms)>",
		"ATTEMPTS/REQ>",
		"REFUSED>",
	}
	if s.Wide {
		header = append(
			header,
			"FIRST ATTEMPT>",
			"REQUEST BYTES>",
			"RESPONSE BYTES>",
			"FAILURES BY REASON",
			"DEFINED AT",
		)
	}
	var rows [][]string
	for _, l := range lists {
		for i, r := range l.Routes {
			name := l.Parent
			if i > 0 && !s.CSV {
				name = ""
			}
			when := strings.Join(r.When, "; or ")
			if when == "" {
				when = "always"
			}
			f := r.Figures
			row := []string{
				name,
				r.Name,
				when,
				out.Share(r.Share),
				fmt.Sprintf("%.1f", f.RPS),
				out.Share(f.Success),
				out.MS(f.P50MS),
				out.MS(f.P95MS),
				out.MS(f.P99MS),
				perRequest(f.AttemptsPerRequest),
				fmt.Sprint(f.Refused),
			}
			if s.Wide {
				row = append(
					row,
					out.Share(f.FirstAttempt),
					amount(f.RequestBytes),
					amount(f.ResponseBytes),
					reasonList(f.Reasons),
					r.At.String(),
				)
			}
			rows = append(rows, row)
		}
	}
	if len(rows) == 0 {
		s.Line("No routes are in force: requests are balanced over all instances of a service.")
		return
	}
	s.Table(header, rows)
}

// reasonList is failures by reason, the most frequent first.
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
