package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nightjar/api/dto"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/wire"
)

func (a *app) requests() *cobra.Command {
	var f wire.Filter
	var slower time.Duration
	var count int
	var past bool
	cmd := &cobra.Command{
		Use:   "requests",
		Short: "Requests as they end, with filters that the proxies apply",
		Long: `Requests as they end, one a line, until the command is ended. The filters are
applied in the proxies, so a narrow one costs little in a busy mesh. When there
are more requests than can be told, it says how many were left out.

With -o wide every try is shown, with the waits between them; with -o json each
request is one object on a line.`,
		Example: `  nightjar requests --to sailings --outcome trouble
  nightjar requests --from kiosk --tries 2 -o wide`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			f.SlowerMS = slower.Milliseconds()
			if slower < 0 || slower > 0 && f.SlowerMS == 0 {
				return usagef("--slower-than %s: expected 1ms or more", slower)
			}
			if err := f.Check(); err != nil {
				return usage{err}
			}
			if count < 0 {
				return usagef("--count %d: expected 1 or more; 0 goes on until the command is ended", count)
			}
			if past = past || f.Request != ""; past && f.Header != "" {
				return usagef("--header does not go with --past or --id: headers are not remembered")
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
	flags.StringVar(&f.Version, "version", "", "version that the request went to")
	flags.StringVar(&f.Instance, "instance", "", "instance that answered, or was tried last")
	flags.StringVar(&f.Route, "route", "", "route of the service or of the gateway")
	flags.StringVar(&f.Method, "method", "", "method")
	flags.StringVar(&f.Path, "path", "", "what the path begins with")
	flags.StringVar(&f.Status, "status", "", "a status such as 503, or a class such as 5xx")
	flags.StringVar(&f.Reason, "reason", "", "why the mesh answered, such as timeout")
	flags.StringVar(&f.Outcome, "outcome", "", "ok, failed, refused, abandoned, caller-fault, or trouble: all but ok")
	flags.StringVar(&f.Request, "id", "", "in place of the feed: the request whose refusal told its caller this id")
	flags.StringVar(&f.Header, "header", "", "header that is there, as NAME or NAME=VALUE")
	flags.IntVar(&f.Tries, "tries", 0, "was sent so often at least; 2 shows what was retried")
	flags.DurationVar(&slower, "slower-than", 0, "took longer than this, such as 200ms")
	flags.IntVarP(&count, "count", "n", 0, "end after so many requests")
	flags.BoolVar(&past, "past", false, "in place of the feed: the latest requests that did not succeed, as far as they are remembered")
	a.completeService(cmd, "from", "to")
	cmd.RegisterFlagCompletionFunc("outcome", cobra.FixedCompletions(wire.Outcomes, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// pastRequests prints what is remembered of requests that did not succeed.
func pastRequests(ctx context.Context, c *client.Client, f wire.Filter, most int, print func(*wire.Record) error) error {
	list, err := c.Trouble(ctx, f, most)
	slices.Reverse(list.Requests)
	for i := range list.Requests {
		print(&list.Requests[i])
	}
	if err == nil && f.Request != "" && len(list.Requests) == 0 {
		return fmt.Errorf("no request %s is remembered: the service keeps the latest few thousand that did not succeed, "+
			"of which each proxy tells 40 a second at most", f.Request)
	}
	return err
}

// followRequests prints requests as they end, until there were count; 0: until the
// command is ended.
func followRequests(cmd *cobra.Command, c *client.Client, f wire.Filter, count int, print func(*wire.Record) error) error {
	shown, begun := 0, time.Now()
	err := c.Requests(cmd.Context(), f, func(l dto.FeedLine) bool {
		if l.Dropped > 0 {
			fmt.Fprintf(cmd.ErrOrStderr(), "%d more requests were left out; a narrower filter shows all\n", l.Dropped)
		}
		if l.Request != nil {
			if print(l.Request) != nil {
				return false // whoever read is gone
			}
			shown++
		}
		if shown == 0 && !begun.IsZero() && time.Since(begun) > 5*time.Second {
			fmt.Fprintln(cmd.ErrOrStderr(), "No request yet that the filter takes; waiting.")
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
func (a *app) feedPrinter(w io.Writer) func(*wire.Record) error {
	switch a.format {
	case "json":
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		return func(r *wire.Record) error { return e.Encode(r) }
	case "yaml":
		p := out.Printer{W: w, Format: "yaml"}
		return func(r *wire.Record) error {
			if _, err := io.WriteString(w, "---\n"); err != nil {
				return err
			}
			return p.Show(r, nil)
		}
	case "csv":
		c := csv.NewWriter(w)
		c.Write([]string{"at", "caller", "service", "version", "instance", "route", "method", "path", "status", "outcome", "reason", "ms", "tries", "sent", "received", "trace"})
		return func(r *wire.Record) error {
			c.Write([]string{r.At.Format(time.RFC3339Nano), r.Caller, r.Service, r.Version, r.Instance, r.Route, r.Method, r.Path, strconv.Itoa(r.Status), r.Outcome, r.Reason,
				strconv.FormatFloat(r.MS, 'f', 3, 64), strconv.Itoa(tried(r)), fmt.Sprint(r.Sent), fmt.Sprint(r.Received), r.Trace})
			c.Flush()
			return c.Error()
		}
	}
	f, _ := w.(*os.File)
	colour := f != nil && out.Terminal(f)
	const layout = "%-12s  %-10s  %-20s  %-7s %-22s  %-4s  %9s  %s\n"
	header := false
	return func(r *wire.Record) error {
		if !header {
			header = true
			fmt.Fprintf(w, layout, "AT", "FROM", "TO", "METHOD", "PATH", "GOT", "TOOK", "WHAT")
		}
		to := r.Service
		if r.Version != "" {
			to += "/" + r.Version
		}
		status := "–"
		if r.Status > 0 {
			status = strconv.Itoa(r.Status)
		}
		line := fmt.Sprintf(layout, r.At.Local().Format("15:04:05.000"), text.Snip(r.Caller, 10, "…"), text.Snip(to, 20, "…"), r.Method, text.Snip(r.Path, 22, "…"), status, out.Millis(r.MS), what(r))
		if colour && r.Outcome != "ok" {
			line = text.FgHiRed.Sprint(strings.TrimSuffix(line, "\n")) + "\n"
		}
		if a.format == "wide" {
			line += stretches(r)
		}
		_, err := io.WriteString(w, line)
		return err
	}
}

func tried(r *wire.Record) (n int) {
	for _, s := range r.Tries {
		if s.Kind == "try" {
			n++
		}
	}
	return n
}

// what is what became of a request, in a few words.
func what(r *wire.Record) string {
	var parts []string
	if r.Outcome != "ok" {
		parts = append(parts, r.Outcome)
	}
	if r.Reason != "" {
		parts = append(parts, r.Reason)
	}
	if n := tried(r); n > 1 {
		parts = append(parts, count(n, "try"))
	}
	if r.Route != "" || r.Gate != "" {
		parts = append(parts, "by "+cmp.Or(r.Route, r.Gate))
	}
	return strings.Join(parts, ", ")
}

// stretches are the lines of wide: each try and wait, the rest of what is known.
func stretches(r *wire.Record) string {
	var b strings.Builder
	for _, s := range r.Tries {
		got := cmp.Or(s.Reason, strconv.Itoa(s.Status))
		if s.Kind != "try" {
			got = ""
		} else if s.Status == 0 && s.Reason == "" {
			got = "no answer"
		}
		fmt.Fprintf(&b, "%14s+%-8s  %-8s  %-22s  %s for %s\n", "", strings.ReplaceAll(out.Millis(s.FromMS), "–", "0 ms"), s.Kind, s.Instance, got, strings.ReplaceAll(out.Millis(s.MS), "–", "0 ms"))
	}
	if r.Detail != "" {
		fmt.Fprintf(&b, "%14s%s\n", "", r.Detail)
	}
	fmt.Fprintf(&b, "%14ssent %s, received %s, revision %d", "", amount(r.Sent), amount(r.Received), r.Revision)
	if r.Written != "" {
		fmt.Fprintf(&b, ", %s", r.Written)
	}
	if r.Traced {
		fmt.Fprintf(&b, ", trace %s", r.Trace)
	}
	return b.String() + "\n"
}
