package cli

import (
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/store"
)

// filesWords are the arguments of the commands that read rule files.
const filesWords = "FILE|DIRECTORY|- …"

// standardInput is the name of the file that - stands for.
const standardInput = "standard-input"

func someFiles(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return usagef("expected: %s %s", cmd.CommandPath(), filesWords)
	}
	return nil
}

// readFiles reads the named files, the rule files below the named directories,
// and standard input for -.
func readFiles(cmd *cobra.Command, args []string) ([]model.File, error) {
	var files []model.File
	total := 0
	add := func(name string, r io.Reader) error {
		b, err := io.ReadAll(io.LimitReader(r, rules.MaxBytes+1))
		if err != nil {
			return err
		}
		if total += len(b); total > rules.MaxBytes {
			return usagef(
				"the files up to %s have more than %d MiB, the limit of a rule set: leave out files that are not rules",
				name,
				rules.MaxBytes>>20,
			)
		}
		if !slices.ContainsFunc(files, func(f model.File) bool { return f.Name == name }) {
			files = append(files, model.File{Name: name, Text: string(b)})
		}
		return nil
	}
	open := func(path string) error {
		f, err := os.Open(path)
		if err != nil {
			return usage{err}
		}
		defer f.Close()
		return add(filepath.ToSlash(filepath.Clean(path)), f)
	}
	for _, arg := range args {
		if arg == "-" {
			if err := add(standardInput, cmd.InOrStdin()); err != nil {
				return nil, err
			}
			continue
		}
		info, err := os.Stat(arg)
		if err != nil {
			return nil, usage{err}
		}
		if !info.IsDir() {
			if err := open(arg); err != nil {
				return nil, err
			}
			continue
		}
		before := len(files)
		err = filepath.WalkDir(arg, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return usage{err}
			}
			if path != arg && strings.HasPrefix(d.Name(), ".") { // such as the temporary files of editors
				if d.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			switch strings.ToLower(filepath.Ext(path)) {
			case ".yaml", ".yml", ".json":
				if !d.IsDir() {
					return open(path)
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		if len(files) == before {
			return nil, usagef("directory %s has no rule files: expected names that end in .yaml, .yml or .json", arg)
		}
	}
	return files, nil
}

// bundles are the files of several bundles, by name.
type bundles map[string][]model.File

// readBundles reads each directory as the bundle of its name; with isSeveral false all
// files are of one bundle.
func readBundles(cmd *cobra.Command, args []string, bundle string, isSeveral bool) (bundles, error) {
	if !isSeveral {
		files, err := readFiles(cmd, args)
		return bundles{bundle: files}, err
	}
	out := bundles{}
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil {
			return nil, usage{err}
		}
		name := filepath.Base(filepath.Clean(arg))
		switch {
		case !info.IsDir():
			return nil, usagef("--bundles: %s is no directory: each bundle is one, and called like it", arg)
		case out[name] != nil:
			return nil, usagef("--bundles: bundle %s is named twice", name)
		}
		if out[name], err = readFiles(cmd, []string{arg}); err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(out[name], func(f model.File) bool { return path.Dir(f.Name) == filepath.ToSlash(filepath.Clean(arg)) }) {
			return nil, usagef("--bundles: %s has no rule files itself: name each bundle's directory, such as %[1]s/*", arg)
		}
	}
	return out, nil
}

// first is one of the bundles, the main one if it is there, and the others.
func (b bundles) first() (name string, files []model.File, others bundles) {
	names := slices.Sorted(maps.Keys(b))
	if name = names[0]; b[model.MainBundle] != nil {
		name = model.MainBundle
	}
	others = maps.Clone(b)
	delete(others, name)
	if len(others) == 0 {
		others = nil
	}
	return name, b[name], others
}

// joined is all files as the checker reads them.
func (b bundles) joined() []rules.File {
	all := store.Bundles{}
	for name, files := range b {
		all[name] = from.ToFiles(files)
	}
	return revisions.Joined(all)
}

// bundlesUsage is what --bundles does.
const bundlesUsage = "each directory is a bundle, called like it, and all are taken together"
