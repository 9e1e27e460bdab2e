package cli

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nightjar/control/retention"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/service"
)

func (a *app) serve() *cobra.Command {
	var cfg service.Config
	var proxies, tokenFile, traced string
	var keep map[string]string
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service: API, console, records",
		Long: `Run the service. On a loopback address, the user of this machine needs no token: commands
find the service's socket, and nightjar console prints a link for the browser. Everybody
else signs in with an access token (nightjar token create).

On any other address people and proxies of other machines connect by TLS. The mesh's own
authority signs the certificate, unless --tls-cert and --tls-key bring one.`,
		Example: `  nightjar serve
  nightjar serve --listen 0.0.0.0:7600 --data /var/lib/nightjar`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if proxies != "" || tokenFile != "" {
				return usagef("--proxies and --token-file are gone: proxies of other machines connect to --mesh-addr " +
					"HOST:PORT, by mutual TLS, and join with a token (nightjar join-token create)")
			}
			share, err := shareFlag("--trace-share", traced)
			if err != nil {
				return err
			}
			if cfg.Keep, err = retention.ParseTimes(keep); err != nil {
				return usagef("--keep: %w", err)
			}
			cfg.Traced, cfg.Program, cfg.Drain = share, a.program, 5*time.Second
			cfg.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			s, err := service.Open(cmd.Context(), cfg)
			if err != nil {
				return err
			}
			a.sayServing(cmd, s, &cfg)
			return s.Run(cmd.Context(), nil)
		},
	}
	f := cmd.Flags()
	listenFlag(f, &cfg.Addr, "HOST:PORT of API and console; other machines reach it by TLS")
	f.StringVar(&cfg.TLSCert, "tls-cert", "",
		"file with the certificate that people are shown, and those above it (default: the authority signs one)")
	f.StringVar(&cfg.TLSKey, "tls-key", "", "file with the key of --tls-cert")
	f.StringSliceVar(&cfg.Names, "name", nil,
		"name or IP address by which people reach the service, besides those of this machine; can be repeated")
	f.StringVar(&cfg.Mesh, "mesh-addr", "",
		"HOST:PORT where proxies of other machines connect, by mutual TLS; empty: there are none")
	f.StringVar(&cfg.Domain, "trust-domain", "",
		"trust domain of all identities, chosen at the first start (default: "+identity.DefaultDomain+")")
	f.DurationVar(&cfg.Life, "certificate-life", authority.DefaultLife,
		"how long the certificates of proxies live, 1h to 168h; they are renewed at half of it")
	f.StringVar(
		&cfg.CACert,
		"ca-cert",
		"",
		"file with a certificate that signs those of proxies, and those above it, the root last (default: one of its own)",
	)
	f.StringVar(&cfg.CAKey, "ca-key", "", "file with the key of --ca-cert")
	f.StringVar(&cfg.SignOn, "sign-on", "", "file about a provider of identities, by which people sign in (OpenID Connect)")
	f.StringVar(&cfg.Follow, "follow", "", "file about bundles that follow a branch of a Git repository")
	f.StringVar(&traced, "trace-share", "1%", "share of the requests without a trace context that are traced")
	f.StringVar(&cfg.OTLP, "otlp", "", "URL to export traces to, by OTLP over HTTP, such as http://127.0.0.1:4318")
	f.StringVar(&cfg.Data, "data", defaultData(), "directory of the records")
	f.StringToStringVar(
		&keep,
		"keep",
		nil,
		"how long records are kept, such as revisions=90d,trials=forever (default: "+
			"revisions, effects, releases, drills and activity 400d; trials and drafts 180d; judgements 90d; notices 14d)",
	)
	for name, v := range map[string]*string{"proxies": &proxies, "token-file": &tokenFile} {
		f.StringVar(v, name, "", "gone")
		f.MarkHidden(name)
	}
	return cmd
}

// listenFlag adds the flag for where a service listens. It was called --addr, which still
// works.
func listenFlag(f *pflag.FlagSet, addr *string, about string) {
	f.SetNormalizeFunc(func(_ *pflag.FlagSet, name string) pflag.NormalizedName {
		if name == "addr" {
			name = "listen"
		}
		return pflag.NormalizedName(name)
	})
	f.StringVar(addr, "listen", "127.0.0.1:7600", about)
}

// sayServing says where the service is, and how to get in.
func (a *app) sayServing(cmd *cobra.Command, s *service.Service, cfg *service.Config) {
	w := cmd.OutOrStdout()
	fmt.Fprintf(w, "Console and API at %s, records in %s\n", s.URL(), cfg.Data)
	fmt.Fprintf(w, "A link that signs you in to the console: nightjar console%s\n", a.serverFlag(cfg.Addr))
	if f := s.Fingerprint(); s.IsSecure() && f != "" {
		fmt.Fprintf(w, "Other machines: nightjar sign-in --server %s --authority %s\n", s.URL(), f)
	}
}

// shareFlag reads a share of the requests, 0% to 100%.
func shareFlag(name, text string) (float64, error) {
	share, err := rules.ParsePercent(text)
	if err != nil || share > rules.Whole {
		return 0, usagef("%s %s: expected a share of the requests, such as 1%%", name, text)
	}
	return share.Share(), nil
}

func defaultData() string {
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "nightjar")
	}
	if home, err := os.UserHomeDir(); err == nil {
		return filepath.Join(home, ".local", "share", "nightjar")
	}
	return "nightjar-data"
}
