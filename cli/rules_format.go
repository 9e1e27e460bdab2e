package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/core/rules"
)

func (a *app) rulesFormat() *cobra.Command {
	var write, check bool
	cmd := &cobra.Command{
		Use:   "format " + filesWords,
		Short: "Format rule files; comments stay",
		Long: `Format rule files: two spaces per level, lists one level below their key, single spaces
in brackets, at most one empty line. Comments and meaning stay. One file is printed;
--write changes files in place. With --check nothing is written, and the exit code is 1
when a file is not formatted.`,
		Example: `  nightjar rules format examples/ferry/rules.yaml
  nightjar rules format --check examples/ferry`,
		Args: someFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			if write && check {
				return usagef("--write and --check cannot be combined")
			}
			files, err := readFiles(cmd, args)
			if err != nil {
				return err
			}
			if len(files) > 1 && !write && !check {
				return usagef("%d files cannot be printed as one: use --write to change them, or --check", len(files))
			}
			type result struct {
				File    string `json:"file"`
				Changed bool   `json:"changed"`
			}
			results, changed := []result{}, 0
			var errs []error
			for _, f := range files {
				text, err := rules.Format(rules.File(f))
				if err != nil {
					errs = append(errs, err)
					continue
				}
				if !write && !check {
					_, err := fmt.Fprint(out.Exact(cmd.OutOrStdout()), text)
					return err
				}
				results = append(results, result{f.Name, text != f.Text})
				if text == f.Text {
					continue
				}
				changed++
				if write {
					if f.Name == standardInput {
						return usagef("standard input cannot be changed in place: leave out --write")
					}
					if err := replaceFile(filepath.FromSlash(f.Name), text); err != nil {
						errs = append(errs, err)
					}
				}
			}
			if err := errors.Join(errs...); err != nil {
				return err
			}
			err = a.printer(cmd).Show(results, func(s *out.Sheet) {
				for _, r := range results {
					if r.Changed {
						s.Line("%s", r.File)
					}
				}
				verb := "changed"
				if check {
					verb = "not formatted"
				}
				s.Line("%d of %s %s.", changed, count(len(results), "file"), verb)
			})
			if err == nil && check && changed > 0 {
				return finding
			}
			return err
		},
	}
	cmd.Flags().BoolVarP(&write, "write", "w", false, "change the files in place")
	cmd.Flags().BoolVar(&check, "check", false, "change nothing; exit code 1 when a file would change")
	return cmd
}

// replaceFile writes a file whole or not at all, with the mode that it had.
func replaceFile(path, text string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real // a link stays a link
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".nightjar-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.WriteString(text)
	if err = errors.Join(err, tmp.Chmod(info.Mode().Perm()), tmp.Sync(), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}

func (a *app) rulesSchema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of a rule file, for editors",
		Long: `Print the JSON Schema (draft 2020-12) of a rule file, for editors and other
checkers. It covers keys and types; "nightjar rules check" also checks names.`,
		Example: `  nightjar rules schema
  nightjar rules schema > nightjar.schema.json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := out.Exact(cmd.OutOrStdout()).Write(rules.Schema)
			return err
		},
	}
}

// effective prints the settings that hold for a service.
func (a *app) effective(cmd *cobra.Command, service string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	e, err := c.Effective(cmd.Context(), service)
	if err != nil {
		return err
	}
	return a.printer(cmd).Show(e, func(s *out.Sheet) { effectiveSheet(s, e) })
}

func effectiveSheet(s *out.Sheet, e model.EffectiveSettings) {
	row := func(of string, h model.Setting) []string {
		return []string{of, h.Name, h.Value, h.From, written(h.At)}
	}
	var rows [][]string
	for _, h := range e.Settings {
		rows = append(rows, row("service "+e.Service, h))
	}
	for _, r := range e.Routes {
		if r.Send != "" {
			rows = append(rows, []string{"route " + r.Name, "send", r.Send, "route " + r.Name, written(r.At)})
		}
		for _, h := range r.Settings {
			if h.Value != "none" || s.Wide {
				rows = append(rows, row("route "+r.Name, h))
			}
		}
	}
	s.Line("Settings that hold for service %s, revision %d:\n", e.Service, e.Revision)
	s.Table([]string{"FOR", "SETTING", "VALUE", "SET BY", "DEFINED AT"}, rows)
}

// written is where something is defined, for a table.
func written(o model.Origin) string {
	if o.File == "" {
		return "–"
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}
