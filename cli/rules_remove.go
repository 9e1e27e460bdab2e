package cli

import (
	"bufio"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) rulesRemove() *cobra.Command {
	var message string
	var wait time.Duration
	var yes, refuse bool
	cmd := &cobra.Command{
		Use:     "remove BUNDLE",
		Aliases: []string{"clear"},
		Short:   "Remove a bundle of rules, as a new revision",
		Long: `Remove all rules of a bundle, as a new revision. What that takes away is shown first, and
you are asked. Exit code 1: nothing was removed, or proxies do not have the revision in
force yet.`,
		Example: `  nightjar rules remove crew
  nightjar rules remove main --yes --message "start over"`,
		Args: exactly(1, "BUNDLE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			on, err := a.mayRemove(cmd, c, args[0], yes)
			if err != nil {
				return err
			}
			p, err := c.RemoveBundle(cmd.Context(), client.Removal{
				Bundle: args[0], Message: message,
				WaitMS: int(wait.Milliseconds()), RefuseUsedLinks: refuse,
			}, &on)
			if err != nil {
				return a.rejected(cmd, err)
			}
			return a.published(cmd, p)
		},
	}
	f := cmd.Flags()
	f.BoolVar(&yes, "yes", false, "do not ask")
	f.StringVarP(&message, "message", "m", "", "message of the revision")
	f.DurationVar(&wait, "wait", 5*time.Second, "how long to wait for acknowledgements")
	f.BoolVar(&refuse, "refuse-used-links", false, refuseUsage)
	return cmd
}

// mayRemove shows what removing a bundle takes away, and asks whether to go on. on is the
// revision that was shown.
func (a *app) mayRemove(cmd *cobra.Command, c *client.Client, bundle string, yes bool) (on uint, err error) {
	now, err := c.Revision(cmd.Context(), 0)
	if err != nil {
		return 0, err
	}
	files, isThere := now.Bundles[bundle]
	if !isThere || yes {
		return now.Number, nil // the service says what is wrong
	}
	rep, err := c.Check(cmd.Context(), model.CheckRequest{Bundle: bundle, Files: []model.File{}})
	if err != nil {
		return 0, err
	}
	w := cmd.ErrOrStderr()
	fmt.Fprintf(w, "Bundle %s of revision %d has %s:\n", bundle, now.Number, count(len(files), "file"))
	for _, f := range files {
		fmt.Fprintf(w, "  %s (%s)\n", f.Name, count(strings.Count(f.Text, "\n"), "line"))
	}
	p := &out.Printer{W: w, Format: "table"}
	err = p.Show(nil, func(s *out.Sheet) {
		if rep.Mistakes > 0 {
			printFindings(w, rep.Findings, a.colour())
			s.Line("Without it, the other bundles have %s, so it cannot be removed.", count(rep.Mistakes, "mistake"))
			return
		}
		printChanges(s, rep.Changes, "IN FORCE", "WITHOUT")
	})
	if err != nil || rep.Mistakes > 0 {
		return 0, finding
	}
	fmt.Fprintf(w, "Remove bundle %s? [y/N] ", bundle)
	answer, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if !slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(answer))) {
		fmt.Fprintln(w, "Nothing was removed.")
		return 0, finding
	}
	return now.Number, nil
}
