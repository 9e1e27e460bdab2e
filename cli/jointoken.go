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
)

func (a *app) joinToken() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "join-token",
		Short: "Tokens with which proxies of other machines join the mesh",
	}
	cmd.AddCommand(a.joinTokenCreate(), a.joinTokenList(), a.joinTokenRevoke())
	return cmd
}

func (a *app) joinTokenCreate() *cobra.Command {
	var in model.JoinTokenRequest
	var good time.Duration
	cmd := &cobra.Command{
		Use:   "create",
		Short: "Make a token, for one service, gateway or crossing",
		Long: `Make a token with which a proxy joins the mesh once, as the service, gateway or crossing that
it is for; after that the proxy proves itself by its certificate, which it renews. The token
names the service's address and authority, so that nobody can answer in its place. Keep
it secret until it is used: whoever has it can be what it is for.`,
		Example: `  nightjar join-token create --service sailings --version v2 --site north-quay > token
  nightjar join-token create --gateway front-door --for 1h`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if len(in.Service)+len(in.Gateway)+len(in.Crossing) == 0 {
				return usagef("name what the proxy may be, with --service, --gateway or --crossing")
			}
			in.ForSeconds = int64(good.Seconds())
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.JoinToken, error) {
				return c.CreateJoinToken(ctx, in)
			}, func(s *out.Sheet, t model.JoinToken) { s.Line("%s", t.Token) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&in.Service, "service", "", "service that the proxy may stand beside")
	f.StringVar(&in.Gateway, "gateway", "", "gateway that the proxy may serve")
	f.StringVar(&in.Crossing, "crossing", "", "site whose crossing the proxy may be")
	f.StringVar(&in.Version, "version", "", "version of the workload; empty: any")
	f.StringVar(&in.Site, "site", "", "site where it runs; empty: any")
	f.StringSliceVar(&in.Addresses, "address", nil,
		"IP address or prefix at which it may take requests, besides the one that it connects from; can be repeated")
	f.IntVar(&in.Uses, "uses", 1, "how many proxies may join with it")
	f.DurationVar(&good, "for", 10*time.Minute, "how long it is good, at most 168h")
	f.StringVar(&in.Server, "reach", "",
		"HOST:PORT where the proxy reaches the service (default: --mesh-addr of the service, or its own address)")
	return cmd
}

func (a *app) joinTokenList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the join tokens; their texts are not stored",
		Example: `  nightjar join-token list
  nightjar join-token list -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).JoinTokens, joinTokenSheet)
		},
	}
}

func joinTokenSheet(s *out.Sheet, l model.JoinTokenList) {
	now := time.Now()
	if len(l.Tokens) == 0 {
		s.Line("There are no join tokens. Make one: nightjar join-token create --service NAME")
		return
	}
	rows := [][]string{}
	for _, t := range l.Tokens {
		what := strings.Trim(t.Service+"/"+t.Version, "/")
		switch {
		case t.Gateway != "":
			what = "gateway " + t.Gateway
		case t.Crossing != "":
			what = "crossing of " + t.Crossing
		}
		state := "good, " + left(t.Expires, now)
		switch {
		case now.After(t.Expires):
			state = "ran out"
		case t.Used >= t.Uses:
			state = "used up"
		}
		rows = append(
			rows,
			[]string{
				t.ID,
				what,
				t.Site,
				strings.Join(t.Addresses, " "),
				fmt.Sprintf("%d of %d", t.Used, t.Uses),
				state,
				t.By,
			},
		)
	}
	s.Table([]string{"TOKEN", "FOR", "SITE", "ADDRESSES", "USED>", "STATE", "BY"}, rows)
}

func (a *app) joinTokenRevoke() *cobra.Command {
	return &cobra.Command{
		Use:   "revoke TOKEN",
		Short: "Revoke a join token; proxies that joined with it stay members",
		Example: `  nightjar join-token revoke k3vq7z2a
  nightjar join-token revoke k3vq7z2a -o json`,
		Args: exactly(1, "TOKEN (see nightjar join-token list)"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.JoinTokenList, error) {
				return c.RevokeJoinToken(ctx, args[0])
			}, joinTokenSheet)
		},
	}
}
