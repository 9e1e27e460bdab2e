package cli

import (
	"cmp"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/control"
)

func (a *app) drill() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "drill",
		Short: "Harm requests on purpose, for a limited time",
		Long: `Let a version fail, answer late, or let instances be down, on purpose and for a
limited time. A drill is in force in the proxies at once, beside the rules, and
ends there by itself, even when the service is away.`,
		Example: `  nightjar drill start --service sailings --version v1 --fail 30% --for 30s
  nightjar drill list`,
		Args: exactly(0, "start|list|stop"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.drillStart(), a.drillList(), a.drillStop())
	return cmd
}

func (a *app) drillStart() *cobra.Command {
	ask := control.DrillAsk{}
	cmd := &cobra.Command{
		Use:   "start",
		Short: "Begin a drill",
		Long: `Begin a drill. --fail and --delay harm tries: retries and guards see them as
they would see a failing or slow instance. --down takes whole instances away.`,
		Example: `  nightjar drill start --service sailings --version v1 --fail 100% --for 30s
  nightjar drill start --service sailings --delay 4s --when 'headers: {x-crew: "yes"}' --for 1m`,
		Args: exactly(0, "--service S --fail 30% --for 30s"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ask.By = author()
			d, err := c.StartDrill(cmd.Context(), ask)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(d, func(s *out.Sheet) {
				s.Line("%s began: %s: %s, until %s.", d.ID, d.Target(), d.What, d.Ends.Local().Format(time.TimeOnly))
				if s.CSV {
					drillSheet(s, []control.Drill{d})
				}
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&ask.Service, "service", "", "service to harm")
	f.StringVar(&ask.Version, "version", "", "only this version")
	f.StringVar(&ask.Site, "site", "", "only instances at this site; without --service, those of all services")
	f.StringVar(&ask.Instance, "instance", "", "only this instance of the service")
	f.StringVar(&ask.Fail, "fail", "", "share of the tries that fail, such as 30%")
	f.IntVar(&ask.Status, "status", 0, "status with which they fail (default 503)")
	f.StringVar(&ask.Delay, "delay", "", "time by which every try is late, such as 2s")
	f.BoolVar(&ask.Down, "down", false, "nobody calls the instances")
	f.StringVar(&ask.When, "when", "", "only requests for which this condition of the rule language holds")
	f.StringVar(&ask.For, "for", "30s", "how long, from 1s to 1h")
	cmd.RegisterFlagCompletionFunc("service", func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		return a.serviceNames(cmd, nil, word)
	})
	return cmd
}

func (a *app) drillList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Drills that run or ran, newest first",
		Example: `  nightjar drill list
  nightjar drill list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := c.Drills(cmd.Context())
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(list, func(s *out.Sheet) {
				if len(list.Drills) == 0 {
					s.Line("There was no drill yet. Begin one: nightjar drill start -h")
					return
				}
				drillSheet(s, list.Drills)
			})
		},
	}
}

func (a *app) drillStop() *cobra.Command {
	return &cobra.Command{
		Use:   "stop ID",
		Short: "End a drill before its time",
		Example: `  nightjar drill stop drill-1
  nightjar drill stop drill-1 -o json`,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) (ids []string, _ cobra.ShellCompDirective) {
			if c, err := a.client(); err == nil && len(args) == 0 {
				list, _ := c.Drills(cmd.Context())
				for _, d := range list.Drills {
					if d.Running {
						ids = append(ids, d.ID)
					}
				}
			}
			return ids, cobra.ShellCompDirectiveNoFileComp
		},
		Args: exactly(1, "ID"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := c.StopDrill(cmd.Context(), args[0], author())
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(d, func(s *out.Sheet) {
				s.Line("%s was stopped after %s.", d.ID, d.Stopped.Sub(d.Began).Round(time.Second))
			})
		},
	}
}

func drillSheet(s *out.Sheet, list []control.Drill) {
	var rows [][]string
	for _, d := range list {
		state := "ended"
		switch {
		case d.Running:
			state = "runs, " + max(time.Until(d.Ends), 0).Round(time.Second).String() + " left"
		case d.Stopped != nil:
			state = "stopped"
		}
		rows = append(rows, []string{d.ID, state, d.Target(), d.What, cmp.Or(d.When, "all requests"), d.By, d.Began.Local().Format(time.DateTime), d.Ends.Sub(d.Began).String()})
	}
	s.Table([]string{"DRILL", "STATE", "HARMS", "HOW", "WHICH", "BY", "BEGAN", "FOR"}, rows)
}

// drillLines tell on every sheet what runs now.
func drillLines(s *out.Sheet, m control.Mesh) {
	for _, d := range m.Drills {
		which := ""
		if d.When != "" {
			which = " (when " + d.When + ")"
		}
		s.Line("Drill %s runs for another %s, by %s: %s: %s%s.", d.ID, max(d.Ends.Sub(m.At), 0).Round(time.Second), d.By, d.Target(), d.What, which)
	}
}

func (a *app) activity() *cobra.Command {
	var service string
	var limit int
	cmd := &cobra.Command{
		Use:   "activity",
		Short: "What people did and what proxies saw of their guards, newest first",
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
					s.Line("Nothing happened yet.")
					return
				}
				var rows [][]string
				for _, e := range list.Activity {
					what := e.Service
					if e.Version != "" {
						what += "/" + e.Version
					}
					rows = append(rows, []string{e.At.Local().Format(time.DateTime), e.Who, e.Kind, cmp.Or(e.Instance, what), e.Detail})
				}
				s.Table([]string{"AT", "WHO", "WHAT", "OF", "DETAIL"}, rows)
			})
		},
	}
	cmd.Flags().StringVar(&service, "service", "", "only what concerns this service")
	cmd.Flags().IntVar(&limit, "limit", 30, "how many, at most 200")
	cmd.RegisterFlagCompletionFunc("service", func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		return a.serviceNames(cmd, nil, word)
	})
	return cmd
}

// guardSheet shows how the guards stand in every proxy that calls a service.
func guardSheet(s *out.Sheet, callers []control.Caller) {
	var rows [][]string
	row := func(acts bool, c control.Caller, version, what, state, numbers string) {
		mark := ""
		if acts {
			mark = "!"
			if s.Colour {
				mark, state = text.FgYellow.Sprint(mark), text.FgYellow.Sprint(state)
			}
		}
		rows = append(rows, []string{mark, c.Proxy, version, what, state, numbers})
	}
	ms := func(n int64) string {
		return (time.Duration(n) * time.Millisecond).Round(100 * time.Millisecond).String()
	}
	for _, c := range callers {
		for _, v := range c.Versions {
			if b := v.Breaker; b != nil {
				state := fmt.Sprintf("%s since %s", b.State, ms(b.SinceMS))
				if b.LeftMS > 0 {
					state += ", probes in " + ms(b.LeftMS)
				}
				numbers := fmt.Sprintf("%d of %d failed", b.Failed, b.Seen)
				if b.Slow > 0 {
					numbers += fmt.Sprintf(", %d slow", b.Slow)
				}
				row(b.State != "closed", c, v.Version, "breaker", state, numbers)
			}
			if q := v.Queue; q != nil {
				row(q.InFlight >= q.InFlightMax, c, v.Version, "in-flight", fmt.Sprintf("%d of %d", q.InFlight, q.InFlightMax), fmt.Sprintf("%d of %d waiting", q.Waiting, q.WaitingMax))
			}
			for _, o := range v.Sidelined {
				state := "out for another " + ms(o.LeftMS)
				switch {
				case o.Trial:
					state = "out, a trial is under way"
				case o.LeftMS == 0:
					state = "out, the next request tries it"
				}
				row(true, c, v.Version, "sidelined "+o.Instance, state, fmt.Sprintf("last failure %s, out for the %s time in a row, for %s", o.Cause, ordinal(o.Times), ms(o.ForMS)))
			}
			for _, id := range v.Down {
				state := "not called"
				if v.Mistrusted {
					state = "called all the same: most are unwell at once"
				}
				row(true, c, v.Version, "unwell "+id, state, "health checks fail")
			}
			for _, id := range v.Shut {
				row(true, c, v.Version, "down "+id, "not called", "by a drill")
			}
			for i, site := range v.Sites {
				row(i > 0 && site.Share > 0, c, v.Version, "site "+cmp.Or(site.Site, "none"), out.Percent(site.Share)+" of requests", out.Percent(site.Usable)+" usable")
			}
		}
		if r := c.Retries; r != nil {
			row(r.Left == 0, c, "", "retries", fmt.Sprintf("%d left", r.Left), fmt.Sprintf("%d for %d requests in 10s", r.Retries, r.Requests))
		}
		for _, l := range c.Limits {
			row(false, c, "", "limit of "+l.Route, fmt.Sprintf("%d keys", l.Keys), fmt.Sprintf("room for %d", l.Most))
		}
	}
	if len(rows) == 0 {
		s.Line("\nNo proxy has a guard for it.")
		return
	}
	s.Line("")
	s.Table([]string{"", "IN PROXY", "VERSION", "GUARD", "STATE", "NUMBERS"}, rows)
}

func ordinal(n int) string {
	switch n {
	case 1:
		return "1st"
	case 2:
		return "2nd"
	case 3:
		return "3rd"
	}
	return fmt.Sprintf("%dth", n)
}
