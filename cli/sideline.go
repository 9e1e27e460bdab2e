package cli

import (
	"context"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) letBack() *cobra.Command {
	return &cobra.Command{
		Use:   "let-back SERVICE INSTANCE",
		Short: "Let a sidelined instance take requests again before its time",
		Long: `Tell every proxy that has sidelined an instance to let it take requests again now. It
comes to its full share within ten seconds, and is sidelined anew if it fails again. Which
instances are sidelined: nightjar services SERVICE -o wide.`,
		Example: `  nightjar let-back sailings sailings-v1-a
  nightjar let-back sailings sailings-v1-a -o json`,
		Args:              exactly(2, "SERVICE INSTANCE"),
		ValidArgsFunction: a.serviceNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			call := func(c *client.Client, ctx context.Context) (model.LetBackResult, error) {
				return c.LetBack(ctx, args[0], args[1])
			}
			return ask(a, cmd, call, func(s *out.Sheet, r model.LetBackResult) {
				n := "1 proxy sends"
				if r.Proxies != 1 {
					n = count(r.Proxies, "proxy") + " send"
				}
				s.Line("%s requests to %s again.", n, args[1])
			})
		},
	}
}
