package cli

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/core/rules"
	"nightjar/service"
)

func (a *app) serve() *cobra.Command {
	var addr, data, proxies, tokenFile, traced, otlp string
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service: API, console, records",
		Example: `  nightjar serve
  nightjar serve --addr 127.0.0.1:7700 --data /var/lib/nightjar`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			token, err := readToken(tokenFile)
			if err != nil {
				return err
			}
			share, err := shareFlag("--trace-share", traced)
			if err != nil {
				return err
			}
			s, err := service.Open(
				cmd.Context(),
				service.Config{
					Addr:    addr,
					Proxies: proxies,
					Token:   token,
					Data:    data,
					Traced:  share,
					OTLP:    otlp,
					Program: a.program,
					Drain:   5 * time.Second,
					Log:     slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil)),
				},
			)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Console and API at %s, records in %s\n", s.URL(), data)
			return s.Run(cmd.Context(), nil)
		},
	}
	cmd.Flags().StringVar(&addr, "addr", "127.0.0.1:7600", "address to listen on")
	cmd.Flags().
		StringVar(&proxies, "proxies", "",
			"HOST:PORT for proxies of other machines, which must show the token of --token-file; empty: none")
	cmd.Flags().StringVar(&tokenFile, "token-file", "", "file with the token of those proxies")
	cmd.Flags().StringVar(&traced, "trace-share", "1%", "share of the requests without a trace context that are traced")
	cmd.Flags().
		StringVar(&otlp, "otlp", "", "URL to export traces to, by OTLP over HTTP, such as http://127.0.0.1:4318")
	cmd.Flags().StringVar(&data, "data", defaultData(), "directory of the records")
	return cmd
}

// shareFlag reads a share of the requests, 0% to 100%.
func shareFlag(name, text string) (float64, error) {
	share, err := rules.ParsePercent(text)
	if err != nil || share > rules.Whole {
		return 0, usagef("%s %s: expected a share of the requests, such as 1%%", name, text)
	}
	return share.Share(), nil
}

// readToken reads a file with a token; no file is no token.
func readToken(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", usagef("--token-file: %w", err)
	}
	token := strings.TrimSpace(string(text))
	if token == "" || strings.ContainsAny(token, " \t\r\n") {
		return "", usagef("--token-file %s: expected one word, the token", path)
	}
	return token, nil
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
