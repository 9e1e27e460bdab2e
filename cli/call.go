package cli

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) call() *cobra.Command {
	var headers []string
	var in model.CallRequest
	var rate, ca string
	cmd := &cobra.Command{
		Use:   "call URL",
		Short: "Send requests through the mesh and count which versions answer",
		Long: `Send real requests through the mesh and count which version answers, with which status,
against the share that the rules intend; every share has a 95% interval. The host of
the URL is a service, or a host of a gateway; with https:// the gateway has to prove who
it is. Exit code 1: a request without success, or, from 30 requests on, a share whose
interval does not include the expected one.`,
		Example: `  nightjar call http://sailings/sailings/today -n 200
  nightjar call https://tickets.ferry.example/ --ca certs/ca.pem`,
		Args: exactly(1, "URL"),
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := headerFlags(headers)
			if err != nil {
				return err
			}
			in.URL, in.Headers = args[0], h
			if ca != "" {
				text, err := os.ReadFile(ca)
				if err != nil {
					return usagef("--ca: %w", err)
				}
				in.CA = string(text)
			}
			if rate != "" {
				if in.Rate, err = strconv.ParseFloat(strings.TrimSuffix(rate, "/s"), 64); err != nil || in.Rate <= 0 {
					return usagef("--rate %s: expected requests per second, such as 20/s", rate)
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
			result, err := c.Call(cmd.Context(), in, bar)
			done()
			if err != nil {
				return err
			}
			if err := a.printer(cmd).Show(result, func(s *out.Sheet) { callSheet(s, result) }); err != nil {
				return err
			}
			differs := func(v model.VersionCount) bool { return v.Verdict == model.ShareDiffers }
			if result.Failed > 0 || slices.ContainsFunc(result.Versions, differs) {
				return finding
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringArrayVarP(&headers, "header", "H", nil, "header NAME: VALUE, also Host and Cookie; can be repeated")
	f.IntVarP(&in.Count, "count", "n", 1, "how many requests")
	f.StringVarP(&in.Method, "method", "X", "GET", "method")
	f.StringVarP(&in.Body, "data", "d", "", "body")
	f.StringVar(&in.From, "from", "", "calling service, whose proxy sends the requests (default: the service's own)")
	f.StringVar(&rate, "rate", "", "requests per second, such as 20/s (default: as fast as they are answered)")
	f.StringVar(&ca, "ca", "", "file with certificates in PEM that a gateway's must be below, with https:// "+
		"(default: those that the machine of the service trusts)")
	f.BoolVar(&in.IsInsecure, "insecure", false, "with https://, take any certificate")
	f.IntVarP(&in.Concurrency, "concurrency", "c", 8, "requests at once")
	return cmd
}

// bar draws progress for work of some size.
func (a *app) bar(total int) (update func(model.CallResult), done func()) {
	if total < 20 {
		return func(model.CallResult) {}, func() {}
	}
	const name = "Requests"
	show, done := a.progress(name, int64(total), func(s *progress.Style) { s.Visibility.ETA = true })
	return func(r model.CallResult) { show(name, int64(r.Done)) }, done
}

func callSheet(s *out.Sheet, t model.CallResult) {
	if t.Done < t.Planned {
		s.Line("%d of %d requests were sent.", t.Done, t.Planned)
	}
	if len(t.Versions) > 0 {
		var rows [][]string
		for _, v := range t.Versions {
			rows = append(rows, []string{v.Service + "/" + v.Version, fmt.Sprint(v.Count), out.Percent(v.Share),
				out.Percent(v.Low) + " to " + out.Percent(v.High), out.Percent(v.Expected), v.Verdict})
		}
		s.Table([]string{"VERSION", "RESPONSES>", "SHARE>", "95% INTERVAL", "EXPECTED>", "VERDICT"}, rows)
		s.Line("")
	}
	s.Line(
		"Success    %s (%s to %s), %d of %d",
		out.Percent(t.Success),
		out.Percent(t.Low),
		out.Percent(t.High),
		t.Done-t.Failed,
		t.Done,
	)
	s.Line("Status     %s", counts(t.Status))
	if len(t.Reasons) > 0 {
		s.Line("Reasons    %s", counts(t.Reasons))
	}
	s.Line("Routes     %s", counts(t.Routes))
	s.Line("Instances  %s", counts(t.Instances))
	s.Line(
		"Latency    p50 %s, p95 %s, p99 %s; %.1f s in total",
		out.Millis(t.P50MS),
		out.Millis(t.P95MS),
		out.Millis(t.P99MS),
		t.Seconds,
	)
	if len(t.Revisions) > 1 {
		s.Line("Revisions  %s: the rules changed meanwhile", counts(t.Revisions))
	}
	if sample := t.Sample; sample != nil && t.Planned == 1 || sample != nil && t.Failed > 0 {
		head := fmt.Sprint(sample.Status)
		if to := sample.Headers["Location"]; to != "" {
			head += " to " + to
		}
		s.Line("\n%s\n%s", head, strings.TrimRight(sample.Body, "\n"))
	}
}

// counts writes names with their numbers, largest first.
func counts(m map[string]int) string {
	keys := slices.SortedFunc(
		maps.Keys(m),
		func(a, b string) int { return cmp.Or(cmp.Compare(m[b], m[a]), cmp.Compare(a, b)) },
	)
	var parts []string
	for _, k := range keys {
		name := k
		if strings.HasSuffix(k, "/") {
			name = k + "(no route)"
		}
		parts = append(parts, fmt.Sprintf("%s %d", name, m[k]))
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}
