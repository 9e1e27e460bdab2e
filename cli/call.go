package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/spf13/cobra"

	"nightjar/cli/out"
	"nightjar/control"
)

func (a *app) call() *cobra.Command {
	var headers []string
	var in control.Call
	var rate string
	cmd := &cobra.Command{
		Use:   "call URL",
		Short: "Send real requests through the mesh and tally who answered",
		Long: `Send real requests through the mesh and tally which version answered, with which
status, against the share that the rules intend; every share has its 95% interval.
The host of the URL is a service, or a host of a gateway. Exit code 1: a request
without success, or, from 30 requests on, a share whose interval does not hold the
expected one.`,
		Example: `  nightjar call http://sailings/sailings/today -n 200
  nightjar call http://sailings/sailings/today -n 50 -H 'x-crew: yes' --from kiosk`,
		Args: exactly(1, "URL"),
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := headerFlags(headers)
			if err != nil {
				return err
			}
			in.URL, in.Headers = args[0], h
			if rate != "" {
				if in.Rate, err = strconv.ParseFloat(strings.TrimSuffix(rate, "/s"), 64); err != nil || in.Rate <= 0 {
					return usagef("--rate %s: expected requests a second, such as 20/s", rate)
				}
			}
			if in.Count < 1 {
				return usagef("-n %d: expected 1 or more", in.Count)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			bar, done := a.bar(in.Count)
			t, err := c.Call(cmd.Context(), in, bar)
			done()
			if err != nil {
				return err
			}
			if err := a.printer(cmd).Show(t, func(s *out.Sheet) { tallySheet(s, t) }); err != nil {
				return err
			}
			if t.Failed > 0 || slices.ContainsFunc(t.Versions, func(v control.VersionTally) bool { return v.Verdict == control.Off }) {
				return finding
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringArrayVarP(&headers, "header", "H", nil, "header NAME: VALUE, also Host and Cookie; may come several times")
	f.IntVarP(&in.Count, "count", "n", 1, "how many requests")
	f.StringVarP(&in.Method, "method", "X", "GET", "method")
	f.StringVarP(&in.Body, "data", "d", "", "body")
	f.StringVar(&in.From, "from", "", "calling service, whose proxy sends the requests (default: the service's own)")
	f.StringVar(&rate, "rate", "", "requests a second, such as 20/s (default: as fast as they are answered)")
	f.IntVarP(&in.Concurrency, "concurrency", "c", 8, "requests at once")
	return cmd
}

// bar draws progress for work of some size.
func (a *app) bar(total int) (update func(control.Tally), done func()) {
	if total < 20 {
		return func(control.Tally) {}, func() {}
	}
	const name = "Requests"
	show, done := a.progress(name, int64(total), func(s *progress.Style) { s.Visibility.ETA = true })
	return func(tally control.Tally) { show(name, int64(tally.Done)) }, done
}

func tallySheet(s *out.Sheet, t control.Tally) {
	if t.Done < t.Asked {
		s.Line("%d of %d requests have an outcome.", t.Done, t.Asked)
	}
	if len(t.Versions) > 0 {
		var rows [][]string
		for _, v := range t.Versions {
			rows = append(rows, []string{v.Service + "/" + v.Version, fmt.Sprint(v.Count), out.Percent(v.Share),
				out.Percent(v.Low) + " to " + out.Percent(v.High), out.Percent(v.Expected), string(v.Verdict)})
		}
		s.Table([]string{"VERSION", "ANSWERS>", "SHARE>", "95% INTERVAL", "EXPECTED>", ""}, rows)
		s.Line("")
	}
	s.Line("Success    %s (%s to %s), %d of %d", out.Percent(t.Success), out.Percent(t.Low), out.Percent(t.High), t.Done-t.Failed, t.Done)
	s.Line("Status     %s", counts(t.Status))
	if len(t.Reasons) > 0 {
		s.Line("Reasons    %s", counts(t.Reasons))
	}
	s.Line("Routes     %s", counts(t.Routes))
	s.Line("Instances  %s", counts(t.Instances))
	s.Line("Latency    p50 %s, p95 %s, p99 %s; %.1f s in all", out.Millis(t.P50MS), out.Millis(t.P95MS), out.Millis(t.P99MS), t.Seconds)
	if len(t.Revisions) > 1 {
		s.Line("Revisions  %s: the rules changed while the requests ran", counts(t.Revisions))
	}
	if sample := t.Sample; sample != nil && t.Asked == 1 || sample != nil && t.Failed > 0 {
		head := fmt.Sprint(sample.Status)
		if to := sample.Headers["Location"]; to != "" {
			head += " to " + to
		}
		s.Line("\n%s\n%s", head, strings.TrimRight(sample.Body, "\n"))
	}
}

// counts writes names with their numbers, largest first.
func counts(m map[string]int) string {
	keys := slices.SortedFunc(maps.Keys(m), func(a, b string) int { return cmp.Or(cmp.Compare(m[b], m[a]), cmp.Compare(a, b)) })
	var parts []string
	for _, k := range keys {
		name := k
		if strings.HasSuffix(k, "/") {
			name = k + "(plain)"
		}
		parts = append(parts, fmt.Sprintf("%s %d", name, m[k]))
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}
