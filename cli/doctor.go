package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/doctor"
	"nightjar/store"
)

// doctorTime bounds the whole examination.
const doctorTime = 20 * time.Second

func (a *app) doctor() *cobra.Command {
	var data string
	cmd := &cobra.Command{
		Use:   "doctor",
		Short: "Find out what is wrong with the service, its records and its proxies",
		Long: `Look at the data directory on this machine, the service, its proxies, certificates, rules
and clocks, and say what is wrong and what to do about it. Nothing is changed. Exit code 1:
there is a problem.`,
		Example: `  nightjar doctor
  nightjar doctor --data /var/lib/nightjar -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ctx, stop := context.WithTimeout(cmd.Context(), doctorTime)
			defer stop()
			f := doctor.Facts{Server: a.server, IsNamed: cmd.Flags().Changed("data")}
			records := store.Inspect(ctx, data)
			f.Records = &records
			if err := collect(ctx, c, &f); err != nil {
				return err
			}
			rep := doctor.Examine(f)
			if err := a.printer(cmd).Show(rep, func(s *out.Sheet) { doctorSheet(s, rep) }); err != nil {
				return err
			}
			if rep.Problems > 0 {
				return finding
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&data, "data", defaultData(), "directory of the records, on this machine")
	return cmd
}

// collect asks the service for facts. What it does not respond stays unknown; an error
// means that who asks may not know.
func collect(ctx context.Context, c *client.Client, f *doctor.Facts) error {
	why, at, err := c.Ready(ctx)
	f.Now = time.Now()
	if err != nil {
		f.Unreachable = err.Error()
		var gone *client.Unreachable
		if errors.As(err, &gone) {
			f.Unreachable = gone.Err.Error()
		}
		return nil
	}
	f.NotReady, f.ServiceTime = why, at
	who, err := c.Who(ctx)
	if errors.As(err, new(*client.Refused)) {
		return err
	}
	if len(who.Teams) > 0 { // who sees a part says nothing of the whole
		return &client.Refused{Problem: model.Problem{
			Status: http.StatusForbidden,
			Code:   "team",
			Detail: fmt.Sprintf("%s is of team %s, and the doctor examines the whole mesh: ask an admin",
				who.Name, strings.Join(who.Teams, ", ")),
		}}
	}
	if m, err := c.Mesh(ctx, 0); err == nil {
		f.Mesh = &m
	}
	if l, err := c.Fleet(ctx); err == nil {
		f.Fleet = &l
	}
	if ca, err := c.Authority(ctx); err == nil {
		f.Authority = &ca
	}
	if l, err := c.Follows(ctx); err == nil {
		f.Follows = l.Follows
	}
	if r, err := c.Revisions(ctx, 0, 1); err == nil && len(r.Revisions) > 0 {
		f.Newest = &r.Revisions[0]
	}
	return nil
}

func doctorSheet(s *out.Sheet, rep model.Examination) {
	if s.CSV {
		var rows [][]string
		for _, f := range rep.Findings {
			rows = append(rows, []string{f.Area, f.Severity, f.What, f.Do})
		}
		s.Table([]string{"AREA", "SEVERITY", "FINDING", "WHAT TO DO"}, rows)
		return
	}
	marks := map[string]string{doctor.Problem: "✗", doctor.Note: "·", doctor.Well: "✓"}
	for _, f := range rep.Findings {
		mark := marks[f.Severity]
		if s.Colour && f.Severity == doctor.Problem {
			mark = out.Paint(out.Red, mark)
		}
		s.Line("%s %-9s  %s", mark, f.Area, f.What)
		if f.Do != "" {
			s.Line("%s→ %s", strings.Repeat(" ", 13), f.Do)
		}
	}
	if rep.Problems == 0 {
		s.Line("\nNothing is wrong.")
		return
	}
	s.Line("\n%s.", count(rep.Problems, "problem"))
}
