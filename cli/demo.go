package cli

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/service"
	"nightjar/standin"
)

func (a *app) demo() *cobra.Command {
	var addr, data, traced, otlp string
	var noTraffic, quiet bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with a sample mesh and steady traffic",
		Long: `Run the service, the sample mesh (a night ferry line of eleven instances with a proxy
each, and a gateway) and steady traffic of 40 requests per second, all in one process.
The gateway listens 80 ports above the service, the harbour office outside the mesh 90
ports. Records are kept in a temporary directory unless --data names another one.`,
		Example: `  nightjar demo
  nightjar demo --listen 127.0.0.1:7700 --no-traffic`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			gateway, outside, err := standin.Ports(addr)
			if err != nil {
				return usage{err}
			}
			share, err := shareFlag("--trace-share", traced)
			if err != nil {
				return err
			}
			if data == "" {
				if data, err = os.MkdirTemp("", "nightjar-demo-"); err != nil {
					return err
				}
				defer os.RemoveAll(data)
			}
			log := slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), &slog.HandlerOptions{Level: slog.LevelError}))
			const drain = 500 * time.Millisecond // shutdown takes little more than twice that
			s, err := service.Open(
				cmd.Context(),
				service.Config{
					Addr:    addr,
					Data:    data,
					Program: a.program,
					Traced:  share,
					OTLP:    otlp,
					Log:     log,
					Drain:   drain,
				},
			)
			if err != nil {
				return err
			}
			mesh := standin.Mesh{
				Gateway: gateway,
				Outside: outside,
				Program: a.program,
				Log:     log,
				Drain:   drain,
			}
			return s.Run(cmd.Context(), func(ctx context.Context) error {
				return mesh.Run(ctx, s, func(ctx context.Context) {
					if !quiet {
						fmt.Fprintf(cmd.OutOrStdout(), welcome, s.ConsoleLink(consoleLife), gateway, a.serverFlag(addr), program())
					} else {
						fmt.Fprintln(cmd.OutOrStdout(), s.URL())
					}
					if !noTraffic {
						standin.Traffic{Gateway: gateway, Host: standin.Host, Rate: 40}.Run(ctx)
					}
				})
			})
		},
	}
	f := cmd.Flags()
	listenFlag(f, &addr, "HOST:PORT of API and console")
	f.StringVar(&data, "data", "", "directory of the records (default: a temporary one)")
	f.StringVar(&traced, "trace-share", "5%", "share of the requests without a trace context that are traced")
	f.StringVar(&otlp, "otlp", "", "URL to export traces to, by OTLP over HTTP")
	f.BoolVar(&noTraffic, "no-traffic", false, "send no traffic")
	f.BoolVar(&quiet, "quiet", false, "print only the address of the console")
	return cmd
}

// consoleLife is how long the link is good that the demo prints.
const consoleLife = 24 * time.Hour

const welcome = `The night ferry line is running.

  Console   %[1]s
            (signs you in once, within a day; another link: %[4]s console%[3]s)
  Gateway   http://%[2]s/

Five things to try, in another terminal:

  %[4]s services%[3]s
  %[4]s call http://sailings/sailings/today -n 200%[3]s
  %[4]s split sailings v1=30 v2=70%[3]s
  %[4]s explain GET http://sailings/sailings/today -H 'x-crew: yes'%[3]s
  %[4]s release start sailings-to-v2 --follow%[3]s

Press Ctrl-C to stop.
`

// serverFlag is the flag that the other commands need to find this service.
func (a *app) serverFlag(addr string) string {
	host, port, err := net.SplitHostPort(addr)
	if ip := net.ParseIP(host); err == nil && (host == "" || ip != nil && ip.IsUnspecified()) {
		addr = net.JoinHostPort("127.0.0.1", port)
	}
	if addr == "127.0.0.1:7600" {
		return ""
	}
	return " --server " + addr
}

// program is how this program was called, to be called so again.
func program() string {
	if strings.Contains(os.Args[0], "/") {
		return os.Args[0]
	}
	return "nightjar"
}
