package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/core/rules"
)

func (a *app) rules() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "rules",
		Short: "Check rule files, compare them with what is in force, publish them",
		Args:  cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usagef("there is no command rules %s: \"nightjar rules -h\" lists the commands", args[0])
			}
			return cmd.Help()
		},
	}
	cmd.AddCommand(
		a.rulesCheck(),
		a.rulesDiff(),
		a.rulesPublish(),
		a.rulesPropose(),
		a.rulesProposals(),
		a.rulesRemove(),
		a.rulesShow(),
		a.rulesLog(),
		a.rulesRestore(),
		a.rulesFormat(),
		a.rulesSchema(),
	)
	return cmd
}

// printFindings writes mistakes and warnings as text.
func printFindings(w io.Writer, found []model.Finding, colour bool) {
	for _, f := range found {
		t := from.ToFinding(f).Text()
		if colour {
			paint := out.Yellow
			if f.Severity == model.Mistake {
				paint = out.Red
			}
			t = strings.Replace(t, ": "+f.Severity+" ", ": "+out.Paint(paint, f.Severity)+" ", 1)
		}
		fmt.Fprint(w, t)
	}
}

func (a *app) colour() bool { return a.format == "table" && out.Terminal(os.Stdout) }

func (a *app) rulesCheck() *cobra.Command {
	var bundle string
	var remember, several bool
	cmd := &cobra.Command{
		Use:   "check " + filesWords,
		Short: "Report every mistake and warning of rule files",
		Long: `Report every mistake and warning of rule files, all in one run.

If the service can be reached, the files are checked together with its other bundles
and against what is running now. If not, they are checked by themselves. Nothing is kept,
unless you ask for it: with --remember, everybody sees that these files differ from what is
in force, until somebody publishes the bundle. Exit code 1: mistakes. Besides the usual
formats, there is -o sarif for CI systems.`,
		Example: `  nightjar rules check examples/ferry
  cat examples/ferry/rules.yaml | nightjar rules check - -o sarif`,
		Annotations: map[string]string{moreFormats: "sarif"},
		Args:        someFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			if remember && several {
				return usagef("--remember is for one bundle: leave out --bundles")
			}
			list, err := readBundles(cmd, args, bundle, several)
			if err != nil {
				return err
			}
			rep, alone, err := a.check(cmd, list, remember)
			if err != nil {
				return err
			}
			if a.format == "sarif" {
				err = out.SARIF(cmd.OutOrStdout(), a.program, rep.Findings)
			} else {
				err = a.printer(cmd).Show(rep, func(s *out.Sheet) { checkSheet(cmd, s, rep, a.colour()) })
			}
			if alone != nil {
				fmt.Fprintf(cmd.ErrOrStderr(), "Checked without a service: %v\n", alone)
			}
			if err == nil && rep.Mistakes > 0 {
				return finding
			}
			return err
		},
	}
	cmd.Flags().StringVar(&bundle, "bundle", model.MainBundle, "bundle that the files belong to")
	cmd.Flags().BoolVar(&several, "bundles", false, bundlesUsage)
	cmd.Flags().BoolVar(&remember, "remember", false,
		"show everybody that these files differ from what is in force, until the bundle is published")
	return cmd
}

// checkSheet writes findings as text, or, for a spreadsheet, as a table.
func checkSheet(cmd *cobra.Command, s *out.Sheet, rep model.CheckReport, colour bool) {
	if s.CSV {
		var rows [][]string
		for _, f := range rep.Findings {
			rows = append(
				rows,
				[]string{
					f.At.File,
					strconv.Itoa(f.At.Line),
					strconv.Itoa(f.At.Col),
					f.Severity,
					f.Code,
					f.Path,
					f.Message,
					f.Expected,
				},
			)
		}
		s.Table([]string{"FILE", "LINE>", "COLUMN>", "SEVERITY", "CODE", "PATH", "MESSAGE", "EXPECTED"}, rows)
		return
	}
	printFindings(cmd.OutOrStdout(), rep.Findings, colour)
	s.Line("%s, %s.", count(rep.Mistakes, "mistake"), count(rep.Warnings, "warning"))
}

// check checks files by the service; alone says why when it had to do without one.
func (a *app) check(
	cmd *cobra.Command,
	list bundles,
	remember bool,
) (rep model.CheckReport, alone, err error) {
	bundle, files, others := list.first()
	c, err := a.client()
	if err != nil {
		return rep, nil, err
	}
	rep, err = c.Check(
		cmd.Context(),
		model.CheckRequest{Bundle: bundle, Files: files, Others: others, Remember: remember},
	)
	var gone *client.Unreachable
	if errors.As(err, &gone) && !remember {
		_, found := rules.Check(list.joined(), rules.Live{})
		rep = model.CheckReport{
			Findings: from.Findings(found),
			Mistakes: rules.Mistakes(found),
			Changes:  []model.Change{},
		}
		rep.Warnings = len(found) - rep.Mistakes
		return rep, fmt.Errorf("no service answers at %s", gone.Server), nil
	}
	return rep, nil, err
}

func (a *app) rulesDiff() *cobra.Command {
	var bundle string
	var several bool
	cmd := &cobra.Command{
		Use:   "diff " + filesWords,
		Short: "Compare rule files with what is in force",
		Long: `Compare rule files with what is in force, by meaning: comments and layout do not matter.
Exit code 0: they are the same; 1: they differ, or have mistakes.`,
		Example: `  nightjar rules diff examples/ferry
  nightjar rules diff examples/ferry -o json`,
		Args: someFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := readBundles(cmd, args, bundle, several)
			if err != nil {
				return err
			}
			rep, alone, err := a.check(cmd, list, false)
			if err != nil {
				return err
			}
			if alone != nil {
				return &client.Unreachable{
					Server: a.server,
					Err:    errors.New("a comparison with what is in force needs it"),
				}
			}
			err = a.printer(cmd).Show(rep, func(s *out.Sheet) {
				switch {
				case rep.Mistakes > 0:
					printFindings(cmd.OutOrStdout(), rep.Findings, a.colour())
					s.Line("%s: nothing was compared.", count(rep.Mistakes, "mistake"))
				case len(rep.Changes) == 0:
					s.Line("The files are the same as revision %d, which is in force.", rep.Revision)
				default:
					s.Line(
						"%s against revision %d, which is in force:",
						count(len(condensed(rep.Changes)), "difference"),
						rep.Revision,
					)
					printChanges(s, rep.Changes, "IN FORCE", "FILES")
				}
				releaseChanges(s, &rep)
			})
			if err == nil && (rep.Mistakes > 0 || len(rep.Changes) > 0) {
				return finding
			}
			return err
		},
	}
	cmd.Flags().StringVar(&bundle, "bundle", model.MainBundle, "bundle that the files belong to")
	cmd.Flags().BoolVar(&several, "bundles", false, bundlesUsage)
	return cmd
}

// releaseChanges shows what releases change besides the files, and which differences
// only undo what a release wrote.
func releaseChanges(s *out.Sheet, rep *model.CheckReport) {
	for _, o := range rep.Releases {
		if !o.Written {
			s.Line(
				"Release %s is running and changes these routes without changing the files (publishing other "+
					"targets for them withdraws it):",
				o.Release,
			)
			printChanges(s, o.Changes, "FILES", "NOW")
			continue
		}
		var back []model.Change
		for _, c := range o.Changes {
			if slices.ContainsFunc(
				rep.Changes,
				func(d model.Change) bool { return d.Path == c.Path && d.Before == c.After },
			) {
				back = append(back, c)
			}
		}
		if len(back) > 0 {
			s.Line(
				"Release %s wrote this in revision %d, and your files do not have it: publishing them undoes "+
					"it (\"nightjar rules show\" prints the files in force):",
				o.Release,
				o.Revision,
			)
			printChanges(s, back, "BEFORE", "BY THE RELEASE")
		}
	}
}

func printChanges(s *out.Sheet, changes []model.Change, before, after string) {
	var rows [][]string
	for _, c := range condensed(changes) {
		rows = append(rows, []string{c.Kind(), c.Path, cmp.Or(c.Before, "–"), cmp.Or(c.After, "–"), c.At.String()})
	}
	s.Table([]string{"CHANGE", "PATH", before, after, "DEFINED AT"}, rows)
}

// condensed is changes without those that follow from others.
func condensed(changes []model.Change) []model.Change {
	return from.Changes(rules.Condense(from.ToChanges(changes)))
}

// rejected prints the mistakes of rules that the service rejected.
func (a *app) rejected(cmd *cobra.Command, err error) error {
	var no *client.Refused
	if !errors.As(err, &no) || len(no.Findings) == 0 {
		return err
	}
	print := func(*out.Sheet) { printFindings(cmd.OutOrStdout(), no.Findings, a.colour()) }
	if perr := a.printer(cmd).Show(no.Problem, print); perr != nil {
		return perr
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "nightjar: %s\n", no.Detail)
	return finding
}

// maxAway is how many proxies that are not connected are named.
const maxAway = 5

// published prints a revision that was put in force.
func (a *app) published(cmd *cobra.Command, p model.Published) error {
	err := a.printer(cmd).Show(p, func(s *out.Sheet) {
		printFindings(cmd.ErrOrStderr(), p.Warnings, false)
		r := p.Rollout
		switch {
		case p.IsUnchanged:
			s.Line("Nothing was published: revision %d, which is in force, has the same text.", p.Revision)
			return
		case r.Connected == 0:
			s.Line("Revision %d is published; no proxy is connected.", p.Revision)
		case r.Acknowledged == r.Connected:
			s.Line("Revision %d is in force in %s after %.0f ms.", p.Revision, allProxies(r.Connected), r.AfterMS)
		default:
			s.Line(
				"Revision %d is in force in %d of %d proxies after %.0f ms; not in: %s.",
				p.Revision,
				r.Acknowledged,
				r.Connected,
				r.AfterMS,
				strings.Join(r.Missing, ", "),
			)
		}
		if n := len(r.Away); n > 0 {
			more := ""
			if n > maxAway {
				more = fmt.Sprintf(" and %d others", n-maxAway)
			}
			s.Line("Not connected now, and without it until they come back: %s%s.",
				strings.Join(r.Away[:min(n, maxAway)], ", "), more)
		}
		for _, name := range p.Withdrawn {
			s.Line("Release %s was withdrawn, because its route changed.", name)
		}
		if len(p.Changes) == 0 {
			s.Line("The text changed, and its meaning did not.")
		} else {
			printChanges(s, p.Changes, "BEFORE", "NOW")
		}
		for _, note := range p.Notes {
			s.Line("%s", note)
		}
	})
	if err == nil && p.Rollout.Acknowledged < p.Rollout.Connected {
		return finding
	}
	return err
}

func allProxies(n int) string {
	if n == 1 {
		return "the one connected proxy"
	}
	return fmt.Sprintf("all %d connected proxies", n)
}

func waitMS(d time.Duration) *int {
	ms := int(d.Milliseconds())
	return &ms
}

func (a *app) rulesPublish() *cobra.Command {
	var bundle, message string
	var wait time.Duration
	var refuse, several bool
	var expect int
	cmd := &cobra.Command{
		Use:   "publish " + filesWords,
		Short: "Publish rule files as one revision",
		Long: `Publish rule files as one atomic revision, and wait until every connected proxy has it
in force. If any file has a mistake, nothing is published. Exit code 1: mistakes, or
proxies that do not have the revision in force yet.`,
		Example: `  nightjar rules publish examples/ferry --message "the usual"
  nightjar rules publish examples/ferry --expect 12`,
		Args: someFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := readBundles(cmd, args, bundle, several)
			if err != nil {
				return err
			}
			bundle, files, others := list.first()
			c, err := a.client()
			if err != nil {
				return err
			}
			var on *uint
			if cmd.Flags().Changed("expect") {
				if expect < 0 {
					return usagef("--expect %d: expected the number of a revision", expect)
				}
				n := uint(expect)
				on = &n
			}
			p, err := c.Publish(
				cmd.Context(),
				model.PublishRequest{
					Bundle:  bundle,
					Files:   files,
					Others:  others,
					Message: message,
					WaitMS:  waitMS(wait),

					RefuseUsedLinks: refuse,
				},
				on,
			)
			if err != nil {
				return a.rejected(cmd, err)
			}
			return a.published(cmd, p)
		},
	}
	f := cmd.Flags()
	f.StringVar(&bundle, "bundle", model.MainBundle, "bundle that the files replace")
	f.BoolVar(&several, "bundles", false, bundlesUsage+", in one revision")
	f.StringVarP(&message, "message", "m", "", "message of the revision")
	f.DurationVar(&wait, "wait", 5*time.Second, "how long to wait for acknowledgements")
	f.IntVar(&expect, "expect", 0, "publish only when this revision is in force")
	f.BoolVar(&refuse, "refuse-used-links", false, refuseUsage)
	return cmd
}
