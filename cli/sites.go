package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

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
	cmd.AddCommand(a.siteChange("drain"), a.siteChange("resume"))
	return cmd
}

// siteChange is the command that drains a site, or has it take its requests back.
func (a *app) siteChange(verb string) *cobra.Command {
	var over time.Duration
	var wait bool
	cmd := &cobra.Command{
		Use:   verb + " SITE",
		Short: "Have the instances of a site give their requests away, for maintenance",
		Long: `Have the instances of a site give their requests away to those of other sites, bit by bit.
Requests under way are not touched, and none is refused for want of another instance: what
cannot move is listed, and stays. It lasts until "nightjar sites resume", also while the
service is away.`,
		Example: `  nightjar sites drain north-quay --over 2m
  nightjar sites drain north-quay --over 30s --wait`,
		Args: exactly(1, "SITE (see nightjar sites)"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			change := c.DrainSite
			if verb == "resume" {
				change = c.ResumeSite
			}
			d, err := change(cmd.Context(), args[0], over.String())
			if err != nil {
				return err
			}
			if wait {
				select {
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				case <-time.After(time.Until(d.Ends) + time.Second):
				}
			}
			return a.printer(cmd).Show(d, func(s *out.Sheet) { drainSheet(s, d, wait) })
		},
	}
	if verb == "resume" {
		cmd.Short = "Have the instances of a drained site take their requests back"
		cmd.Long = "Have the instances of a site that is drained take their requests back, bit by bit."
		cmd.Example = `  nightjar sites resume north-quay --over 1m
  nightjar sites resume north-quay -o json`
	}
	cmd.Flags().DurationVar(&over, "over", 0, "time in which it happens, at most 24h, such as 2m; 0: at once")
	cmd.Flags().BoolVar(&wait, "wait", false, "return when it is done")
	return cmd
}

func drainSheet(s *out.Sheet, d model.Drain, isDone bool) {
	what, done := "gives its requests away", "has given its requests away"
	if d.IsReturning {
		what, done = "takes its requests back", "has its requests back"
	}
	if isDone {
		s.Line("Site %s %s.", d.Site, done)
	} else {
		s.Line("Site %s %s until %s.", d.Site, what, d.Ends.Local().Format(time.TimeOnly))
	}
	for i, stays := range d.Stays {
		if i == 0 {
			s.Line("What stays:")
		}
		s.Line("  %s", stays)
	}
}

// drainState is what becomes of the requests of a site, in words.
func drainState(d *model.Drain) string {
	switch {
	case d == nil:
		return ""
	case d.IsReturning:
		return fmt.Sprintf("; takes its requests back, %.0f%% away", 100*d.Leaves)
	case d.Leaves >= 1:
		return "; drained"
	}
	return fmt.Sprintf("; drains, %.0f%% given away", 100*d.Leaves)
}

func siteSheet(s *out.Sheet, l model.Sites) {
	if len(l.Sites) == 0 {
		s.Line("There are no sites. Name them in the rules (sites: [north-quay, south-quay]), and start proxies " +
			"with --site NAME.")
		return
	}
	header := append([]string{"", "SITE", "REACHED", "PROXIES>", "INSTANCES>", "SERVICES"}, figureHeader...)
	if s.Wide {
		header = append(header, "GATEWAYS", "CROSSING", "CONNECTIONS>", "CARRIED>", "UNKNOWN>", "UNREACHABLE>",
			"IN (MiB)>", "OUT (MiB)>")
	}
	var rows [][]string
	for _, site := range l.Sites {
		mark, reached := "", "directly"
		if site.Crossing != "" {
			reached = "through " + site.Crossing
		}
		reached += drainState(site.Drain)
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
		row := append([]string{cmp.Or(t.From, "no site"), cmp.Or(t.To, "no site")}, figureCells(f)...)
		rows = append(rows, append(row, fmt.Sprintf("%.1f", rate)))
	}
	s.Table(append(append([]string{"FROM", "TO"}, figureHeader...), "KiB/S>"), rows)
}
