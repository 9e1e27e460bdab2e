package follows

import (
	"strings"
	"testing"

	"nightjar/core/rules"
)

// TestNamed: files that somebody proposes are found in the repository by their names, and
// lead nowhere else.
func TestNamed(t *testing.T) {
	for _, c := range []struct{ branch, at, files, want string }{
		{"rules/a.yaml rules/b.yaml", "rules", "a.yaml", "rules/a.yaml"},
		{"rules/a.yaml rules/b.yaml", "rules", "/home/tim/work/rules/b.yaml", "rules/b.yaml"},
		{"rules/x/a.yaml rules/y/a.yaml", "rules", "y/a.yaml new.yml", "rules/new.yml rules/y/a.yaml"},
		{"rules/x/a.yaml rules/y/a.yaml", "rules", "a.yaml", "rules/a.yaml"},
		{"rules/x/a.yaml rules/y/a.yaml", "rules", "rules/y/a.yaml", "rules/y/a.yaml"},
		{"a.yaml", ".", "../../b.json", "b.json"},
		{"rules/a.yaml", "rules/a.yaml", "examples/ferry/rules.yaml", "rules/a.yaml"},
		{"rules/a.yaml", "rules/a.yaml", "a.yaml b.yaml", "error"},
		{"a.yaml", ".", "standard-input", "error"},
		{"a.yaml", ".", ".git/x.yaml", "error"},
	} {
		list := func(names string) (out []rules.File) {
			for _, n := range strings.Fields(names) {
				out = append(out, rules.File{Name: n})
			}
			return out
		}
		var got []string
		files, err := named(list(c.branch), list(c.files), c.at)
		for _, f := range files {
			got = append(got, f.Name)
		}
		if err != nil {
			got = []string{"error"}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s at %s: %s become %v, %v; want %s", c.branch, c.at, c.files, got, err, c.want)
		}
	}
}
