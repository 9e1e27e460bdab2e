package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/control/people"
)

func (a *app) token() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "token",
		Short: "Access tokens of people and programs",
	}
	cmd.AddCommand(a.tokenCreate(), a.tokenList(), a.tokenRevoke())
	return cmd
}

func (a *app) tokenCreate() *cobra.Command {
	var in model.AccessTokenRequest
	var good string
	cmd := &cobra.Command{
		Use:   "create NAME",
		Short: "Make an access token; its text is shown this once",
		Long: `Make an access token for a person or a program. NAME is in the records of all that is
done by it. A viewer may look; an editor may also change rules, run trials, releases and
drills, and send requests; an admin may also manage people, proxies that join and the
authority. With --team, somebody sees the part of those teams alone, and an editor changes
what they own. Only a hash of the token is kept, so its text cannot be shown again.`,
		Example: `  nightjar token create mara --role editor > token
  nightjar token create pipeline --role editor --team timetable --for 30d`,
		Args: exactly(1, "NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			life, err := days(good)
			if err != nil {
				return usagef("--for: %w", err)
			}
			in.Name, in.ForSeconds = args[0], int64(life.Seconds())
			if in.Role == "" {
				return usagef("name what %s may do: --role viewer, editor or admin", args[0])
			}
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.AccessToken, error) {
				return c.CreateAccessToken(ctx, in)
			}, func(s *out.Sheet, t model.AccessToken) { s.Line("%s", t.Token) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&in.Role, "role", "", "viewer, editor or admin")
	f.StringSliceVar(&in.Teams, "team", nil, "team whose part it is limited to (default: it is not limited); can be repeated")
	f.StringVar(&good, "for", "90d", "how long it is good, in days or as 12h, at most 400d")
	roles := []string{string(people.Viewer), string(people.Editor), string(people.Admin)}
	cmd.RegisterFlagCompletionFunc("role", cobra.FixedCompletions(roles, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// days reads a time in days, such as 90d, or as a duration.
func days(text string) (time.Duration, error) {
	if n, isDays := strings.CutSuffix(text, "d"); isDays {
		hours, err := time.ParseDuration(n + "h")
		if err != nil || hours > 100_000*time.Hour {
			return 0, fmt.Errorf("%q is no time: write days, such as 90d, or 12h", text)
		}
		return 24 * hours, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time: write days, such as 90d, or 12h", text)
	}
	return d, nil
}

func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the access tokens; their texts are not stored",
		Example: `  nightjar token list
  nightjar token list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).AccessTokens, tokenSheet)
		},
	}
}

func tokenSheet(s *out.Sheet, l model.AccessTokenList) {
	if len(l.Tokens) == 0 {
		s.Line("There are no access tokens. Make one: nightjar token create NAME --role editor")
		return
	}
	now := time.Now()
	rows := [][]string{}
	for _, t := range l.Tokens {
		state := "good, " + left(t.Expires, now)
		if !now.Before(t.Expires) {
			state = "ran out"
		}
		used := "never"
		if t.Used != nil {
			used = longAgo(*t.Used, now)
		}
		rows = append(rows, []string{t.ID, t.Name, t.Role, strings.Join(t.Teams, " "), state, used, t.By})
	}
	s.Table([]string{"TOKEN", "NAME", "ROLE", "TEAMS", "STATE", "LAST USED", "BY"}, rows)
}

// longAgo is how long ago something was.
func longAgo(at, now time.Time) string {
	d := now.Sub(at)
	switch {
	case d < 2*time.Minute:
		return "just now"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d d ago", int(d.Hours()/24))
}

func (a *app) tokenRevoke() *cobra.Command {
	return &cobra.Command{
		Use:   "revoke TOKEN",
		Short: "Revoke an access token, by its id or name, and end all that is done by it",
		Example: `  nightjar token revoke mara
  nightjar token revoke k3vq7z2a -o json`,
		Args: exactly(1, "TOKEN (see nightjar token list)"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.AccessTokenList, error) {
				return c.RevokeAccessToken(ctx, args[0])
			}, tokenSheet)
		},
	}
}

func (a *app) session() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "session",
		Short: "Who is signed in to the console",
	}
	list := &cobra.Command{
		Use:   "list",
		Short: "List the sessions: of an admin all, of others their own",
		Example: `  nightjar session list
  nightjar session list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).Sessions, sessionSheet)
		},
	}
	end := &cobra.Command{
		Use:   "end SESSION|NAME",
		Short: "End a session, or all of a person, and all that is done by them",
		Example: `  nightjar session end k3vq7z2a
  nightjar session end mara@ferry.example`,
		Args: exactly(1, "SESSION or NAME (see nightjar session list)"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.SessionList, error) {
				return c.EndSession(ctx, args[0])
			}, sessionSheet)
		},
	}
	cmd.AddCommand(list, end)
	return cmd
}

func sessionSheet(s *out.Sheet, l model.SessionList) {
	if len(l.Sessions) == 0 {
		s.Line("Nobody is signed in to the console. A link that signs you in: nightjar console")
		return
	}
	now := time.Now()
	rows := [][]string{}
	for _, e := range l.Sessions {
		of := e.Of
		if of == "" {
			of = "local"
		}
		rows = append(rows, []string{
			e.ID, e.Name, e.Role, strings.Join(e.Teams, " "), of, e.Address,
			longAgo(e.Created, now), longAgo(e.Used, now), left(e.Expires, now), e.Program,
		})
	}
	s.Table([]string{"SESSION", "NAME", "ROLE", "TEAMS", "OF", "FROM", "BEGAN", "LAST USED", "GOOD FOR", "BROWSER"}, rows)
}
