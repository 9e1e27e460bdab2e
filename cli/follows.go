package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) follows() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "follow",
		Short: "Bundles whose rules come from a branch of a Git repository",
	}
	cmd.AddCommand(a.followAdd(), a.followList(), a.followNow(), a.followStop())
	return cmd
}

// maxKeyFile is how long a file with a key may be, in bytes.
const maxKeyFile = 64 << 10

func (a *app) followAdd() *cobra.Command {
	var in model.FollowRequest
	var every time.Duration
	var key string
	cmd := &cobra.Command{
		Use:   "add BUNDLE --repo URL",
		Short: "Let a bundle follow a branch: each new commit that changes the path is checked and published",
		Long: `Let a bundle follow a branch of a Git repository. Each new commit that changes the path is
checked and published; one with mistakes is refused, and the last good one stays in force.
What is changed otherwise is put back at the next look (--drift revert), or only shown
(--drift report). Adding a bundle again changes what it follows. The key is kept by the
service in a file, and never shown.

To propose changes the key must be allowed to push. HOOK in the answer is an address for
the repository's host to call (POST) at each push, so that the service looks at once.`,
		Example: `  nightjar follow add timetable --repo https://git.ferry.example/timetable.git --path rules --key token.txt
  nightjar follow add main --repo /srv/git/rules.git --branch main --every 10s`,
		Args: exactly(1, "BUNDLE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Bundle, in.EverySeconds = args[0], every.Seconds()
			if in.URL == "" {
				return usagef("name the repository: --repo https://HOST/PATH, ssh://USER@HOST/PATH, or its " +
					"absolute path on the service's machine")
			}
			if key != "" {
				text, err := keyText(cmd, key)
				if err != nil {
					return err
				}
				in.Key = text
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			f, err := c.Follow(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.followed(cmd, c, f, true)
		},
	}
	f := cmd.Flags()
	f.StringVar(&in.URL, "repo", "", "URL of the repository, or its absolute path on the service's machine")
	f.StringVar(&in.Branch, "branch", "main", "branch to follow")
	f.StringVar(&in.Path, "path", ".", "directory or file with the rules in the repository")
	f.DurationVar(&every, "every", 30*time.Second, "time between two looks, 5s to 24h")
	f.StringVar(&key, "key", "",
		"file with a private key (ssh), or with TOKEN or USER:PASSWORD (https); - for standard input")
	f.StringVar(&in.HostKey, "host-key", "",
		"by which the SSH server is known, SHA256:… (default: the key that it shows first)")
	f.StringVar(&in.Drift, "drift", model.DriftRevert,
		"what becomes of changes that are made otherwise: revert or report")
	f.StringSliceVar(&in.Notify, "notify", nil, "URL that gets a CloudEvent at each new state; can be repeated")
	cmd.RegisterFlagCompletionFunc("drift",
		cobra.FixedCompletions([]string{model.DriftRevert, model.DriftReport}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// keyText reads a file with a key.
func keyText(cmd *cobra.Command, path string) (string, error) {
	in := cmd.InOrStdin()
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return "", usage{err}
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, maxKeyFile+1))
	switch {
	case err != nil:
		return "", err
	case len(text) == 0:
		return "", usagef("--key %s: it is empty", path)
	case len(text) > maxKeyFile:
		return "", usagef("--key %s: it has more than %d bytes, which no key has", path, maxKeyFile)
	}
	return string(text), nil
}

// followed shows what became of a bundle. Unless it is in step, the exit code says so.
func (a *app) followed(cmd *cobra.Command, c *client.Client, f model.Follow, isNew bool) error {
	err := a.printer(cmd).Show(f, func(s *out.Sheet) {
		followSheet(s, []model.Follow{f}, a.colour())
		if isNew && f.Hook != "" {
			s.Line("\nHook: %s%s", c.Address(), f.Hook)
		}
		if isNew && f.HostKey != "" {
			s.Line("Host key: %s, by which the server is known from now on", f.HostKey)
		}
	})
	if err == nil && f.State != model.InStep {
		return finding
	}
	return err
}

func (a *app) followList() *cobra.Command {
	var again bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List what bundles follow, with their states, what is wrong, and open proposals",
		Example: `  nightjar follow list
  nightjar follow list --follow`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.follow(cmd, again, func(ctx context.Context, p *out.Printer) error {
				l, err := c.Follows(ctx)
				if err != nil {
					return err
				}
				return p.Show(l, func(s *out.Sheet) {
					if len(l.Follows) == 0 {
						s.Line("No bundle follows a branch. Let one: nightjar follow add BUNDLE --repo URL")
						return
					}
					followSheet(s, l.Follows, a.colour())
				})
			})
		},
	}
	cmd.Flags().BoolVar(&again, "follow", false, "show it every second")
	return cmd
}

// followSheet shows bundles in a table, and below it what is to be said of each.
func followSheet(s *out.Sheet, list []model.Follow, colour bool) {
	now := time.Now()
	var rows [][]string
	for _, f := range list {
		commit, by, subject := "–", "–", "–"
		if f.Commit != nil {
			commit, by, subject = short(f.Commit.ID), f.Commit.Author, f.Commit.Subject
		}
		revision, looked := "–", "–"
		if f.Revision > 0 {
			revision = fmt.Sprint(f.Revision)
		}
		if f.Looked != nil {
			looked = secondsAgo(*f.Looked, now)
		}
		rows = append(rows, []string{
			f.Bundle, f.State, secondsAgo(f.Since, now), f.Branch + " at " + f.Path,
			commit, by, subject, revision, looked,
		})
	}
	s.Table([]string{"BUNDLE", "STATE", "SINCE", "BRANCH", "COMMIT", "BY", "SUBJECT", "REVISION>", "LOOKED"}, rows)
	for _, f := range list {
		followNotes(s, &f, colour)
	}
}

// followNotes says what is to be known of a bundle besides its state.
func followNotes(s *out.Sheet, f *model.Follow, colour bool) {
	if f.Why != "" && f.State != model.InStep {
		s.Line("\n%s %s: %s", f.Bundle, f.State, f.Why)
	}
	if len(f.Findings) > 0 {
		var text bytes.Buffer
		printFindings(&text, f.Findings, colour)
		s.Line("%s", strings.TrimRight(text.String(), "\n"))
	}
	if len(f.Differences) > 0 {
		printChanges(s, f.Differences, "BRANCH", "IN FORCE")
	}
	for _, e := range f.Edits {
		s.Line("Release %s wrote %s of %s; the branch has not got it yet.", e.Release, e.Targets, e.Route)
	}
	var rows [][]string
	for _, p := range f.Proposals {
		if p.State == model.ProposalOpen {
			rows = append(rows, proposalRow(p))
		}
	}
	if len(rows) > 0 {
		s.Line("")
		s.Table(proposalColumns, rows)
	}
}

var proposalColumns = []string{"PROPOSAL>", "STATE", "BRANCH", "OF", "BY", "MESSAGE", "FORECAST"}

func proposalRow(p model.Proposal) []string {
	message, _, _ := strings.Cut(p.Message, "\n")
	return []string{fmt.Sprint(p.Number), p.State, p.Branch, p.Of, p.By, message, forecastText(p.Forecast)}
}

// forecastText is what the forecast says of a proposal, in a few words.
func forecastText(f *model.ProposalForecast) string {
	switch {
	case f == nil:
		return "–"
	case f.Failed != "":
		return "none: " + f.Failed
	case f.Worse != "":
		return "worse: " + f.Worse
	}
	for _, r := range f.Rows {
		if r.Success.Before != nil && r.Success.After != nil {
			name := r.Name
			if r.Kind == "mesh" {
				name = "all requests"
			}
			return fmt.Sprintf("%s %s → %s", name, out.Percent(*r.Success.Before), out.Percent(*r.Success.After))
		}
	}
	return "no requests"
}

func short(id string) string { return id[:min(len(id), 10)] }

// secondsAgo is how long ago something was, in the seconds that matter here.
func secondsAgo(at, now time.Time) string {
	if d := now.Sub(at); d < 2*time.Minute {
		return fmt.Sprintf("%d s ago", max(0, int(d.Seconds())))
	}
	return longAgo(at, now)
}

func (a *app) followNow() *cobra.Command {
	var in model.LookRequest
	cmd := &cobra.Command{
		Use:   "now BUNDLE",
		Short: "Look at the repository of a bundle at once",
		Example: `  nightjar follow now timetable
  nightjar follow now timetable -o json`,
		Args:              exactly(1, "BUNDLE"),
		ValidArgsFunction: a.followedBundles,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			f, err := c.Look(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.followed(cmd, c, f, false)
		},
	}
	cmd.Flags().BoolVar(&in.RefuseUsedLinks, "refuse-used-links", false, refuseUsage)
	return cmd
}

func (a *app) followStop() *cobra.Command {
	return &cobra.Command{
		Use:   "stop BUNDLE",
		Short: "Let a bundle follow its branch no more; what is in force stays",
		Example: `  nightjar follow stop timetable
  nightjar follow stop timetable -o json`,
		Args:              exactly(1, "BUNDLE"),
		ValidArgsFunction: a.followedBundles,
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.FollowList, error) {
				return c.StopFollowing(ctx, args[0])
			}, func(s *out.Sheet, l model.FollowList) {
				s.Line("Bundle %s follows no branch any more; what is in force stays.", args[0])
				if len(l.Follows) > 0 {
					followSheet(s, l.Follows, a.colour())
				}
			})
		},
	}
}

// followedBundles completes the names of bundles that follow a branch.
func (a *app) followedBundles(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	c, err := a.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	l, _ := c.Follows(cmd.Context())
	var out []string
	for _, f := range l.Follows {
		out = append(out, f.Bundle)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) rulesPropose() *cobra.Command {
	var in model.ProposalRequest
	var bundle string
	cmd := &cobra.Command{
		Use:   "propose [" + filesWords + "] --message MESSAGE",
		Short: "Push a change of a bundle that follows a branch as a branch of its own, to be reviewed",
		Long: `Push a change of a bundle that follows a branch as a branch of its own, to be reviewed and
merged where a team reviews code. What is proposed are the named files; with --draft, what
you are editing in the console; with --revision, the text of an earlier revision; and
without any, what is in force. Comments and layout stay. Nothing changes until the branch
is merged. The forecast compares the proposal with what is in force.`,
		Example: `  nightjar rules propose rules/ --bundle timetable --message "Ten percent for v2"
  nightjar rules propose --revision 12 --message "Keep the split of last night"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(in.Message) == "" {
				return usagef("say what the change does and why: --message MESSAGE")
			}
			if len(args) > 0 {
				files, err := readFiles(cmd, args)
				if err != nil {
					return err
				}
				in.Files = files
			}
			return a.propose(cmd, bundle, in)
		},
	}
	f := cmd.Flags()
	f.StringVarP(&in.Message, "message", "m", "", "message of the commit")
	f.StringVar(&bundle, "bundle", model.MainBundle, "bundle that the change is of")
	f.BoolVar(&in.Draft, "draft", false, "propose what you are editing in the console")
	f.UintVar(&in.Revision, "revision", 0, "propose the text of this revision")
	return cmd
}

// propose pushes a proposal and shows it.
func (a *app) propose(cmd *cobra.Command, bundle string, in model.ProposalRequest) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	p, err := c.Propose(cmd.Context(), bundle, in)
	if err != nil {
		return a.rejected(cmd, err)
	}
	return a.printer(cmd).Show(p, func(s *out.Sheet) {
		s.Line("Proposal %d: %s is pushed as branch %s.", p.Number, p.Of, p.Branch)
		s.Line("It changes %s, in commit %s.", strings.Join(p.Files, ", "), short(p.Commit))
		printChanges(s, p.Changes, "BRANCH", "PROPOSAL")
		s.Line("Forecast: %s", forecastText(p.Forecast))
		s.Line("It is in force once it is merged. Its state: nightjar rules proposals")
	})
}

func (a *app) rulesProposals() *cobra.Command {
	var withdraw string
	cmd := &cobra.Command{
		Use:   "proposals",
		Short: "List the proposals of all bundles that follow a branch, the newest first",
		Example: `  nightjar rules proposals
  nightjar rules proposals --withdraw 3`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) ([]model.Proposal, error) {
				l, err := c.Follows(ctx)
				if err != nil {
					return nil, err
				}
				if withdraw != "" {
					if l, err = withdrawn(ctx, c, l, withdraw); err != nil {
						return nil, err
					}
				}
				all := []model.Proposal{}
				for _, f := range l.Follows {
					all = append(all, f.Proposals...)
				}
				slices.SortFunc(all, func(a, b model.Proposal) int { return int(b.Number) - int(a.Number) })
				return all, nil
			}, func(s *out.Sheet, all []model.Proposal) {
				if len(all) == 0 {
					s.Line("Nothing was proposed yet. Propose a change: nightjar rules propose FILE --message MESSAGE")
					return
				}
				var rows [][]string
				for _, p := range all {
					rows = append(rows, proposalRow(p))
				}
				s.Table(proposalColumns, rows)
			})
		},
	}
	cmd.Flags().StringVar(&withdraw, "withdraw", "", "delete the branch of this open proposal first, by its number")
	return cmd
}

// withdrawn is the bundles after a proposal was withdrawn.
func withdrawn(ctx context.Context, c *client.Client, l model.FollowList, number string) (model.FollowList, error) {
	n, err := strconv.ParseUint(number, 10, 32)
	if err != nil {
		return l, usagef("--withdraw %q: write the number of a proposal", number)
	}
	for _, f := range l.Follows {
		if slices.ContainsFunc(f.Proposals, func(p model.Proposal) bool { return p.Number == uint(n) }) {
			if _, err := c.WithdrawProposal(ctx, f.Bundle, uint(n)); err != nil {
				return l, err
			}
			return c.Follows(ctx)
		}
	}
	return l, fmt.Errorf("there is no proposal %d: nightjar rules proposals lists them", n)
}
