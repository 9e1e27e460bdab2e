package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

var (
	// commandLine matches a command line in a text: the words after "nightjar", the rest.
	commandLine = regexp.MustCompile("(?:\\$ |: |`|bin/|\")nightjar((?: [a-z][a-z-]*)+)([^\"`\n]*)")
	nextCommand = regexp.MustCompile(` \| |;|&&`)
	longFlag    = regexp.MustCompile(`(?: |\()--([a-z][a-z-]*)`)
)

// TestEveryCommandNamedExists: each command line in a message, a help text, the
// console or a document is one that the program has, with its flags.
func TestEveryCommandNamedExists(t *testing.T) {
	root := (&app{program: "test"}).root()
	root.InitDefaultCompletionCmd()
	seen := 0
	check := func(path, text string) {
		for _, m := range commandLine.FindAllStringSubmatch(text, -1) {
			words := strings.Fields(m[1])
			cmd, rest, err := root.Find(words)
			if err != nil || cmd == root {
				t.Errorf("%s: no command is called nightjar%s", path, m[1])
				continue
			}
			seen++
			if cmd.HasSubCommands() && len(rest) > 0 {
				t.Errorf("%s: nightjar %s has no command %s", path, cmd.Name(), rest[0])
			}
			line := nextCommand.Split(m[2], 2)[0]
			for _, flag := range longFlag.FindAllStringSubmatch(line, -1) {
				if !hasFlag(cmd, flag[1]) {
					t.Errorf("%s: %s has no flag --%s", path, cmd.CommandPath(), flag[1])
				}
			}
		}
	}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		name := d.Name()
		switch ext := filepath.Ext(name); {
		case err != nil:
			return err
		case d.IsDir() && (name == "node_modules" || name == "dist" || len(name) > 2 && name[0] == '.'):
			return fs.SkipDir
		case ext == ".go" && !strings.HasSuffix(name, "_test.go"), ext == ".md", ext == ".ts", ext == ".tsx", ext == ".yaml":
			text, err := os.ReadFile(path)
			check(path, string(text))
			return err
		}
		return nil
	})
	if err != nil || seen < 100 {
		t.Errorf("%d command lines read: %v", seen, err)
	}
}

func hasFlag(cmd *cobra.Command, name string) bool {
	cmd.InitDefaultHelpFlag()
	return cmd.Flags().Lookup(name) != nil || cmd.InheritedFlags().Lookup(name) != nil
}
