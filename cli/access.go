package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) access() *cobra.Command {
	var from, to string
	cmd := &cobra.Command{
		Use:   "access",
		Short: "Who may call whom, who did, and who was refused",
		Long: `List callers and services: what the access rules say (section access), and the requests
of the last 14 days. A permission that nobody used can go; a link that is used and not
allowed is refused. "nightjar explain --from CALLER" says for one request which rule
decides.`,
		Example: `  nightjar access
  nightjar access --to sailings -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.AccessMatrix, error) {
				return c.Access(ctx, from, to)
			}, func(s *out.Sheet, m model.AccessMatrix) { accessSheet(s, m, time.Now()) })
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "only this caller: a service, or gateway/NAME")
	cmd.Flags().StringVar(&to, "to", "", "only this service")
	a.completeService(cmd, "from", "to")
	cmd.AddCommand(a.accessSuggest())
	return cmd
}

func accessSheet(s *out.Sheet, m model.AccessMatrix, now time.Time) {
	switch {
	case !m.HasRules:
		s.Line("There are no access rules: every member may call every service. See nightjar access suggest.")
	case m.IsWatching:
		s.Line("Access rules of revision %d, default %s, only watched: nothing is refused.", m.Revision, m.Default)
	default:
		s.Line("Access rules of revision %d, default %s.", m.Revision, m.Default)
	}
	s.Line("Requests of the last %d days.\n", m.Days)
	if len(m.Links) == 0 {
		s.Line("There were no requests between services.")
		return
	}
	var rows [][]string
	for _, l := range m.Links {
		state := l.State
		if l.Used == 0 && l.Refused == 0 && l.Watched == 0 && state != "denied" {
			state += ", unused"
		}
		rows = append(rows, []string{
			l.To,
			accessCaller(l.From),
			state,
			strings.Join(l.Rules, ", "),
			accessCount(l.Used),
			accessAgo(l.LastUsed, now),
			accessCount(l.Refused),
			accessAgo(l.LastRefused, now),
			accessCount(l.Watched),
			cmp.Or(l.Identity, "–"),
		})
	}
	s.Table([]string{"SERVICE", "CALLER", "ACCESS", "RULES", "USED>", "LAST USED>", "REFUSED>", "LAST REFUSED>",
		"WOULD BE REFUSED>", "IDENTITY"}, rows)
	if len(m.Unproven) == 0 {
		return
	}
	s.Line("\nCallers without an identity, which identity: required would refuse:\n")
	rows = nil
	for _, u := range m.Unproven {
		rows = append(rows, []string{u.Service, u.Address, accessCount(u.Requests), accessAgo(u.LastUsed, now)})
	}
	s.Table([]string{"SERVICE", "ADDRESS", "USED>", "LAST USED>"}, rows)
}

// accessCaller is a caller in words.
func accessCaller(name string) string {
	switch name {
	case "":
		return "(no identity)"
	case "nightjar":
		return "(the service itself)"
	}
	return name
}

func accessCount(n uint64) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

func accessAgo(at, now time.Time) string {
	switch {
	case at.IsZero():
		return "–"
	case now.Sub(at) < time.Minute:
		return "now"
	case now.Sub(at) < 48*time.Hour:
		return hours(now.Sub(at).Round(time.Minute)) + " ago"
	}
	return at.Local().Format(time.DateOnly)
}

func (a *app) accessSuggest() *cobra.Command {
	return &cobra.Command{
		Use:   "suggest",
		Short: "Print the fewest access rules that allow what was used in the last 14 days",
		Example: `  nightjar access suggest > access.yaml
  nightjar access suggest -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).SuggestAccess, func(s *out.Sheet, v model.AccessSuggestion) {
				s.Line("%s", strings.TrimSpace(v.File.Text))
			})
		},
	}
}
