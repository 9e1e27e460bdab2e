package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) sites() *cobra.Command {
	w := windowFlags{seconds: 60}
	cmd := &cobra.Command{
		Use:   "sites",
		Short: "Sites: what runs there, how others reach it, and the requests between them",
		Long: `List the sites, and the requests between them as their callers saw them.

REACHED is how other sites call the instances there: through the crossing of the site, or
each at its own address. KiB/S are the bytes of bodies, in both directions.`,
		Example: `  nightjar sites
  nightjar sites --window 600 -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := w.check(); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.follow(cmd, w.follow, func(ctx context.Context, p *out.Printer) error {
				l, err := c.Sites(ctx, w.seconds, w.at())
				if err != nil {
					return err
				}
				return p.Show(l, func(s *out.Sheet) { siteSheet(s, l) })
			})
		},
	}
	w.add(cmd)
	return cmd
}

func siteSheet(s *out.Sheet, l model.Sites) {
	if len(l.Sites) == 0 {
		s.Line("There are no sites. Name them in the rules (sites: [north-quay, south-quay]), and start proxies with --site NAME.")
		return
	}
	header := append([]string{"", "SITE", "REACHED", "PROXIES>", "INSTANCES>", "SERVICES"}, figureHeader...)
	if s.Wide {
		header = append(header, "GATEWAYS", "CROSSING", "CONNECTIONS>", "CARRIED>", "UNKNOWN>", "UNREACHABLE>", "IN (MiB)>", "OUT (MiB)>")
	}
	var rows [][]string
	for _, site := range l.Sites {
		mark, reached := "", "directly"
		if site.Crossing != "" {
			reached = "through " + site.Crossing
		}
		if site.Problem != "" {
			mark, reached = "!", reached+": "+site.Problem
			if s.Colour {
				mark, reached = out.Paint(out.Yellow, mark), out.Paint(out.Yellow, reached)
			}
		}
		proxies := fmt.Sprint(site.Proxies)
		if site.Away > 0 {
			proxies = fmt.Sprintf("%d (%d away)", site.Proxies, site.Away)
		}
		row := append([]string{
			mark, site.Name, reached, proxies, fmt.Sprint(site.Instances), strings.Join(site.Services, ", "),
		}, figureCells(site.Figures)...)
		if !s.Wide {
			rows = append(rows, row)
			continue
		}
		row = append(row, strings.Join(site.Gateways, ", "))
		if len(site.Crossings) == 0 {
			rows = append(rows, append(row, "", "", "", "", "", "", ""))
		}
		for i, c := range site.Crossings {
			if i > 0 {
				row = make([]string, len(row))
			}
			rows = append(rows, append(row[:len(row):len(row)], c.Proxy, fmt.Sprint(c.Connections),
				fmt.Sprint(c.Carried.Connections), fmt.Sprint(c.Carried.Unknown), fmt.Sprint(c.Carried.Unreachable),
				out.MiB(c.Carried.BytesIn), out.MiB(c.Carried.BytesOut)))
		}
	}
	s.Table(header, rows)
	if len(l.Traffic) == 0 {
		s.Line("\nThere were no requests in the last %d s.", l.Window)
		return
	}
	s.Line("\nRequests of the last %d s, by the sites of caller and instance:\n", l.Window)
	rows = nil
	for _, t := range l.Traffic {
		f := t.Figures
		rate := float64(f.RequestBytes+f.ResponseBytes) / 1024 / float64(max(l.Window, 1))
		rows = append(rows, append(append([]string{cmp.Or(t.From, "no site"), cmp.Or(t.To, "no site")}, figureCells(f)...),
			fmt.Sprintf("%.1f", rate)))
	}
	s.Table(append(append([]string{"FROM", "TO"}, figureHeader...), "KiB/S>"), rows)
}
