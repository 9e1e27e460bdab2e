package cli

import (
	"cmp"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) drill() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "drill",
		Short: "Inject failures for a limited time",
		Long: `Let attempts fail, delay them, or take instances down, on purpose and for a limited
time. A drill is in force in the proxies at once, beside the rules, and ends there by
itself, even when the service is down.`,
		Example: `  nightjar drill start --service sailings --version v1 --fail 30% --for 30s
  nightjar drill list`,
		Args: exactly(0, "start|list|stop"),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.drillStart(), a.drillList(), a.drillStop())
	return cmd
}

func (a *app) drillStart() *cobra.Command {
	q := model.DrillRequest{}
	cmd := &cobra.Command{
		Use:   "start",
		Short: "Start a drill",
		Long: `Start a drill. --fail and --delay act on attempts: retries and guards see a failing or
slow instance. With --down, whole instances get no requests.`,
		Example: `  nightjar drill start --service sailings --version v1 --fail 100% --for 30s
  nightjar drill start --service sailings --delay 4s --when 'headers: {x-crew: "yes"}' --for 1m`,
		Args: exactly(0, "--service S --fail 30% --for 30s"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := c.StartDrill(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(d, func(s *out.Sheet) {
				s.Line("%s started: %s: %s, until %s.", d.ID, d.Target, d.What, d.Ends.Local().Format(time.TimeOnly))
				if s.CSV {
					drillSheet(s, []model.Drill{d})
				}
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&q.Service, "service", "", "called service")
	f.StringVar(&q.Version, "version", "", "only this version")
	f.StringVar(&q.Site, "site", "", "only instances at this site; without --service, those of all services")
	f.StringVar(&q.Instance, "instance", "", "only this instance of the service")
	f.StringVar(&q.Fail, "fail", "", "share of the attempts that fail, such as 30%")
	f.IntVar(&q.Status, "status", 0, "status of failed attempts (default 503)")
	f.StringVar(&q.Delay, "delay", "", "delay before every attempt, such as 2s")
	f.BoolVar(&q.Down, "down", false, "the instances get no requests")
	f.StringVar(&q.When, "when", "", "only requests that match this condition of the rule language")
	f.StringVar(&q.For, "for", "30s", "how long, from 1s to 1h")
	cmd.RegisterFlagCompletionFunc(
		"service",
		func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			return a.serviceNames(cmd, nil, word)
		},
	)
	return cmd
}

func (a *app) drillList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Drills, newest first",
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
					s.Line("There was no drill yet. Start one: \"nightjar drill start -h\" shows how.")
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
		Short: "Stop a drill before its time",
		Example: `  nightjar drill stop drill-1
  nightjar drill stop drill-1 -o json`,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) (ids []string, _ completion) {
			if c, err := a.client(); err == nil && len(args) == 0 {
				list, _ := c.Drills(cmd.Context())
				for _, d := range list.Drills {
					if d.IsRunning {
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
			d, err := c.StopDrill(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(d, func(s *out.Sheet) {
				s.Line("%s was stopped after %s.", d.ID, d.Stopped.Sub(d.Began).Round(time.Second))
			})
		},
	}
}

func drillSheet(s *out.Sheet, list []model.Drill) {
	var rows [][]string
	for _, d := range list {
		state := "ended"
		switch {
		case d.IsRunning:
			state = "running, " + max(time.Until(d.Ends), 0).Round(time.Second).String() + " left"
		case d.Stopped != nil:
			state = "stopped"
		}
		rows = append(
			rows,
			[]string{
				d.ID,
				state,
				d.Target,
				d.What,
				cmp.Or(d.When, "all requests"),
				d.By,
				d.Began.Local().Format(time.DateTime),
				d.Ends.Sub(d.Began).String(),
			},
		)
	}
	s.Table([]string{"DRILL", "STATE", "TARGET", "FAILURE", "REQUESTS", "BY", "STARTED", "DURATION>"}, rows)
}

// drillLines shows on every sheet which drills are running.
func drillLines(s *out.Sheet, m model.Mesh) {
	for _, d := range m.Drills {
		which := ""
		if d.When != "" {
			which = " (when " + d.When + ")"
		}
		s.Line(
			"Drill %s is running for another %s, by %s: %s: %s%s.",
			d.ID,
			max(d.Ends.Sub(m.At), 0).Round(time.Second),
			d.By,
			d.Target,
			d.What,
			which,
		)
	}
}
