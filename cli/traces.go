package cli

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/traces"
)

func (a *app) traces() *cobra.Command {
	var f traces.Filter
	var limit int
	var again bool
	cmd := &cobra.Command{
		Use:   "traces [ID]",
		Short: "Traces of the last hour; with an id, one as a waterfall",
		Long: `Traces of the last hour, newest first. With an id, or its beginning, one trace as
a waterfall: a row for each request, try, wait, and piece of work of a workload,
with a bar where it lies in time.

A request that comes with a W3C trace context is traced if its caller said so;
of the others a share is (serve --trace-share). Workloads have to hand the field
traceparent on to what they call.`,
		Example: `  nightjar traces --service berths
  nightjar traces --outcome trouble -n 5`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("expected: %s [ID]", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 1 || limit > 1000 {
				return usagef("-n %d: expected 1 to 1000", limit)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				t, err := c.Trace(cmd.Context(), strings.ToLower(args[0]))
				if err != nil {
					return err
				}
				return a.printer(cmd).Show(t, func(s *out.Sheet) { waterfall(s, t) })
			}
			return a.follow(cmd, again, func(ctx context.Context, p *out.Printer) error {
				list, err := c.Traces(ctx, f, limit)
				if err != nil {
					return err
				}
				return p.Show(list, func(s *out.Sheet) {
					if len(list.Traces) == 0 {
						s.Line("No traces. Of requests without a trace context %s are traced: see serve --trace-share.", out.Percent(list.Share))
						return
					}
					var rows [][]string
					for _, t := range list.Traces {
						id := t.ID[:min(8, len(t.ID))]
						if s.Wide || s.CSV {
							id = t.ID
						}
						rows = append(rows, []string{id, t.At.Local().Format("15:04:05.000"), t.Caller, t.Service, t.Method + " " + t.Path, gotText(t.Status), cmp.Or(t.Reason, t.Outcome), out.Millis(t.MS),
							fmt.Sprint(len(t.Services)), fmt.Sprint(t.Tries), fmt.Sprint(t.Failed)})
					}
					s.Table([]string{"ID", "AT", "FROM", "TO", "REQUEST", "GOT", "OUTCOME", "TOOK>", "SERVICES>", "TRIES>", "FAILED>"}, rows)
				})
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&f.Service, "service", "", "that took part")
	flags.StringVar(&f.Outcome, "outcome", "", "of the first request: ok, failed, refused, abandoned or caller-fault; trouble: anything but ok, also of a try")
	flags.StringVar(&f.Path, "path", "", "what the first path begins with")
	flags.DurationVar(&f.Slower, "slower-than", 0, "took longer than this, such as 200ms")
	flags.IntVarP(&limit, "count", "n", 20, "how many, at most 1000")
	flags.BoolVar(&again, "follow", false, "show it again every second")
	a.completeService(cmd, "service")
	return cmd
}

func gotText(status int) string {
	if status == 0 {
		return "–"
	}
	return strconv.Itoa(status)
}

// barWidth is how many characters stand for the whole trace.
const barWidth = 44

// waterfall draws the spans of a trace as rows with bars.
func waterfall(s *out.Sheet, t traces.Trace) {
	s.Line("Trace %s, %s: %s %s from %s, %s in %s.\n", t.ID, t.At.Local().Format("2006-01-02 15:04:05.000"), t.Method, t.Path, t.Caller, cmp.Or(t.Reason, gotText(t.Status)), out.Millis(t.MS))
	header := []string{"SPAN", "AT>", "TOOK>", "GOT", ""}
	if s.CSV {
		header = []string{"id", "parent", "kind", "proxy", "caller", "service", "version", "instance", "from_ms", "ms", "status", "outcome", "reason"}
	}
	var rows [][]string
	for _, r := range t.Rows {
		if s.CSV {
			rows = append(rows, []string{r.ID, r.Parent, r.Kind, r.Proxy, r.Caller, r.Service, r.Version, r.Instance, fmt.Sprint(r.FromMS), fmt.Sprint(r.MS), fmt.Sprint(r.Status), r.Outcome, r.Reason})
			continue
		}
		name := map[string]string{"request": r.Caller + " → " + r.Service, "try": "try " + r.Instance, "app": "work of " + r.Instance}[r.Kind]
		got := cmp.Or(r.Reason, gotText(r.Status))
		if name == "" {
			name, got = r.Kind, ""
		}
		if r.Kind == "request" && r.Depth == 0 {
			name += " " + r.Path
		}
		bad := r.Outcome != "" && r.Outcome != "ok"
		if bad {
			got += " !"
		}
		bar := spanBar(r, t.MS)
		if s.Colour && bad {
			bar = text.FgHiRed.Sprint(bar)
		}
		rows = append(rows, []string{strings.Repeat("  ", r.Depth) + name, out.Millis(max(r.FromMS, 0.001)), out.Millis(r.MS), got, bar})
	}
	s.Table(header, rows)
	if !s.CSV {
		s.Line("\n█ a request or the work of a workload, ▒ a try, · a wait, ! without success.")
	}
}

func spanBar(r traces.Row, whole float64) string {
	if whole <= 0 {
		return ""
	}
	from := min(int(r.FromMS/whole*barWidth), barWidth-1)
	long := max(1, min(int(math.Round(r.MS/whole*barWidth)), barWidth-from))
	mark := map[string]string{"request": "█", "app": "█", "try": "▒"}[r.Kind]
	return strings.Repeat(" ", from) + strings.Repeat(cmp.Or(mark, "·"), long)
}
