package cli

import (
	"cmp"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"time"

	"github.com/spf13/cobra"

	"nightjar/client"
	"nightjar/proxy"
)

func (a *app) proxy() *cobra.Command {
	var cfg proxy.Config
	cmd := &cobra.Command{
		Use:   "proxy",
		Short: "Run a proxy beside a workload, or a gateway",
		Long: `Run a proxy beside one instance of a workload, or serve a gateway of the rules.

Beside a workload the proxy listens twice: at --inbound, where other proxies
send requests for the workload at --app, and at --outbound, where the workload
sends its own requests, with the name of the called service as host.`,
		Example: `  nightjar proxy --service sailings --version v1 --app 127.0.0.1:9001 --outbound 127.0.0.1:9101
  nightjar proxy --gateway front-door`,
		Args: exactly(0, "--service NAME --version NAME --app HOST:PORT, or --gateway NAME"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cfg.Gateway == "" && (cfg.Service == "" || cfg.Version == "") {
				return usagef("name the workload with --service and --version, or a gateway with --gateway")
			}
			if cfg.Gateway != "" && (cfg.Service != "" || cfg.App != "") {
				return usagef("--gateway does not go with --service or --app: a gateway has no workload")
			}
			for name, v := range map[string]string{"--app": cfg.App, "--inbound": cfg.Inbound, "--outbound": cfg.Outbound} {
				if _, _, err := net.SplitHostPort(v); v != "" && err != nil {
					return usagef("%s %q: write HOST:PORT, such as 127.0.0.1:9001", name, v)
				}
			}
			server, err := client.ServerURL(a.server)
			if err != nil {
				return usagef("--server: %w", err)
			}
			cfg.Server, cfg.Program, cfg.Drain = server, a.program, 5*time.Second
			cfg.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			p, err := proxy.New(withID(cfg))
			if err != nil {
				return err
			}
			told := make(chan struct{})
			ended := make(chan struct{})
			go func() {
				defer close(told)
				select {
				case <-p.Ready():
					where := fmt.Sprintf("inbound %s, outbound %s", cmp.Or(p.Inbound(), "none"), p.Outbound())
					if cfg.Gateway != "" {
						where = "gateway " + cfg.Gateway + " at " + cmp.Or(p.Outbound(), "no address: the rules in force do not declare it")
					}
					fmt.Fprintf(cmd.OutOrStdout(), "proxy ready: revision %d, %s\n", p.Revision(), where)
				case <-ended:
				}
			}()
			err = p.Run(cmd.Context())
			close(ended)
			<-told
			return err
		},
	}
	f := cmd.Flags()
	f.StringVar(&cfg.Service, "service", "", "service of the workload")
	f.StringVar(&cfg.Version, "version", "", "version of the workload")
	f.StringVar(&cfg.Site, "site", "", "place where it runs")
	f.StringVar(&cfg.ID, "name", "", "unique name of this instance (default: from service, version or gateway, and a number)")
	f.StringVar(&cfg.App, "app", "", "HOST:PORT of the workload; without it the proxy only makes calls")
	f.StringVar(&cfg.Inbound, "inbound", "", "HOST:PORT to take requests for the workload (default: a free port of 127.0.0.1)")
	f.StringVar(&cfg.Outbound, "outbound", "", "HOST:PORT where the workload calls others (default: a free port of 127.0.0.1)")
	f.StringVar(&cfg.Gateway, "gateway", "", "gateway to serve; where it listens is in the rules")
	f.StringVar(&cfg.TLSDir, "tls-dir", "", "directory from which relative names of TLS files in rules count (default: the working directory)")
	return cmd
}

// withID gives the proxy a name when it was given none.
func withID(cfg proxy.Config) proxy.Config {
	if cfg.ID == "" {
		base := cfg.Gateway
		if base == "" {
			base = cfg.Service + "-" + cfg.Version
		}
		cfg.ID = fmt.Sprintf("%s-%04x", base, rand.N(1<<16))
	}
	return cfg
}
