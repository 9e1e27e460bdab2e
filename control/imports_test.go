package control

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

// order is the packages of the service's work as the package comment lists them. A
// package may import those above it, and no others of them.
var order = []string{"problem", "actor", "journal", "retention", "people", "signon", "fleet", "members", "upgrades", "figures", "drills", "drains", "revisions", "limits", "access", "feed", "calls", "effects", "outbox",
	"releases", "trials", "forecasts", "follows", "views", "."}

// TestOrder holds the packages to their order, and keeps interfaces out of them.
func TestOrder(t *testing.T) {
	dirs, err := filepath.Glob("*")
	if err != nil || len(dirs) < len(order) {
		t.Fatal(dirs, err)
	}
	for _, dir := range append(dirs, ".") {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			continue
		}
		if !slices.Contains(order, dir) {
			t.Errorf("package %s has no place in the order", dir)
			continue
		}
		files, _ := filepath.Glob(filepath.Join(dir, "*.go"))
		for _, file := range files {
			if !strings.HasSuffix(file, "_test.go") {
				checkImports(t, dir, file)
			}
		}
	}
}

func checkImports(t *testing.T, dir, file string) {
	f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
	if err != nil {
		t.Fatal(err)
	}
	for _, imp := range f.Imports {
		name, _ := strconv.Unquote(imp.Path.Value)
		if to, isOurs := strings.CutPrefix(name, "nightjar/control/"); isOurs && slices.Index(order, to) >= slices.Index(order, dir) {
			t.Errorf("%s imports %s, which is below it", file, name)
		}
		for _, outer := range []string{"nightjar/api", "nightjar/client", "nightjar/cli", "nightjar/service", "gorm.io", "github.com/labstack"} {
			isModel := name == "nightjar/api/model" || name == "nightjar/api/from"
			if strings.HasPrefix(name, outer) && !isModel {
				t.Errorf("%s imports %s: the service's work knows no interface and no database", file, name)
			}
		}
	}
}
