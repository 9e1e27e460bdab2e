// Package core holds the computation. It does no I/O, and this test holds it to that.
package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// allowed are the imports of core: pure parts of the standard library, core
// itself, special functions and transforms, and the YAML parser that works on text in memory.
var allowed = []string{
	"bytes", "cmp", "container/heap", "crypto/sha256", "embed", "encoding/binary", "encoding/hex", "encoding/json", "errors", "fmt", "maps", "math", "math/bits", "math/rand/v2", "net/netip", "net/url", "net/textproto", "regexp", "regexp/syntax", "slices", "sort",
	"strconv", "strings", "sync", "sync/atomic", "unicode/utf8", "go.yaml.in/yaml/v4", "gonum.org/v1/gonum/mathext", "gonum.org/v1/gonum/dsp/fourier",
	"time", "net", // for their types and parsers alone, see the calls below
}

// forbidden are the calls in allowed packages that would read a clock, touch
// the network or keep something running.
var forbidden = []string{"time.Now", "time.Since", "time.Until", "time.Sleep", "time.After", "time.NewTimer", "time.NewTicker", "time.Tick",
	"net.Dial", "net.Listen", "net.Lookup", "net.Resolve", "rand.N(", "rand.Int", "fmt.Print", "\tgo "}

func TestCoreDoesNoIO(t *testing.T) {
	files := 0
	err := fs.WalkDir(os.DirFS("."), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, text, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, imp := range f.Imports {
			name, _ := strconv.Unquote(imp.Path.Value)
			if !slices.Contains(allowed, name) && !strings.HasPrefix(name, "nightjar/core/") {
				t.Errorf("%s imports %s, which core may not", path, name)
			}
		}
		for _, call := range forbidden {
			if strings.Contains(string(text), call) {
				t.Errorf("%s calls %s, which core may not", path, strings.TrimSpace(call))
			}
		}
		return nil
	})
	if err != nil || files < 10 {
		t.Fatalf("looked at %d files: %v", files, err)
	}
}
