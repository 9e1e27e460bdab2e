package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) requests() *cobra.Command {
	var f model.RequestFilter
	var slower time.Duration
	var count int
	var past bool
	cmd := &cobra.Command{
		Use:   "requests",
		Short: "Requests as they end, filtered in the proxies",
		Long: `Requests as they end, one per line, until the command is interrupted. The filters are
applied in the proxies, so a narrow one costs little in a busy mesh. When there are too
many requests to show, the command says how many were left out.

With -o wide, every attempt is shown, with the waits between them; with -o json, each
request is one object on one line.`,
		Example: `  nightjar requests --to sailings --outcome not-ok
  nightjar requests --from kiosk --attempts 2 -o wide`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			f.SlowerThan = slower.Milliseconds()
			if slower < 0 || slower > 0 && f.SlowerThan == 0 {
				return usagef("--slower-than %s: expected 1ms or more", slower)
			}
			if count < 0 {
				return usagef("--count %d: expected 1 or more, or 0 for no end", count)
			}
			if past = past || f.Request != ""; past && f.Header != "" {
				return usagef("--header cannot be combined with --past or --id: headers are not remembered")
			}
			if past && count > 1000 {
				return usagef("--count %d: expected at most 1000 with --past", count)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if f.Request != "" && a.format == "table" {
				a.format = "wide"
			}
			print := a.feedPrinter(cmd.OutOrStdout())
			if past {
				return pastRequests(cmd.Context(), c, f, cmp.Or(count, 30), print)
			}
			return followRequests(cmd, c, f, count, print)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&f.From, "from", "", "calling service or gateway")
	flags.StringVar(&f.To, "to", "", "called service")
	flags.StringVar(&f.Version, "version", "", "version that got the request")
	flags.StringVar(&f.Site, "site", "", "site of the caller or of the instance")
	flags.StringVar(&f.Instance, "instance", "", "instance that answered, or got the last attempt")
	flags.StringVar(&f.Route, "route", "", "route of the service or of the gateway")
	flags.StringVar(&f.Method, "method", "", "method")
	flags.StringVar(&f.Path, "path", "", "prefix of the path")
	flags.StringVar(&f.Status, "status", "", "a status such as 503, or a class such as 5xx")
	flags.StringVar(&f.Reason, "reason", "", "why it failed or was refused, such as timeout")
	flags.StringVar(&f.Outcome, "outcome", "", "ok, failed, refused, abandoned, caller-fault, or not-ok: any but ok")
	flags.StringVar(&f.Request, "id", "", "instead of the feed: the request whose caller got this id with a refusal")
	flags.StringVar(&f.Header, "header", "", "header that is present, as NAME or NAME=VALUE")
	flags.IntVar(&f.Attempts, "attempts", 0, "at least this many attempts; 2 shows retried requests")
	flags.DurationVar(&slower, "slower-than", 0, "took longer than this, such as 200ms")
	flags.IntVarP(&count, "count", "n", 0, "stop after this many requests")
	flags.BoolVar(&past, "past", false, "instead of the feed: recent failures, as far as they are remembered")
	a.completeService(cmd, "from", "to")
	cmd.RegisterFlagCompletionFunc(
		"outcome",
		cobra.FixedCompletions(model.Outcomes, cobra.ShellCompDirectiveNoFileComp),
	)
	return cmd
}

// pastRequests prints recent failures.
func pastRequests(
	ctx context.Context,
	c *client.Client,
	f model.RequestFilter,
	most int,
	print func(*model.RequestRecord) error,
) error {
	list, err := c.Failures(ctx, f, most)
	slices.Reverse(list.Requests)
	for i := range list.Requests {
		print(&list.Requests[i])
	}
	if err == nil && f.Request != "" && len(list.Requests) == 0 {
		return fmt.Errorf("no request %s is remembered: the service keeps the latest few thousand failures, "+
			"and each proxy reports at most 40 per second", f.Request)
	}
	return err
}

// followRequests prints requests as they end, until there were count; 0: until the
// command is interrupted.
func followRequests(
	cmd *cobra.Command,
	c *client.Client,
	f model.RequestFilter,
	count int,
	print func(*model.RequestRecord) error,
) error {
	shown, begun := 0, time.Now()
	err := c.Requests(cmd.Context(), f, func(l model.FeedLine) bool {
		if l.Dropped > 0 {
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"%d more requests were left out; a narrower filter shows all of them\n",
				l.Dropped,
			)
		}
		if l.Request != nil {
			if print(l.Request) != nil {
				return false // the reader is gone
			}
			shown++
		}
		if shown == 0 && !begun.IsZero() && time.Since(begun) > 5*time.Second {
			fmt.Fprintln(cmd.ErrOrStderr(), "No request matches the filter yet; waiting.")
			begun = time.Time{}
		}
		return count == 0 || shown < count
	})
	if cmd.Context().Err() != nil {
		return nil
	}
	return err
}

// feedPrinter prints one request at a time.
func (a *app) feedPrinter(w io.Writer) func(*model.RequestRecord) error {
	switch a.format {
	case "json":
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		return func(r *model.RequestRecord) error { return e.Encode(r) }
	case "yaml":
		p := out.Printer{W: w, Format: "yaml"}
		return func(r *model.RequestRecord) error {
			if _, err := io.WriteString(w, "---\n"); err != nil {
				return err
			}
			return p.Show(r, nil)
		}
	case "csv":
		return csvPrinter(w)
	}
	f := out.File(w)
	colour := f != nil && out.Terminal(f)
	const layout = "%-12s  %-10s  %-20s  %-7s %-22s  %-6s  %9s  %s\n"
	header := false
	return func(r *model.RequestRecord) error {
		if !header {
			header = true
			fmt.Fprintf(w, layout, "TIME", "FROM", "TO", "METHOD", "PATH", "STATUS", "LATENCY", "RESULT")
		}
		to := r.Service
		if r.Version != "" {
			to += "/" + r.Version
		}
		status := "–"
		if r.Status > 0 {
			status = strconv.Itoa(r.Status)
		}
		line := fmt.Sprintf(
			layout,
			r.At.Local().Format("15:04:05.000"),
			text.Snip(r.Caller, 10, "…"),
			text.Snip(to, 20, "…"),
			r.Method,
			text.Snip(r.Path, 22, "…"),
			status,
			out.Millis(r.DurationMS),
			result(r),
		)
		if colour && r.Outcome != "ok" {
			line = out.Paint(out.BrightRed, strings.TrimSuffix(line, "\n")) + "\n"
		}
		if a.format == "wide" {
			line += segments(r)
		}
		_, err := io.WriteString(w, line)
		return err
	}
}

// csvPrinter prints requests as rows of CSV.
func csvPrinter(w io.Writer) func(*model.RequestRecord) error {
	c := csv.NewWriter(w)
	c.Write([]string{
		"at", "caller", "service", "version", "instance", "route", "method", "path", "status", "outcome",
		"reason", "duration_ms", "attempts", "request_bytes", "response_bytes", "trace", "transport",
		"caller_identity", "service_identity",
	})
	return func(r *model.RequestRecord) error {
		var i model.LinkIdentities
		if r.Identities != nil {
			i = *r.Identities
		}
		c.Write(
			[]string{
				r.At.Format(time.RFC3339Nano),
				r.Caller,
				r.Service,
				r.Version,
				r.Instance,
				r.Route,
				r.Method,
				r.Path,
				strconv.Itoa(r.Status),
				r.Outcome,
				r.Reason,
				strconv.FormatFloat(r.DurationMS, 'f', 3, 64),
				strconv.Itoa(attempts(r)),
				fmt.Sprint(r.RequestBytes),
				fmt.Sprint(r.ResponseBytes),
				r.Trace,
				r.Transport,
				i.From,
				i.To,
			},
		)
		c.Flush()
		return c.Error()
	}
}

// attempts is how many attempts a request took.
func attempts(r *model.RequestRecord) (n int) {
	for _, s := range r.Segments {
		if s.Kind == model.SegmentAttempt {
			n++
		}
	}
	return n
}

// result is the result of a request, in a few words.
func result(r *model.RequestRecord) string {
	var parts []string
	if r.Outcome != "ok" {
		parts = append(parts, r.Outcome)
	}
	if r.Reason != "" {
		parts = append(parts, r.Reason)
	}
	if n := attempts(r); n > 1 {
		parts = append(parts, count(n, "attempt"))
	}
	if r.Route != "" || r.GatewayRoute != "" {
		parts = append(parts, "route "+cmp.Or(r.Route, r.GatewayRoute))
	}
	return strings.Join(parts, ", ")
}

// segments are the lines of wide: each attempt and wait, and the rest of what is known.
func segments(r *model.RequestRecord) string {
	var b strings.Builder
	for _, s := range r.Segments {
		got := cmp.Or(s.Reason, strconv.Itoa(s.Status)) + " "
		if s.Kind != model.SegmentAttempt {
			got = ""
		} else if s.Status == 0 && s.Reason == "" {
			got = "no response "
		}
		fmt.Fprintf(
			&b,
			"%14s+%-8s  %-8s  %-22s  %sfor %s\n",
			"",
			strings.ReplaceAll(out.Millis(s.StartMS), "–", "0 ms"),
			s.Kind,
			s.Instance,
			got,
			strings.ReplaceAll(out.Millis(s.DurationMS), "–", "0 ms"),
		)
	}
	if r.Detail != "" {
		fmt.Fprintf(&b, "%14s%s\n", "", r.Detail)
	}
	fmt.Fprintf(
		&b,
		"%14srequest %s, response %s, revision %d",
		"",
		amount(r.RequestBytes),
		amount(r.ResponseBytes),
		r.Revision,
	)
	if r.RouteAt != "" {
		fmt.Fprintf(&b, ", %s", r.RouteAt)
	}
	if r.IsTraced {
		fmt.Fprintf(&b, ", trace %s", r.Trace)
	}
	fmt.Fprintf(&b, "\n%14s%s", "", r.Transport)
	if i := r.Identities; i != nil {
		fmt.Fprintf(&b, ", from %s to %s", i.From, i.To)
	}
	return b.String() + "\n"
}
