package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) ca() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "ca",
		Short: "The authority that signs the certificates of proxies: show, rotate, replace, export",
		Long: `Every proxy proves who it is by a certificate that the mesh's authority signed. The
authority is made at the first start of the service; its keys are files in the data
directory that only their owner can read, and never leave it.`,
	}
	cmd.AddCommand(a.caShow(), a.caRotate(), a.caRequest(), a.caInstall(), a.caExport())
	return cmd
}

func (a *app) caShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show",
		Short: "Show the authority, and how a rotation is going",
		Example: `  nightjar ca show
  nightjar ca show -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.showAuthority(cmd, (*client.Client).Authority)
		},
	}
}

// showAuthority shows the authority after a call.
func (a *app) showAuthority(
	cmd *cobra.Command,
	call func(*client.Client, context.Context) (model.Authority, error),
) error {
	return ask(a, cmd, call, func(s *out.Sheet, v model.Authority) { authoritySheet(s, v, time.Now()) })
}

// phases say what a rotation does.
var phases = map[string]string{
	"announcing": "A rotation is under way, step 1 of 3: all proxies are told to trust the new root too.",
	"signing":    "A rotation is under way, step 2 of 3: all proxies get certificates of the new root.",
	"retiring":   "A rotation is under way, step 3 of 3: all proxies are told to forget the old root.",
}

func authoritySheet(s *out.Sheet, v model.Authority, now time.Time) {
	life := time.Duration(v.LifeSeconds) * time.Second
	s.Line("Trust domain %s. Certificates of proxies live %s and are renewed at half of it.", v.Domain, hours(life))
	if text := phases[v.Phase]; text != "" {
		s.Line("%s", text)
		if n := len(v.Waiting); n > 0 {
			s.Line("It waits for %d of %s: %s", n, count(v.Proxies, "proxy"), few(v.Waiting))
		}
	}
	if v.HasRequest {
		s.Line("A signing request was made: nightjar ca install takes its certificate into use.")
	}
	s.Line("")
	rows := [][]string{}
	for _, r := range v.Roots {
		state := "trusted"
		if r.Signs {
			state = "trusted, signs"
		}
		key := "elsewhere"
		if r.HasKey {
			key = "here"
		}
		rows = append(rows, []string{"root", r.Name, state, left(r.Expires, now), key, r.Fingerprint})
	}
	rows = append(
		rows,
		[]string{"signer", v.Signer.Name, "signs, below " + v.Signer.Issuer, left(v.Signer.Expires, now), "here", ""},
	)
	s.Table([]string{"", "NAME", "STATE", "EXPIRES", "KEY", "FINGERPRINT (SHA-256)"}, rows)
}

// few is the first names of a list.
func few(names []string) string {
	if len(names) > 5 {
		return strings.Join(names[:5], ", ") + fmt.Sprintf(" and %d more", len(names)-5)
	}
	return strings.Join(names, ", ")
}

// hours is a life of hours or days.
func hours(d time.Duration) string {
	if d >= 48*time.Hour && d%(24*time.Hour) == 0 {
		return count(int(d/(24*time.Hour)), "day")
	}
	text := strings.TrimSuffix(d.String(), "m0s")
	if text != d.String() {
		text += "m"
	}
	if short := strings.TrimSuffix(text, "h0m"); short != text {
		return short + "h"
	}
	return text
}

// left is when something runs out, and in how long.
func left(at, now time.Time) string {
	d := at.Sub(now)
	switch {
	case d < 0:
		return at.Local().Format(time.DateTime) + " (ran out)"
	case d > 48*time.Hour:
		return fmt.Sprintf("%s (in %d days)", at.Local().Format(time.DateOnly), int(d.Hours()/24))
	}
	return fmt.Sprintf("%s (in %s)", at.Local().Format(time.DateTime), hours(d.Round(time.Minute)))
}

func (a *app) caRotate() *cobra.Command {
	return &cobra.Command{
		Use:   "rotate",
		Short: "Replace the root by a new one, while requests go on",
		Long: `Replace the root by a new one. The service goes on by itself, each step when all
proxies are as far: they trust both roots, they get certificates of the new one, they
forget the old one. No request fails. "nightjar ca show" says how far it is.

A proxy that is switched off meanwhile has to join again when it comes back.`,
		Example: `  nightjar ca rotate
  nightjar ca rotate -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.showAuthority(cmd, func(c *client.Client, ctx context.Context) (model.Authority, error) {
				return c.RotateAuthority(ctx)
			})
		},
	}
}

func (a *app) caRequest() *cobra.Command {
	return &cobra.Command{
		Use:   "request",
		Short: "Print a signing request, so that your own authority signs that of the mesh",
		Long: `Print a signing request (PKCS #10, PEM) for a certificate that may sign others (CA:TRUE,
path length 0). The key stays with the service. Have your authority sign it, then run
"nightjar ca install" with the certificate and those above it.`,
		Example: `  nightjar ca request > mesh.csr
  nightjar ca request -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.SigningRequest, error) {
				return c.RequestAuthority(ctx)
			}, func(s *out.Sheet, r model.SigningRequest) { s.Line("%s", strings.TrimSpace(r.Request)) })
		},
	}
}

func (a *app) caInstall() *cobra.Command {
	return &cobra.Command{
		Use:   "install FILE",
		Short: "Take the certificate for the signing request into use",
		Long: `Take the certificate for the signing request into use. FILE (- is standard input) has
certificates in PEM: the one for the request first, then those above it, the root last.
Under another root than before, a rotation begins.`,
		Example: `  nightjar ca install mesh-chain.pem
  nightjar ca install - < mesh-chain.pem`,
		Args: exactly(1, "FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := readFileOr(cmd, args[0])
			if err != nil {
				return usagef("%w", err)
			}
			return a.showAuthority(cmd, func(c *client.Client, ctx context.Context) (model.Authority, error) {
				return c.InstallAuthority(ctx, model.InstallRequest{Chain: string(text)})
			})
		},
	}
}

// readFileOr reads a file, or standard input when its name is a hyphen.
func readFileOr(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
	}
	return os.ReadFile(name)
}

func (a *app) caExport() *cobra.Command {
	return &cobra.Command{
		Use:   "export",
		Short: "Print the roots that proxies trust, in PEM",
		Example: `  nightjar ca export > roots.pem
  nightjar ca export -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).Roots, func(s *out.Sheet, r model.Roots) {
				s.Line("%s", strings.TrimSpace(r.Roots))
			})
		},
	}
}
