package proxy

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// arrows are the packages of the data plane that each may import. They point one
// way: a codec knows no mesh, a policy no connection, what carries knows no service,
// what follows the service no request. Only the composition knows them all.
var arrows = map[string][]string{
	"http1":   {},
	"h2":      {"http1"},
	"forward": {"http1"},
	"edge":    {},
	"outside": {},
	"observe": {},
	"process": {},
	"health":  {"process"},
	"follow":  {"observe", "process"},
	"carry":   {"http1", "h2", "forward", "observe", "edge", "outside"},
	".":       {"carry", "edge", "follow", "forward", "health", "observe", "outside", "process"},
}

func TestArrowsPointOneWay(t *testing.T) {
	dirs, err := filepath.Glob("*")
	if err != nil || len(dirs) == 0 {
		t.Fatal(dirs, err)
	}
	for _, dir := range append(dirs, ".") {
		may, isKnown := arrows[dir]
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			continue
		}
		files, _ := filepath.Glob(filepath.Join(dir, "*.go"))
		if !isKnown && len(files) > 0 {
			t.Errorf("package %s has no place among the arrows", dir)
		}
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
			if err != nil {
				t.Fatal(err)
			}
			for _, imp := range f.Imports {
				name, _ := strconv.Unquote(imp.Path.Value)
				to, isOurs := strings.CutPrefix(name, "nightjar/proxy/")
				if isOurs && !slices.Contains(may, to) {
					t.Errorf("%s imports %s, which it may not", file, name)
				}
				if strings.HasPrefix(name, "nightjar/control") || strings.HasPrefix(name, "nightjar/store") {
					t.Errorf("%s imports %s: the data plane does without the service", file, name)
				}
			}
		}
	}
}
