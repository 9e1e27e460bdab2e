package cli

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"nightjar/api/model"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nightjar/cli/out"
)

func (a *app) traces() *cobra.Command {
	var f model.TraceFilter
	var limit int
	var again bool
	cmd := &cobra.Command{
		Use:   "traces [ID]",
		Short: "Traces of the last hour; with an id, one trace as a waterfall",
		Long: `Traces of the last hour, newest first. With an id, or its beginning, one trace as a
waterfall: a row with a bar for each request, attempt, wait, and work of a workload.

A request with a W3C trace context is traced if its caller asked for it; of the others,
a share is traced (serve --trace-share). Workloads must pass the field traceparent on to
the services that they call.`,
		Example: `  nightjar traces --service berths
  nightjar traces --outcome not-ok -n 5`,
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
				if len(list.Traces) == 0 {
					if err := checkSite(ctx, c, f.Site); err != nil {
						return err
					}
				}
				return p.Show(list, func(s *out.Sheet) { traceSheet(s, list, f != model.TraceFilter{}) })
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&f.Service, "service", "", "service that took part")
	flags.StringVar(&f.Outcome, "outcome", "",
		"of the first request: ok, failed, refused, abandoned or caller-fault; not-ok: any but ok, of an attempt too")
	flags.StringVar(&f.Path, "path", "", "prefix of the first request's path")
	flags.DurationVar(&f.SlowerThan, "slower-than", 0, "took longer than this, such as 200ms")
	flags.IntVarP(&limit, "count", "n", 20, "how many, at most 1000")
	flags.BoolVar(&again, "follow", false, "show it every second")
	a.completeService(cmd, "service")
	a.addSite(cmd, &f.Site)
	flags.Lookup("site").Usage = "site where a part of it took place"
	return cmd
}

func traceSheet(s *out.Sheet, list model.TraceList, isFiltered bool) {
	if len(list.Traces) == 0 && isFiltered {
		s.Line("No trace of the last hour matches.")
		return
	}
	if len(list.Traces) == 0 {
		s.Line(
			"No traces. %s of the requests without a trace context are traced: see serve --trace-share.",
			out.Percent(list.Share),
		)
		return
	}
	hasSites := slices.ContainsFunc(list.Traces, func(t model.TraceSummary) bool { return len(t.Sites) > 0 })
	var rows [][]string
	for _, t := range list.Traces {
		id := t.ID[:min(8, len(t.ID))]
		if s.Wide || s.CSV {
			id = t.ID
		}
		rows = append(
			rows,
			[]string{
				id,
				t.At.Local().Format("15:04:05.000"),
				t.Caller,
				t.Service,
				t.Method + " " + t.Path,
				statusText(t.Status),
				cmp.Or(t.Reason, t.Outcome),
				out.MS(t.DurationMS),
				fmt.Sprint(len(t.Services)),
				fmt.Sprint(t.Attempts),
				fmt.Sprint(t.FailedAttempts),
			},
		)
		if hasSites {
			rows[len(rows)-1] = append(rows[len(rows)-1], strings.Join(t.Sites, ", "))
		}
	}
	header := []string{
		"TRACE", "TIME", "FROM", "TO", "REQUEST", "STATUS", "OUTCOME", "LATENCY (ms)>",
		"SERVICES>", "ATTEMPTS>", "FAILED ATTEMPTS>",
	}
	if hasSites {
		header = append(header, "SITES")
	}
	s.Table(header, rows)
}

func statusText(status int) string {
	if status == 0 {
		return "–"
	}
	return strconv.Itoa(status)
}

// barWidth is how many characters stand for the whole trace.
const barWidth = 44

// waterfall draws the spans of a trace as rows with bars.
func waterfall(s *out.Sheet, t model.Trace) {
	s.Line(
		"Trace %s, %s: %s %s from %s, %s in %s.\n",
		t.ID,
		t.At.Local().Format("2006-01-02 15:04:05.000"),
		t.Method,
		t.Path,
		t.Caller,
		cmp.Or(t.Reason, statusText(t.Status)),
		out.Millis(t.DurationMS),
	)
	if s.CSV {
		spanCSV(s, t.Spans)
		return
	}
	header := []string{"SPAN", "START (ms)>", "DURATION (ms)>", "STATUS"}
	hasSites := len(t.Sites) > 0
	if hasSites {
		header = append(header, "SITE")
	}
	var rows [][]string
	for _, r := range t.Spans {
		name, got := spanText(r)
		isBad := r.Outcome != "" && r.Outcome != "ok"
		bar := spanBar(r, t.DurationMS)
		if isBad {
			got += " !"
		}
		if isBad && s.Colour {
			bar = text.FgHiRed.Sprint(bar)
		}
		row := []string{
			strings.Repeat("  ", r.Depth) + name,
			fmt.Sprintf("%.1f", r.StartMS),
			fmt.Sprintf("%.1f", r.DurationMS),
			got,
		}
		if hasSites {
			row = append(row, r.Site)
		}
		rows = append(rows, append(row, bar))
	}
	s.Table(append(header, ""), rows)
	s.Line("\n█ request or workload, ▒ attempt, · wait, ! without success.")
}

// spanText is what a span is, and how it ended; empty of a wait.
func spanText(r model.TraceSpan) (name, got string) {
	name = map[string]string{
		model.SpanRequest:    r.Caller + " → " + r.Service,
		model.SegmentAttempt: "attempt " + r.Instance,
		model.SpanWorkload:   "workload " + r.Instance,
	}[r.Kind]
	if name == "" {
		return r.Kind, ""
	}
	if r.Kind == model.SpanRequest && r.Depth == 0 {
		name += " " + r.Path
	}
	return name, cmp.Or(r.Reason, statusText(r.Status))
}

func spanCSV(s *out.Sheet, spans []model.TraceSpan) {
	var rows [][]string
	for _, r := range spans {
		rows = append(rows, []string{
			r.ID, r.Parent, r.Kind, r.Proxy, r.Caller, r.Service, r.Version, r.Instance, fmt.Sprint(r.StartMS),
			fmt.Sprint(r.DurationMS), fmt.Sprint(r.Status), r.Outcome, r.Reason, r.Site,
		})
	}
	s.Table([]string{
		"id", "parent", "kind", "proxy", "caller", "service", "version", "instance", "start_ms", "duration_ms",
		"status", "outcome", "reason", "site",
	}, rows)
}

func spanBar(r model.TraceSpan, whole float64) string {
	if whole <= 0 {
		return ""
	}
	from := min(int(r.StartMS/whole*barWidth), barWidth-1)
	long := max(1, min(int(math.Round(r.DurationMS/whole*barWidth)), barWidth-from))
	mark := map[string]string{"request": "█", "workload": "█", "attempt": "▒"}[r.Kind]
	return strings.Repeat(" ", from) + strings.Repeat(cmp.Or(mark, "·"), long)
}
