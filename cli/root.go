// Package cli is the command line: one file a command.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v4"

	"nightjar/cli/out"
	"nightjar/client"
)

// Exit codes.
const (
	ExitDone        = 0
	ExitFinding     = 1 // mistakes in rules, an expectation not met, a difference
	ExitUsage       = 2
	ExitUnreachable = 3
	ExitNotAllowed  = 4
)

// completion is what a shell does with proposals.
type completion = cobra.ShellCompDirective

// exit is an error that was reported already, or need not be.
type exit struct{ code int }

func (e exit) Error() string { return fmt.Sprintf("exit %d", e.code) }

// finding ends a command that did its work and found something.
var finding = exit{ExitFinding}

// usage is a mistake in the words of a command.
type usage struct{ error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// moreFormats is the annotation of a command that has a format of its own.
const moreFormats = "formats"

// app is what all commands share.
type app struct {
	program string
	server  string
	format  string
	config  string
}

// Main runs the command line and returns the exit code.
func Main(ctx context.Context, program string, args []string, stdout, stderr io.Writer) int {
	a := &app{program: program}
	root := a.root()
	root.SetArgs(args)
	stdout, stderr = out.Escaping(stdout), out.Escaping(stderr)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	var (
		quiet exit
		words usage
		gone  *client.Unreachable
		no    *client.Refused
	)
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &quiet):
		return quiet.code
	}
	fmt.Fprintf(stderr, "nightjar: %s\n", err)
	switch {
	case errors.As(err, &words):
		return ExitUsage
	case errors.As(err, &gone):
		return ExitUnreachable
	case errors.As(err, &no) && (no.Status == 401 || no.Status == 403):
		return ExitNotAllowed
	case errors.As(err, &no) && no.Status < 500:
		return ExitUsage
	}
	return ExitFinding
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "nightjar",
		Short: "Decide how requests travel between services, and see what each decision does",
		Long: `Nightjar decides how requests travel between services, and shows what each
decision does to request success. Start with: nightjar demo

Every flag can also be set as NIGHTJAR_FLAG (NIGHTJAR_SERVER, for one), or in a
file: --config, or nightjar/config.yaml in the user's configuration directory.

Exit codes: 0 done; 1 a finding (mistakes in rules, a difference, an expectation
not met) or a failure; 2 wrong usage; 3 the service cannot be reached; 4 not allowed.`,
		Version:       a.program,
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.settings(cmd); err != nil {
				return err
			}
			formats := out.Formats
			if more := cmd.Annotations[moreFormats]; more != "" {
				formats = append(slices.Clone(formats), strings.Split(more, ",")...)
			}
			if !slices.Contains(formats, a.format) {
				return usagef("-o %s: expected one of %s", a.format, strings.Join(formats, ", "))
			}
			return nil
		},
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				msg := fmt.Sprintf("there is no command %q", args[0])
				if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
					msg += "; nearest: " + strings.Join(near, ", ")
				}
				return usagef("%s; nightjar -h lists all", msg)
			}
			return cmd.Help()
		},
	}
	root.SuggestionsMinimumDistance = 2
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usagef("%w; %s -h lists the flags", err, cmd.CommandPath())
	})
	f := root.PersistentFlags()
	f.StringVar(&a.server, "server", "http://127.0.0.1:7600", "address of the service")
	f.StringVarP(&a.format, "output", "o", "table", "format: "+strings.Join(out.Formats, ", "))
	f.StringVar(&a.config, "config", "", "file with settings, one \"flag: value\" per line")
	root.AddCommand(a.commands()...)
	return root
}

// commands are all that nightjar can do, in the order of its help.
func (a *app) commands() []*cobra.Command {
	return []*cobra.Command{
		a.demo(),
		a.serve(),
		a.proxy(),
		a.services(),
		a.links(),
		a.routes(),
		a.requests(),
		a.traces(),
		a.rules(),
		a.split(),
		a.explain(),
		a.call(),
		a.effect(),
		a.trial(),
		a.forecast(),
		a.release(),
		a.drill(),
		a.standin(),
		a.letBack(),
		a.fleet(),
		a.sites(),
		a.access(),
		a.ca(),
		a.joinToken(),
		a.token(),
		a.follows(),
		a.session(),
		a.signIn(),
		a.signOut(),
		a.who(),
		a.console(),
		a.activity(),
		a.backup(),
		a.restore(),
		a.doctor(),
	}
}

// settings fills in the flags that were not given: from the environment, then
// from the configuration file.
func (a *app) settings(cmd *cobra.Command) error {
	set := func(f *pflag.Flag, value, from string) error {
		if err := f.Value.Set(value); err != nil {
			return usagef("%s: %w", from, err)
		}
		f.Changed = true
		return nil
	}
	var errs []error
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		name := "NIGHTJAR_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if v, ok := os.LookupEnv(name); ok && !f.Changed {
			errs = append(errs, set(f, v, name))
		}
	})
	path, asked := a.config, a.config != ""
	if !asked {
		dir, err := os.UserConfigDir()
		if err != nil {
			return errors.Join(errs...)
		}
		path = filepath.Join(dir, "nightjar", "config.yaml")
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) && !asked {
		return errors.Join(errs...)
	}
	if err != nil {
		return usagef("--config: %w", err)
	}
	var values map[string]string
	if err := yaml.Load(text, &values); err != nil {
		return usagef("%s: expected lines of flag: value (%w)", path, err)
	}
	for k, v := range values {
		if f := cmd.Flags().Lookup(k); f != nil && !f.Changed {
			errs = append(errs, set(f, v, path+": "+k))
		}
	}
	return errors.Join(errs...)
}

func (a *app) client() (*client.Client, error) {
	s, _, err := a.credential()
	if err != nil {
		return nil, err
	}
	c, err := client.New(a.server, s.options()...)
	if err != nil {
		return nil, usagef("--server: %w", err)
	}
	return c, nil
}

func (a *app) printer(cmd *cobra.Command) *out.Printer {
	return &out.Printer{W: cmd.OutOrStdout(), Format: a.format}
}

// ask calls the service, and shows what it responds.
func ask[T any](
	a *app,
	cmd *cobra.Command,
	call func(*client.Client, context.Context) (T, error),
	sheet func(*out.Sheet, T),
) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	v, err := call(c, cmd.Context())
	if err != nil {
		return err
	}
	return a.printer(cmd).Show(v, func(s *out.Sheet) { sheet(s, v) })
}

// exactly is a check of the number of arguments with words of our own.
func exactly(n int, words string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if n == 0 && len(args) > 0 {
			return usagef("unexpected %q: %s takes no argument", args[0], cmd.CommandPath())
		}
		if len(args) != n {
			return usagef("expected: %s %s", cmd.CommandPath(), words)
		}
		return nil
	}
}

// serviceNames completes the names of services that run now.
func (a *app) serviceNames(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	c, err := a.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	m, err := c.Mesh(cmd.Context(), 0)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, s := range m.Services {
		names = append(names, s.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
