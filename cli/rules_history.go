package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

func (a *app) rulesShow() *cobra.Command {
	var service string
	cmd := &cobra.Command{
		Use:   "show [REVISION]",
		Short: "Print the files of a revision, by default the one in force, or the settings that hold for a service",
		Example: `  nightjar rules show
  nightjar rules show --effective sailings`,
		Args: atMostOneNumber,
		RunE: func(cmd *cobra.Command, args []string) error {
			if service != "" {
				if len(args) > 0 {
					return usagef("--effective is about the revision in force: leave out %s", args[0])
				}
				return a.effective(cmd, service)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var n uint
			if len(args) > 0 {
				if n, err = revisionNumber(args[0]); err != nil {
					return err
				}
			}
			r, err := c.Revision(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(r, func(s *out.Sheet) {
				if r.Number == 0 {
					s.Line("# Nothing was published yet.")
				}
				for _, b := range slices.Sorted(maps.Keys(r.Bundles)) {
					for _, f := range r.Bundles[b] {
						s.Line(
							"# revision %d, bundle %s, file %s\n%s",
							r.Number,
							b,
							f.Name,
							strings.TrimRight(f.Text, "\n"),
						)
					}
				}
			})
		},
	}
	cmd.Flags().
		StringVar(&service, "effective", "",
			"print the settings that hold for this service after policies and defaults, each with its origin")
	cmd.RegisterFlagCompletionFunc(
		"effective",
		func(cmd *cobra.Command, _ []string, toComplete string) ([]string, cobra.ShellCompDirective) {
			return a.serviceNames(cmd, nil, toComplete)
		},
	)
	return cmd
}

func atMostOneNumber(cmd *cobra.Command, args []string) error {
	if len(args) > 1 {
		return usagef("expected: %s [REVISION]", cmd.CommandPath())
	}
	return nil
}

func revisionNumber(s string) (uint, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil || n == 0 {
		return 0, usagef("%q is not the number of a revision: \"nightjar rules log\" lists the revisions", s)
	}
	return uint(n), nil
}

func (a *app) rulesLog() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use:   "log",
		Short: "List the published revisions, newest first",
		Example: `  nightjar rules log
  nightjar rules log --limit 5 -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 {
				return usagef("--limit %d: expected 1 or more", limit)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			all := model.RevisionPage{Revisions: []model.Revision{}}
			for before := uint(0); len(all.Revisions) < limit; {
				page, err := c.Revisions(cmd.Context(), before, min(200, limit-len(all.Revisions)))
				if err != nil {
					return err
				}
				all.Revisions = append(all.Revisions, page.Revisions...)
				if before = page.Next; before == 0 {
					break
				}
				all.Next = before
			}
			return a.printer(cmd).Show(all, func(s *out.Sheet) {
				if len(all.Revisions) == 0 {
					s.Line("Nothing was published yet.")
					return
				}
				logSheet(s, all.Revisions)
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 50, "how many")
	return cmd
}

// logSheet shows revisions, with their commits if there are any.
func logSheet(s *out.Sheet, list []model.Revision) {
	hasCommits := slices.ContainsFunc(list, func(r model.Revision) bool { return r.Commit != "" })
	header := []string{"REVISION>", "TIME", "KIND", "BUNDLE", "BY"}
	if hasCommits {
		header = append(header, "COMMIT")
	}
	var rows [][]string
	for _, r := range list {
		at := r.At.Local().Format("2006-01-02 15:04:05")
		row := []string{fmt.Sprint(r.Number), at, r.Kind, bundleText(r.Kind, r.Bundle), r.Author}
		if hasCommits {
			row = append(row, short(r.Commit))
		}
		rows = append(rows, append(row, r.Message))
	}
	s.Table(append(header, "MESSAGE"), rows)
}

func (a *app) rulesRestore() *cobra.Command {
	var message string
	var wait time.Duration
	var refuse bool
	cmd := &cobra.Command{
		Use:   "restore REVISION",
		Short: "Publish an earlier revision again, as a new one",
		Example: `  nightjar rules restore 1
  nightjar rules restore 1 --message "v2 was slower"`,
		Args: exactly(1, "REVISION"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := revisionNumber(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.Restore(
				cmd.Context(),
				n,
				model.RestoreRequest{Message: message, WaitMS: waitMS(wait), RefuseUsedLinks: refuse},
				nil,
			)
			if err != nil {
				return a.rejected(cmd, err)
			}
			return a.published(cmd, p)
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "message of the revision")
	cmd.Flags().DurationVar(&wait, "wait", 5*time.Second, "how long to wait for acknowledgements")
	cmd.Flags().BoolVar(&refuse, "refuse-used-links", false, refuseUsage)
	return cmd
}

// refuseUsage is said of --refuse-used-links.
const refuseUsage = "publish access rules even if they refuse every request of a link that is in use"

// bundleText names the bundle whose text a revision changed.
func bundleText(kind, bundle string) string {
	if bundle == "" && kind == "release" {
		return "–" // the text did not change
	}
	return cmp.Or(bundle, "all")
}
