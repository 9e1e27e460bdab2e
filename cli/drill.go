package cli

import (
	"cmp"
	"time"

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
				s.Line("%s began: %s: %s, until %s.", d.ID, d.Target, d.What, d.Ends.Local().Format(time.TimeOnly))
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
		rows = append(rows, []string{d.ID, state, d.Target, d.What, cmp.Or(d.When, "all requests"), d.By, d.Began.Local().Format(time.DateTime), d.Ends.Sub(d.Began).String()})
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
		s.Line("Drill %s runs for another %s, by %s: %s: %s%s.", d.ID, max(d.Ends.Sub(m.At), 0).Round(time.Second), d.By, d.Target, d.What, which)
	}
}
