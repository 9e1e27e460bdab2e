package cli

import (
	"net/url"
	"path/filepath"

	"github.com/spf13/cobra"

	"nightjar/client"
	"nightjar/identity"
	"nightjar/local"
	"nightjar/proxy"
	"nightjar/service"
)

// setJoin sets how a proxy joins: with a token, or with the join file of the service on
// this machine. join is a token, the file of one, or empty.
func (a *app) setJoin(cmd *cobra.Command, cfg *proxy.Config, join, state string) error {
	address, err := meshAddress(a.server)
	if err != nil {
		return err
	}
	if _, err := identity.ParseToken(join); err == nil {
		cfg.Join = func() (identity.Token, error) { return identity.ParseToken(join) }
	} else {
		files := []string{join}
		if join == "" {
			files = joinFiles(address)
		}
		cfg.Join = func() (identity.Token, error) { return identity.ReadToken(files...) }
	}
	cfg.Server = "https://" + address
	token, err := cfg.Join()
	if join != "" {
		if err != nil {
			return usagef("--join: %w", err)
		}
		if !cmd.Flags().Changed("server") {
			cfg.Server = token.Server
		}
	}
	if cfg.ID != "" && state != "" {
		cfg.Key = filepath.Join(state, cfg.ID+".identity")
	}
	return nil
}

// meshAddress is HOST:PORT of a service.
func meshAddress(server string) (string, error) {
	base, err := client.ServerURL(server)
	if err != nil {
		return "", usagef("--server: %w", err)
	}
	u, err := url.Parse(base)
	if err != nil {
		return "", usagef("--server: %w", err)
	}
	if u.Port() == "" {
		return "", usagef("--server %s: name the port too, such as %s:7600", server, u.Hostname())
	}
	return u.Host, nil
}

// joinFiles are where the join file of the service at an address may be.
func joinFiles(address string) []string {
	var out []string
	if link, err := local.Link(local.Join, address); err == nil {
		out = append(out, link)
	}
	return append(out, service.JoinFile(defaultData()))
}
