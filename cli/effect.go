package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

// rowFlags select rows of a comparison.
type rowFlags struct {
	by  string
	of  string
	all bool
}

// usualRows is how many rows are shown when nobody says.
const usualRows = 15

func (r *rowFlags) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&r.by, "by", "", "only rows of this kind: caller, service, route, version or link")
	f.StringVar(&r.of, "of", "", "only rows whose name contains this")
	f.BoolVar(&r.all, "all", false, fmt.Sprintf("every row, not only the first %d", usualRows))
	cmd.RegisterFlagCompletionFunc(
		"by",
		cobra.FixedCompletions(
			[]string{"mesh", "caller", "service", "route", "version", "link"},
			cobra.ShellCompDirectiveNoFileComp,
		),
	)
}

func (r *rowFlags) check() error {
	if r.by != "" && !slices.Contains(model.RowKinds, string(r.by)) {
		return usagef("--by %s: expected caller, service, route, version, link or mesh", r.by)
	}
	return nil
}

// take selects the rows that were asked for.
func (r *rowFlags) take(rows []model.EffectRow) []model.EffectRow {
	out := []model.EffectRow{}
	for _, row := range rows {
		if (r.by == "" || string(row.Kind) == r.by) && strings.Contains(row.Name, r.of) {
			out = append(out, row)
		}
	}
	return out
}

// sheet writes rows of a comparison.
func (r *rowFlags) sheet(s *out.Sheet, rows []model.EffectRow, before, after string) {
	rows = r.take(rows)
	more := 0
	if !r.all && !s.CSV && len(rows) > usualRows {
		more, rows = len(rows)-usualRows, rows[:usualRows]
	}
	if len(rows) == 0 {
		s.Line("There are no requests to compare.")
		return
	}
	if s.CSV {
		effectCSV(s, rows)
		return
	}
	header := []string{
		"GROUP", "REQUESTS>", "SUCCESS>", "POINTS (95%)>", "VERDICT", "FIRST ATTEMPT>", "ATTEMPTS/REQ>",
		"P95 (ms)>", "", "FAILURES BY REASON",
	}
	if s.Wide {
		header = append(header, "P50 (ms)>", "", "P99 (ms)>", "", "SHARES", "REQ/S>")
	}
	var table [][]string
	for _, row := range rows {
		line := []string{
			rowName(&row),
			fmt.Sprintf("%d → %d", row.Before.Requests, row.After.Requests),
			pair(row.Success, out.Share),
			points(row.Success),
			marked(row.Verdict),
			pair(row.FirstAttempt, out.Share),
			pair(row.AttemptsPerRequest, perRequest),
			pair(row.P95MS, millisOf),
			latencyWord(row.P95MS),
			reasonsOf(row),
		}
		if s.Wide {
			line = append(
				line,
				pair(row.P50MS, millisOf),
				latencyWord(row.P50MS),
				pair(row.P99MS, millisOf),
				latencyWord(row.P99MS),
				sharesOf(row),
				fmt.Sprintf("%.1f → %.1f", row.Before.RPS, row.After.RPS),
			)
		}
		table = append(table, line)
	}
	s.Table(header, table)
	if more > 0 {
		s.Line("Rows left out: %d. --all shows them; --by and --of select.", more)
	}
	for _, row := range rows {
		if row.SharesDiffer() {
			s.Line(
				"Shares of route %s differ from its weights (chi-square, p %.2g): %s.",
				row.Name,
				*row.ShareP,
				sharesOf(row),
			)
		}
	}
	s.Line("\nEach cell: %s → %s. Points: percentage points of success, with their 95%% interval.", before, after)
}

// rowName is the group of a row, and what it is compared with.
func rowName(r *model.EffectRow) string {
	name := strings.TrimSpace(r.Kind + " " + r.Name)
	if r.Against != "" {
		name += " (new, against " + r.Against + ")"
	}
	return name
}

// effectCSV writes every figure of rows in a column of its own.
func effectCSV(s *out.Sheet, rows []model.EffectRow) {
	header := []string{"kind", "name", "against", "requests_before", "requests_after", "verdict"}
	figures := func(r model.EffectRow) []model.EffectFigure {
		return []model.EffectFigure{r.Success, r.FirstAttempt, r.AttemptsPerRequest, r.P50MS, r.P95MS, r.P99MS}
	}
	for _, f := range []string{"success", "first_attempt", "attempts_per_request", "p50_ms", "p95_ms", "p99_ms"} {
		for _, part := range []string{"before", "after", "change", "low", "high", "verdict"} {
			header = append(header, f+"_"+part)
		}
	}
	header = append(header, "reasons", "shares")
	number := func(f *float64) string {
		if f == nil {
			return ""
		}
		return strconv.FormatFloat(*f, 'g', 8, 64)
	}
	var table [][]string
	for _, r := range rows {
		line := []string{
			string(r.Kind),
			r.Name,
			r.Against,
			fmt.Sprint(r.Before.Requests),
			fmt.Sprint(r.After.Requests),
			string(r.Verdict),
		}
		for _, f := range figures(r) {
			line = append(
				line,
				number(f.Before),
				number(f.After),
				number(f.Change),
				number(f.Low),
				number(f.High),
				string(f.Verdict),
			)
		}
		table = append(table, append(line, reasonsOf(r), sharesOf(r)))
	}
	s.Table(header, table)
}

// marked puts a mark before a verdict that needs attention.
func marked(v string) string {
	switch v {
	case model.Worse, model.Slower:
		return "! " + string(v)
	}
	return string(v)
}

func latencyWord(f model.EffectFigure) string {
	if f.Verdict == model.NoClearChange || f.Verdict == model.TooFew {
		return ""
	}
	return marked(f.Verdict)
}

func millisOf(f *float64) string {
	if f == nil {
		return "–"
	}
	return out.MS(*f)
}

// pair writes both sides of a figure, once when they read the same.
func pair(f model.EffectFigure, write func(*float64) string) string {
	b, a := write(f.Before), write(f.After)
	if a == b {
		return a
	}
	if number, ok := strings.CutSuffix(b, "%"); ok && strings.HasSuffix(a, "%") {
		b = number
	}
	return b + " → " + a
}

// points is a difference of shares in percentage points.
func points(f model.EffectFigure) string {
	if f.Change == nil {
		return "–"
	}
	text := fmt.Sprintf("%+.1f", 100**f.Change)
	if f.Low != nil {
		text += fmt.Sprintf(" (%+.1f to %+.1f)", 100**f.Low, 100**f.High)
	}
	return text
}

// reasonsOf is the failures by reason on both sides.
func reasonsOf(r model.EffectRow) string {
	var parts []string
	for _, x := range r.Reasons {
		text := fmt.Sprintf("%s %d → %d", x.Reason, x.Before, x.After)
		if v := x.Share.Verdict; v == model.Worse {
			text = "! " + text
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", ")
}

func sharesOf(r model.EffectRow) string {
	var parts []string
	for _, x := range r.Shares {
		parts = append(parts, fmt.Sprintf("%s %s of %s", x.Target, out.Percent(x.Observed), out.Percent(x.Intended)))
	}
	return strings.Join(parts, ", ")
}

// effectFlags are the flags of the command effect.
type effectFlags struct {
	rowFlags
	window, settle, ago time.Duration
	at, failOn, site    string
}

func (a *app) effect() *cobra.Command {
	var flags effectFlags
	cmd := &cobra.Command{
		Use:   "effect [REVISION]",
		Short: "What a change did to the success of requests: before and after",
		Long: `What a published revision did: success, first attempts, latency and attempts per
request before and after it, for the mesh and for every caller, service, route, version
and link, the worst first. Without a number: the newest revision. With --ago or --at:
any time. A difference is better or worse only if its 95% interval excludes 0 and both
sides have at least 30 requests. Requests that followed another revision are left out.
Exit code 1 only with --fail-on.`,
		Example: `  nightjar effect
  nightjar effect 3 --by route -o wide`,
		Annotations: map[string]string{moreFormats: "html"},
		Args:        cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			q, err := flags.query(cmd, args)
			if err != nil {
				return err
			}
			return a.showEffect(cmd, q, &flags)
		},
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.DurationVar(&flags.window, "window", 0, "longest time to compare on each side (default 5m)")
	f.DurationVar(&flags.settle, "settle", 0, "time to leave out after the change (default 5s)")
	f.DurationVar(&flags.ago, "ago", 0, "how long ago, instead of a revision")
	f.StringVar(&flags.at, "at", "", "a time, instead of a revision")
	f.StringVar(&flags.failOn, "fail-on", "",
		"worse: exit with 1 when a row is worse; unclear: also when there are too few requests to tell")
	a.addSite(cmd, &flags.site)
	f.Lookup("site").Usage = "only requests made or answered at this site"
	return cmd
}

// query reads the flags.
func (f *effectFlags) query(cmd *cobra.Command, args []string) (model.EffectQuery, error) {
	q := model.EffectQuery{Window: int64(f.window / time.Second), Settle: -1, Site: f.site}
	if cmd.Flags().Changed("settle") {
		q.Settle = int64(f.settle / time.Second)
	}
	if len(args) == 1 {
		n, err := strconv.ParseUint(args[0], 10, 32)
		if err != nil || n == 0 {
			return q, usagef("%q is not the number of a revision: \"nightjar rules log\" lists the revisions", args[0])
		}
		q.Revision = uint(n)
	}
	switch {
	case f.at != "" && f.ago > 0 || (f.at != "" || f.ago > 0) && q.Revision > 0:
		return q, usagef("a revision, --at and --ago cannot be combined: use one of them")
	case f.at != "":
		t, err := time.ParseInLocation("2006-01-02 15:04:05", f.at, time.Local)
		if err != nil {
			if t, err = time.Parse(time.RFC3339, f.at); err != nil {
				return q, usagef(`--at %q: expected a time such as "2026-05-01 22:40:00" or 2026-05-01T22:40:00Z`, f.at)
			}
		}
		q.At = t.Unix()
	case f.ago > 0:
		q.At = time.Now().Add(-f.ago).Unix()
	}
	if f.window < 0 || f.window%time.Second != 0 || f.settle < 0 || f.settle%time.Second != 0 {
		return q, usagef("--window and --settle: expected whole seconds, such as 2m or 10s")
	}
	if f.failOn != "" && f.failOn != "worse" && f.failOn != "unclear" {
		return q, usagef("--fail-on %s: expected worse, or unclear (worse, or too few requests to tell)", f.failOn)
	}
	return q, f.check()
}

func (a *app) showEffect(cmd *cobra.Command, q model.EffectQuery, flags *effectFlags) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	if a.format == "html" {
		return c.EffectReport(cmd.Context(), q, out.Exact(cmd.OutOrStdout()))
	}
	e, err := c.Effect(cmd.Context(), q)
	if err != nil {
		return err
	}
	if len(e.Rows) == 0 {
		if err := checkSite(cmd.Context(), c, q.Site); err != nil {
			return err
		}
	}
	shown := e
	shown.Rows = flags.take(e.Rows)
	if err := a.printer(cmd).Show(shown, func(s *out.Sheet) {
		effectLead(s, &e)
		flags.sheet(s, e.Rows, "before", "after")
	}); err != nil {
		return err
	}
	worse := slices.ContainsFunc(shown.Rows, func(r model.EffectRow) bool { return r.Verdict == model.Worse })
	whole := e.Whole()
	if flags.failOn != "" && worse || flags.failOn == "unclear" && (whole == nil || whole.Verdict == model.TooFew) {
		return finding
	}
	return nil
}

func effectLead(s *out.Sheet, e *model.Effect) {
	if e.Revision > 0 {
		s.Line(
			"Revision %d, %s%s, by %s",
			e.Revision,
			e.At.Local().Format("2006-01-02 15:04:05"),
			quotedMessage(e.Message),
			e.Author,
		)
	} else {
		s.Line("What happened at %s", e.At.Local().Format("2006-01-02 15:04:05"))
	}
	s.Line("%s", e.Windows())
	if e.Due != nil {
		s.Line("  · The window is full at %s; until then the figures can change.", e.Due.Local().Format("15:04:05"))
	}
	for _, n := range e.Notes {
		s.Line("  · %s", n)
	}
	if w := e.Whole(); w != nil {
		s.Line("All %s: %s.", e.Of(), verdictWords(w.Success))
	}
	s.Line("")
}

// verdictWords is a figure of success as a sentence.
func verdictWords(f model.EffectFigure) string {
	switch {
	case f.Verdict == model.TooFew:
		return fmt.Sprintf("too few requests to tell (at least %d on each side are needed)", model.LeastRequests)
	case f.Change == nil:
		return string(f.Verdict)
	}
	return fmt.Sprintf("%s, %s → %s, %s points", f.Verdict, out.Share(f.Before), out.Share(f.After), points(f))
}
