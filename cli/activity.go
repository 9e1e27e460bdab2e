package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/store"
)

// maxActivity is how many entries the service gives at once.
const maxActivity = 200

func (a *app) activity() *cobra.Command {
	f := model.ActivityFilter{}
	var since string
	var again bool
	cmd := &cobra.Command{
		Use:   "activity",
		Short: "What people did and what proxies reported, newest first",
		Example: `  nightjar activity --about rules --who mara
  nightjar activity --what sign-in --since 1h -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.Limit < 1 || f.Limit > maxActivity {
				return usagef("--limit %d: expected 1 to %d", f.Limit, maxActivity)
			}
			var err error
			if f.Since, err = sinceFlag(since); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if again {
				return a.followActivity(cmd, c, f)
			}
			list, err := c.Activity(cmd.Context(), f)
			if err != nil {
				return err
			}
			if len(list.Activity) == 0 {
				if err := checkSite(cmd.Context(), c, f.Site); err != nil {
					return err
				}
			}
			return a.printer(cmd).Show(list, func(s *out.Sheet) { activitySheet(s, list.Activity) })
		},
	}
	cmd.Flags().StringVar(&f.Service, "service", "", "only what concerns this service")
	cmd.Flags().StringVar(&f.Who, "who", "", "only what somebody did or reported whose name has this part")
	cmd.Flags().StringVar(&f.What, "what", "", "only events whose name begins so, such as publish or sign-in")
	cmd.Flags().StringVar(&f.About, "about", "", "only rules, drills, proxies, people or guards")
	cmd.Flags().StringVar(&since, "since", "", "only from then on: 1h, 7d, or a time such as 2026-11-30T06:00:00Z")
	cmd.Flags().IntVar(&f.Limit, "limit", 30, "how many, at most 200")
	cmd.Flags().BoolVarP(&again, "follow", "f", false, "go on with what happens, the newest last")
	subjects := []string{model.AboutRules, model.AboutDrills, model.AboutProxies, model.AboutPeople, model.AboutGuards}
	cmd.RegisterFlagCompletionFunc("about", cobra.FixedCompletions(subjects, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc(
		"service",
		func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			return a.serviceNames(cmd, nil, word)
		},
	)
	a.addSite(cmd, &f.Site)
	cmd.Flags().Lookup("site").Usage = "only what happened at this site, or to it"
	cmd.AddCommand(a.activityVerify(), a.activityExport())
	return cmd
}

// sinceFlag reads from when on: so long ago, or a time; zero: from the first.
func sinceFlag(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	d, err := days(text)
	if err != nil || d <= 0 {
		return time.Time{}, usagef("--since %q: write how long ago, such as 1h or 7d, or a time such as "+
			"2026-11-30T06:00:00Z", text)
	}
	return time.Now().Add(-d), nil
}

func activitySheet(s *out.Sheet, list []model.ActivityEntry) {
	if len(list) == 0 {
		s.Line("There is no such activity.")
		return
	}
	header := []string{"TIME", "WHO", "EVENT", "TARGET", "DETAIL"}
	if s.Wide {
		header = append(header, "SITE", "RESULT", "FROM", "CREDENTIAL", "BEFORE", "AFTER")
	}
	var rows [][]string
	for _, e := range list {
		row := []string{e.At.Local().Format(time.DateTime), e.Who, e.Kind, target(&e), e.Detail}
		if s.Wide {
			row = append(row, e.Site, e.Result, e.Address, e.Credential, e.Before, e.After)
		}
		rows = append(rows, row)
	}
	s.Table(header, rows)
}

// target is what an entry is about.
func target(e *model.ActivityEntry) string {
	what := e.Service
	if e.Version != "" {
		what += "/" + e.Version
	}
	return cmp.Or(e.Instance, what)
}

// followActivity writes entries as they come, each as a line.
func (a *app) followActivity(cmd *cobra.Command, c *client.Client, f model.ActivityFilter) error {
	if a.format != "table" && a.format != "wide" && a.format != "json" {
		return usagef("--follow writes lines: choose -o table, wide or json")
	}
	w := bufio.NewWriter(cmd.OutOrStdout())
	t := time.NewTicker(followEvery)
	defer t.Stop()
	for first := true; ; first = false {
		page, err := c.Activity(cmd.Context(), f)
		if cmd.Context().Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		for _, e := range slices.Backward(page.Activity) {
			f.After = max(f.After, e.Number)
			if a.format == "json" {
				line, _ := json.Marshal(e)
				fmt.Fprintf(w, "%s\n", line)
				continue
			}
			fmt.Fprintf(w, "%s  %s  %s  %s  %s", e.At.Local().Format(time.DateTime), e.Who, e.Kind, target(&e), e.Detail)
			if a.format == "wide" {
				fmt.Fprintf(w, "  %s  %s  %s", e.Result, e.Credential, e.Address)
			}
			fmt.Fprintln(w)
		}
		if w.Flush() != nil {
			return nil // the reader is gone
		}
		if first {
			f.Limit, f.Since = maxActivity, time.Time{}
		}
		select {
		case <-cmd.Context().Done():
			return nil
		case <-t.C:
		}
	}
}

func (a *app) activityVerify() *cobra.Command {
	return &cobra.Command{
		Use:   "verify [FILE]",
		Short: "Check that no entry of the activity log was changed, removed or put in",
		Long: `Check that each entry of the activity log has the hash of what it says and of the entry
before it: one that was changed, removed or put in later breaks the chain there. FILE is
one that nightjar activity export wrote; it is checked without the service. Keep the last
hash elsewhere now and then: whoever can write to the records could make all entries anew,
and not with that hash. Exit code 1: an entry does not fit.`,
		Example: `  nightjar activity verify
  nightjar activity verify activity.jsonl`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var v model.ActivityChain
			var err error
			if len(args) == 1 {
				v, err = verifyFile(args[0])
			} else {
				var c *client.Client
				if c, err = a.client(); err == nil {
					v, err = c.VerifyActivity(cmd.Context())
				}
			}
			if err != nil {
				return err
			}
			if err := a.printer(cmd).Show(v, func(s *out.Sheet) { chainSheet(s, v) }); err != nil {
				return err
			}
			if !v.IsWhole {
				return finding
			}
			return nil
		},
	}
}

func chainSheet(s *out.Sheet, v model.ActivityChain) {
	if v.First > 0 {
		s.Line("Entries %d to %d follow each other. The hash of entry %[2]d is %[3]s.", v.First, v.Last, v.Head)
	}
	if v.Unchained > 0 {
		s.Line("%d entries are from before entries were chained.", v.Unchained)
	}
	switch {
	case !v.IsWhole:
		s.Line("The log was tampered with: %s.", v.Fault)
	case v.First+uint(v.Unchained) == 0:
		s.Line("There are no entries.")
	}
}

// maxEntryBytes bounds a line of an exported log.
const maxEntryBytes = 1 << 20

// verifyFile checks an exported log.
func verifyFile(path string) (v model.ActivityChain, err error) {
	f, err := os.Open(path)
	if err != nil {
		return v, usage{err}
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, maxEntryBytes)
	var c store.Chain
	for n := 1; lines.Scan(); n++ {
		var e model.ActivityEntry
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return v, usagef("%s:%d: this is no entry of an activity log: %w", path, n, err)
		}
		if !c.Add(from.ToActivity(e)) {
			break
		}
	}
	return from.Chain(&c), lines.Err()
}

func (a *app) activityExport() *cobra.Command {
	var since string
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Write the activity log as lines of JSON, the oldest entry first",
		Example: `  nightjar activity export > activity.jsonl
  nightjar activity export --since 7d`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			at, err := sinceFlag(since)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			w := bufio.NewWriter(out.Exact(cmd.OutOrStdout()))
			err = c.ExportActivity(cmd.Context(), at, func(e model.ActivityEntry) error {
				line, err := json.Marshal(e)
				if err == nil {
					_, err = w.Write(append(line, '\n'))
				}
				return err
			})
			return errors.Join(err, w.Flush())
		},
	}
	cmd.Flags().StringVar(&since, "since", "", "only from then on: 1h, 7d, or a time such as 2026-11-30T06:00:00Z")
	return cmd
}
