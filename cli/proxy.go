package cli

import (
	"cmp"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nightjar/proxy"
	"nightjar/proxy/process"
)

const proxyHelp = `Run a proxy beside one instance of a workload, serve a gateway of the rules, or carry
what comes from other sites to the instances of one.

Beside a workload, the proxy listens at two addresses: at --inbound, where other proxies
send requests for the workload at --app; and at --outbound, where the workload sends its
own requests, with the name of the called service as host. A workload that reads the
address of a proxy from its environment only needs HTTP_PROXY=http://HOST:PORT of
--outbound.

A crossing takes connections at --inbound, and carries each to the instance that it names,
without decrypting it. The rules say where others reach it: sites: {NAME: {crossing:
HOST:PORT}}. When it ends it waits for up to --drain (75s) until callers have made other
connections, as they do each minute.

SIGTERM drains: the instance leaves the registry, requests finish, and the process
exits. SIGHUP starts the program again with the same arguments, hands over the
listeners, and drains when the new process has rules in force: an upgrade without
failed requests.`

func (a *app) proxy() *cobra.Command {
	var cfg proxy.Config
	var state, join, tokenFile, logged string
	var ownProgram bool
	cmd := &cobra.Command{
		Use:   "proxy",
		Short: "Run a proxy beside a workload, a gateway, or the crossing of a site",
		Long:  proxyHelp,
		Example: `  nightjar proxy --service sailings --version v1 --app 127.0.0.1:9001 --outbound 127.0.0.1:9101
  nightjar proxy --crossing north-quay --inbound 0.0.0.0:7443`,
		Args: exactly(0, "--service NAME --version NAME --app HOST:PORT, --gateway NAME, or --crossing SITE"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := checkProxy(&cfg); err != nil {
				return err
			}
			if cfg.Crossing != "" && !cmd.Flags().Changed("drain") {
				cfg.Drain = crossingDrain
			}
			if tokenFile != "" {
				return usagef(
					"--token-file is gone: a proxy of another machine joins with a token of its own, named by --join: " +
						"see nightjar join-token create",
				)
			}
			cfg.Program = a.program
			if err := a.setJoin(cmd, &cfg, join, state); err != nil {
				return err
			}
			var err error
			if cfg.LogShare, err = shareFlag("--log-requests", logged); err != nil {
				return err
			}
			cfg.LogTo = cmd.OutOrStdout()
			cfg.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			if cfg.Before, err = process.Inherited(); err != nil {
				return err
			}
			if state != "" {
				cfg.State = filepath.Join(state, cmp.Or(cfg.ID, kindOf(cfg))+".json")
			}
			cfg.Start = startOf(state, ownProgram)
			if b := cfg.Before; b != nil && cfg.Start != nil && len(b.Args) > 0 { // whatever a program did to them
				cfg.Start.Args = b.Args
			}
			p, err := proxy.New(withID(cfg))
			if err != nil {
				return err
			}
			return a.runProxy(cmd, p, cfg)
		},
	}
	proxyFlags(cmd.Flags(), &cfg)
	f := cmd.Flags()
	f.StringVar(&join, "join", "",
		"file with a join token, or the token (default: the join file of the service on this machine)")
	f.StringVar(&tokenFile, "token-file", "", "gone")
	f.MarkHidden("token-file")
	f.StringVar(&state, "state", defaultState(),
		"directory where certificate, rules and instances are kept, for the next start; empty: none")
	f.BoolVar(&ownProgram, "own-program", false, "take no program that the service offers (see nightjar fleet upgrade)")
	f.StringVar(&logged, "log-requests", "0%",
		"share of the requests to log to standard output, as one line of JSON each")
	return cmd
}

// checkProxy tells whether the flags can be used together, and whether addresses are
// addresses.
func checkProxy(cfg *proxy.Config) error {
	if cfg.Crossing != "" {
		switch {
		case cfg.Gateway+cfg.Service+cfg.Version+cfg.App+cfg.Outbound != "" || len(cfg.Ports) > 0:
			return usagef("--crossing cannot be combined with --gateway, --service, --version, --app, --outbound or --port: " +
				"a crossing has no workload")
		case cfg.Site != "" && cfg.Site != cfg.Crossing:
			return usagef("--site %s: the crossing of %s is at its own site", cfg.Site, cfg.Crossing)
		case cfg.Inbound == "":
			return usagef("name the address where other sites reach the crossing: --inbound HOST:PORT, such as 0.0.0.0:7443")
		}
		cfg.Site = cfg.Crossing
	} else if cfg.Gateway == "" && (cfg.Service == "" || cfg.Version == "") {
		return usagef("name the workload with --service and --version, a gateway with --gateway, or a site with --crossing")
	}
	if cfg.Gateway != "" && (cfg.Service != "" || cfg.App != "") {
		return usagef("--gateway cannot be combined with --service or --app: a gateway has no workload")
	}
	addresses := map[string]string{
		"--app":      cfg.App,
		"--inbound":  cfg.Inbound,
		"--outbound": cfg.Outbound,
		"--metrics":  cfg.Metrics,
	}
	for name, v := range addresses {
		if _, _, err := net.SplitHostPort(v); v != "" && err != nil {
			return usagef("%s %q: expected HOST:PORT, such as 127.0.0.1:9001", name, v)
		}
	}
	for service, address := range cfg.Ports {
		if _, _, err := net.SplitHostPort(address); err != nil {
			return usagef(
				"--port %s=%s: expected SERVICE=HOST:PORT, such as %s=127.0.0.1:9201",
				service,
				address,
				service,
			)
		}
	}
	if cfg.Gateway != "" && len(cfg.Ports) > 0 {
		return usagef("--port cannot be combined with --gateway: a gateway has no workload")
	}
	return nil
}

// proxyFlags adds the flags that are settings of the proxy.
func proxyFlags(f *pflag.FlagSet, cfg *proxy.Config) {
	f.StringVar(&cfg.Service, "service", "", "service of the workload")
	f.StringVar(&cfg.Version, "version", "", "version of the workload")
	f.StringVar(&cfg.Site, "site", "", "site where it runs")
	f.StringVar(&cfg.ID, "name", "",
		"unique name of this instance (default: made of service, version or gateway, and a random number)")
	f.StringVar(&cfg.App, "app", "", "HOST:PORT of the workload; without it, the proxy only sends requests")
	f.StringVar(&cfg.Inbound, "inbound", "",
		"HOST:PORT that takes requests for the workload, or for a site (default: a free port of 127.0.0.1)")
	f.StringVar(&cfg.Outbound, "outbound", "",
		"HOST:PORT where the workload calls others (default: a free port of 127.0.0.1)")
	f.StringVar(&cfg.Gateway, "gateway", "", "gateway to serve; where it listens is in the rules")
	f.StringVar(&cfg.Crossing, "crossing", "", "site to whose instances it carries what comes from other sites")
	f.StringToStringVar(&cfg.Ports, "port", nil,
		"SERVICE=HOST:PORT where the workload calls one service, whatever host it names; also for TCP "+
			"services; can be repeated")
	f.BoolVar(&cfg.LogFailures, "log-failures", false, "log every request that did not succeed, whatever the share")
	f.StringVar(&cfg.Metrics, "metrics", "", "HOST:PORT for /metrics (OpenMetrics), /healthz and /readyz; empty: none")
	f.DurationVar(&cfg.Drain, "drain", 5*time.Second, "how long requests may take to finish at shutdown")
	f.StringVar(&cfg.TLSDir, "tls-dir", "",
		"directory that relative names of TLS files in rules refer to (default: the working directory)")
}

// startOf is how this program was started; nil: that is not known. state is where programs
// that the service offers are kept; empty, or with own, none is taken.
func startOf(state string, own bool) *proxy.Start {
	program, err := exec.LookPath(os.Args[0]) // the file of that name then, not the one that runs now
	if err == nil {
		program, err = filepath.Abs(program)
	}
	if err != nil {
		return nil
	}
	s := &proxy.Start{Program: program, Args: os.Args}
	if state != "" && !own {
		s.Programs = filepath.Join(state, "programs")
	}
	return s
}

// runProxy runs a proxy and prints when it is ready, until it is told to stop or another
// process took over.
func (a *app) runProxy(cmd *cobra.Command, p *proxy.Proxy, cfg proxy.Config) error {
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	defer signal.Stop(again)
	ended, told := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(told)
		ready := p.Ready()
		for {
			select {
			case <-ready:
				ready = nil
				fmt.Fprintln(cmd.OutOrStdout(), readyLine(p, cfg))
				cfg.Before.Done()
				process.Notify(fmt.Sprintf("READY=1\nMAINPID=%d", os.Getpid()))
			case <-again:
				pid, err := p.HandOver(cmd.Context())
				if err != nil {
					cfg.Log.Error("the listeners were not handed over; this process continues", "error", err)
					continue
				}
				cfg.Log.Info("handed over; this process drains", "to", pid)
			case <-ended:
				return
			}
		}
	}()
	err := p.Run(cmd.Context())
	close(ended)
	<-told
	return err
}

func readyLine(p *proxy.Proxy, cfg proxy.Config) string {
	where := fmt.Sprintf("inbound %s, outbound %s", cmp.Or(p.Inbound(), "none"), p.Outbound())
	for _, name := range slices.Sorted(maps.Keys(p.Ports())) {
		where += fmt.Sprintf(", %s %s", name, p.Ports()[name])
	}
	if cfg.Gateway != "" {
		where = "gateway " + cfg.Gateway + " at " + cmp.Or(
			p.Outbound(),
			"no address: the rules in force do not declare it",
		)
	}
	if cfg.Crossing != "" {
		where = "crossing of " + cfg.Crossing + " at " + p.Crossing()
	}
	line := fmt.Sprintf("proxy ready: revision %d, %s", p.Revision(), where)
	if since := p.StaleSince(); !since.IsZero() {
		line += ", stale since " + since.Local().Format(time.DateTime)
	}
	return line
}

// crossingDrain is longer than callers use a connection through a crossing for new requests.
const crossingDrain = 75 * time.Second

// defaultState is where proxies keep rules and instances by default.
func defaultState() string {
	dir, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "nightjar", "proxies")
}

// kindOf is the name of what a proxy serves.
func kindOf(cfg proxy.Config) string {
	if cfg.Gateway != "" {
		return cfg.Gateway
	}
	if cfg.Crossing != "" {
		return "crossing-" + cfg.Crossing
	}
	return cfg.Service + "-" + cfg.Version
}

// withID gives the proxy a name if it has none.
func withID(cfg proxy.Config) proxy.Config {
	if cfg.Before != nil {
		cfg.ID = cfg.Before.ID
	}
	if cfg.ID == "" {
		cfg.ID = fmt.Sprintf("%s-%04x", kindOf(cfg), rand.N(1<<16))
	}
	return cfg
}
