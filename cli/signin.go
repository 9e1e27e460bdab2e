package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
	"nightjar/identity"
)

// Variables of the environment by which programs sign in.
const (
	tokenVariable     = "NIGHTJAR_TOKEN"
	authorityVariable = "NIGHTJAR_AUTHORITY"
)

// signedIn is how this user reaches a service.
type signedIn struct {
	Token     string `json:"token"`
	Authority string `json:"authority,omitempty"` // fingerprint
}

// signInsFile is where the sign-ins of this user are, by the address of the service.
func signInsFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "nightjar", "sign-ins.json"), err
}

func readSignIns() (map[string]signedIn, error) {
	path, err := signInsFile()
	if err != nil {
		return map[string]signedIn{}, nil // nobody can have signed in
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]signedIn{}, nil
	}
	all := map[string]signedIn{}
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w. Remove it, and sign in again", path, err)
	}
	return all, nil
}

func writeSignIns(all map[string]signedIn) (path string, err error) {
	if path, err = signInsFile(); err != nil {
		return "", err
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return "", err
	}
	return path, identity.WriteFile(path, append(text, '\n'))
}

// credential is what a client of the service proves itself with: what the environment
// says, or else what somebody signed in with.
func (a *app) credential() (s signedIn, from string, err error) {
	server, err := client.ServerURL(a.server)
	if err != nil {
		return s, "", usagef("--server: %w", err)
	}
	all, err := readSignIns()
	if err != nil {
		return s, "", err
	}
	s, isThere := all[server]
	if isThere {
		from = "sign-in"
	}
	if text := os.Getenv(tokenVariable); text != "" {
		s.Token, from = text, tokenVariable
	}
	if text := os.Getenv(authorityVariable); text != "" {
		s.Authority = text
	}
	return s, from, nil
}

func (s signedIn) options() []client.Option {
	return []client.Option{client.Token(s.Token), client.Authority(s.Authority)}
}

func (a *app) signIn() *cobra.Command {
	var file, authority string
	var browser bool
	cmd := &cobra.Command{
		Use:   "sign-in",
		Short: "Sign in to a service",
		Long: `Sign in to a service with an access token, which an admin makes (nightjar token
create). It is read from --token-file, from a pipe, or typed unseen, and kept in
nightjar/sign-ins.json of the user's configuration directory, which only the user reads.

A service with a provider of identities is signed in to with a browser, on this machine or
another one: --browser prints an address and a code. Without a token on a terminal, that
is the way taken. Such a sign-in is good for 12 hours.

The user of the service's machine needs no token there. Pipelines set NIGHTJAR_TOKEN
instead, and NIGHTJAR_AUTHORITY where --authority is needed.`,
		Example: `  nightjar sign-in --server https://nightjar.ferry.example:7600 --token-file token
  nightjar sign-in --server 127.0.0.1:7600 < token`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			server, err := client.ServerURL(a.server)
			if err != nil {
				return usagef("--server: %w", err)
			}
			s := signedIn{Authority: strings.ToLower(authority)}
			if s.Token, err = a.newToken(cmd, server, s, file, browser); err != nil {
				return err
			}
			c, err := client.New(server, s.options()...)
			if err != nil {
				return err
			}
			who, err := c.Who(cmd.Context())
			if err != nil {
				return withAuthority(cmd.Context(), server, err)
			}
			all, err := readSignIns()
			if err != nil {
				return err
			}
			all[server] = s
			path, err := writeSignIns(all)
			if err != nil {
				return fmt.Errorf("the token is good, and could not be kept: %w", err)
			}
			return a.printer(cmd).Show(who, func(s *out.Sheet) {
				s.Line("Signed in to %s as %s, %s.", server, who.Name, inRole(who))
				s.Line("The token is in %s; end that with: nightjar sign-out%s", path, a.serverWords(cmd))
			})
		},
	}
	cmd.Flags().StringVar(&file, "token-file", "", "file with the token (default: typed, or standard input)")
	cmd.Flags().BoolVar(&browser, "browser", false, "sign in with a browser, by the service's provider of identities")
	cmd.Flags().StringVar(&authority, "authority", "",
		"fingerprint of the service's authority, as nightjar ca show on its machine has it, when this machine does not trust it")
	return cmd
}

// newToken is what to sign in with: the text of an access token or, by a provider of
// identities, what somebody allows with a browser.
func (a *app) newToken(cmd *cobra.Command, server string, s signedIn, file string, browser bool) (string, error) {
	in, isFile := cmd.InOrStdin().(*os.File)
	isTerminal := isFile && term.IsTerminal(int(in.Fd()))
	if file != "" || !isTerminal && !browser {
		return readAccessToken(cmd, file)
	}
	c, err := client.New(server, client.Authority(s.Authority))
	if err != nil {
		return "", err
	}
	options, err := c.SignInOptions(cmd.Context())
	if err != nil {
		return "", withAuthority(cmd.Context(), server, err)
	}
	if options.SignOn == "" {
		if browser {
			return "", usagef("--browser: %s has no provider of identities: sign in with an access token", server)
		}
		return readAccessToken(cmd, "")
	}
	d, err := c.BeginDeviceSignIn(cmd.Context())
	if err != nil {
		return "", err
	}
	w := cmd.ErrOrStderr()
	if d.CompleteURL != "" {
		fmt.Fprintf(w, "Open %s in a browser, and check that it says %s.\n", d.CompleteURL, d.Code)
	} else {
		fmt.Fprintf(w, "Open %s in a browser, and type %s there.\n", d.URL, d.Code)
	}
	fmt.Fprintf(w, "Waiting for %s, until %s\n", options.SignOn, d.Expires.Local().Format(time.TimeOnly))
	ctx, stop := context.WithDeadline(cmd.Context(), d.Expires.Add(time.Minute))
	defer stop()
	return c.AwaitDeviceSignIn(ctx, d)
}

// serverWords are the words that name the service that a command was told.
func (a *app) serverWords(cmd *cobra.Command) string {
	if cmd.Flags().Changed("server") {
		return " --server " + a.server
	}
	return ""
}

// inRole is the role of somebody, and until when.
func inRole(w model.Who) string {
	role := w.Role
	if len(w.Teams) > 0 {
		role += " of team " + strings.Join(w.Teams, ", ")
	}
	if w.Expires == nil {
		return role
	}
	return role + ", until " + w.Expires.Local().Format("2006-01-02 15:04")
}

// maxTokenFile bounds the text of an access token.
const maxTokenFile = 4 << 10

// readAccessToken reads the text of an access token.
func readAccessToken(cmd *cobra.Command, file string) (string, error) {
	if file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return "", usagef("--token-file: %w", err)
		}
		return strings.TrimSpace(string(text[:min(len(text), maxTokenFile)])), nil
	}
	in := cmd.InOrStdin()
	if f, isFile := in.(*os.File); isFile && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(cmd.ErrOrStderr(), "Access token (it is not shown): ")
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return strings.TrimSpace(string(text)), err
	}
	text, err := bufio.NewReader(io.LimitReader(in, maxTokenFile)).ReadString('\n')
	if text = strings.TrimSpace(text); text == "" {
		return "", usagef("there is no token: name a file with --token-file, or pipe it in")
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return text, err
}

// withAuthority adds to an error what to do when this machine does not trust the authority
// of a service.
func withAuthority(ctx context.Context, server string, err error) error {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	shown, failed := client.ShownAuthority(ctx, server)
	if failed != nil || !client.IsUntrusted(err) {
		return err
	}
	return fmt.Errorf("%w\nIt shows the authority %s. If that is the one, sign in with --authority %[2]s", err, shown)
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{
		Use:   "sign-out",
		Short: "Forget the access token of a service on this machine",
		Long: `Forget the access token that nightjar sign-in kept. The token itself stays good, for
whoever has it, until it runs out or is revoked (nightjar token revoke).`,
		Example: `  nightjar sign-out
  nightjar sign-out --server https://nightjar.ferry.example:7600`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			server, err := client.ServerURL(a.server)
			if err != nil {
				return usagef("--server: %w", err)
			}
			all, err := readSignIns()
			if err != nil {
				return err
			}
			if _, isThere := all[server]; !isThere {
				return usagef("nobody is signed in to %s here", server)
			}
			delete(all, server)
			if _, err := writeSignIns(all); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Signed out of %s here. The token stays good elsewhere until it is revoked.\n", server)
			return nil
		},
	}
}

func (a *app) who() *cobra.Command {
	return &cobra.Command{
		Use:   "who",
		Short: "Who you are to the service, and what you may do",
		Example: `  nightjar who
  nightjar who -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).Who, func(s *out.Sheet, w model.Who) {
				how := "by " + w.Credential
				if w.Credential == "local" {
					how = "as the user of the service's machine"
				}
				s.Line("%s, %s, %s", w.Name, inRole(w), how)
			})
		},
	}
}

func (a *app) console() *cobra.Command {
	var good time.Duration
	cmd := &cobra.Command{
		Use:   "console",
		Short: "Print a link that signs a browser in to the console, as you",
		Long: `Print a link that signs a browser in to the console, with your name and role. It is good
once, and for ten minutes unless --for says otherwise. Keep it secret until then.`,
		Example: `  nightjar console
  nightjar console --for 1h`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			link, _, err := c.Console(cmd.Context(), good)
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), link)
			return nil
		},
	}
	cmd.Flags().DurationVar(&good, "for", 10*time.Minute, "how long the link is good, at most 24h")
	return cmd
}
