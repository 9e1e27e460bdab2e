package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"nightjar/api/from"
	"nightjar/cli/out"
	"nightjar/core/rules"
)

func TestFormatCommand(t *testing.T) {
	dir := t.TempDir()
	good, bad := filepath.Join(dir, "good.yaml"), filepath.Join(dir, "wide.yaml")
	const wide, narrow = "services:\n    s:  {}   # stays\n", "services:\n  s: {}   # stays\n"
	for name, text := range map[string]string{good: narrow, bad: wide} {
		if err := os.WriteFile(name, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		args []string
		want string
		code int
	}{
		{[]string{bad}, narrow, 0},
		{[]string{dir}, "", ExitUsage},
		{[]string{dir, "--check", "--write"}, "", ExitUsage},
		{[]string{dir, "--check"}, bad + "\n1 of 2 files not formatted.\n", ExitFinding},
		{[]string{good, "--check"}, "0 of 1 file not formatted.\n", 0},
		{[]string{dir, "--write"}, bad + "\n1 of 2 files changed.\n", 0},
		{[]string{dir, "--check", "-o", "json"}, "", 0},
		{[]string{filepath.Join(dir, "gone")}, "", ExitUsage},
	} {
		stdout, stderr, code := run(t, append([]string{"rules", "format"}, c.args...)...)
		if code != c.code || c.want != "" && stdout != c.want {
			t.Errorf("%v: %d %q %q", c.args, code, stdout, stderr)
		}
	}
	info, err := os.Stat(bad)
	text, _ := os.ReadFile(bad)
	if err != nil || string(text) != narrow || info.Mode().Perm() != 0o640 {
		t.Errorf("written: %q, %v, %v", text, info.Mode(), err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 2 {
		t.Errorf("files are left behind: %v", left)
	}
	if err := os.WriteFile(bad, []byte("services: ["), 0o640); err != nil {
		t.Fatal(err)
	}
	if _, stderr, code := run(t, "rules", "format", dir, "--write"); code == 0 || !strings.Contains(stderr, bad+":2:") {
		t.Errorf("what is no YAML: %d %q", code, stderr)
	}
}

// TestSARIF: what CI systems read has every finding with its place and kind.
func TestSARIF(t *testing.T) {
	_, found := rules.Check([]rules.File{{Name: "a/b.yaml", Text: "services:\n  s: {versions: [v1], routes: [{name: a, send: v2}, {name: b, send: v1}]}\n"}}, rules.Live{})
	var b bytes.Buffer
	if err := out.SARIF(&b, "1.2", from.Findings(found)); err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
				RelatedLocations []struct{}
			}
		}
	}
	if err := json.Unmarshal(b.Bytes(), &log); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 || len(log.Runs[0].Results) != 2 {
		t.Fatalf("%v\n%s", err, b.String())
	}
	for i, want := range []string{"unknown-version error 2", "shadowed warning 2"} {
		r := log.Runs[0].Results[i]
		at := r.Locations[0].PhysicalLocation
		if got := r.RuleID + " " + r.Level; !strings.HasPrefix(want, got) || at.ArtifactLocation.URI != "a/b.yaml" || at.Region.StartLine != 2 || len(r.RelatedLocations) != 1 {
			t.Errorf("result %d: %+v", i, r)
		}
		if log.Runs[0].Tool.Driver.Rules[r.RuleIndex].ID != r.RuleID {
			t.Errorf("result %d points at another kind", i)
		}
	}
	file := filepath.Join(t.TempDir(), "x.yaml")
	if err := os.WriteFile(file, []byte("servces: {}"), 0o600); err != nil {
		t.Fatal(err)
	}
	stdout, stderr, code := run(t, "rules", "check", file, "-o", "sarif", "--server", "127.0.0.1:1")
	if code != ExitFinding || !strings.Contains(stdout, `"ruleId": "unknown-key"`) || !strings.Contains(stderr, "Checked without a service") {
		t.Errorf("%d %s %s", code, stdout, stderr)
	}
	if _, stderr, code := run(t, "rules", "show", "-o", "sarif"); code != ExitUsage || strings.Contains(stderr, "sarif,") {
		t.Errorf("where it makes no sense: %d %s", code, stderr)
	}
	if stdout, _, _ := run(t, "rules", "check", file, "-o", "csv", "--server", "127.0.0.1:1"); !strings.HasPrefix(stdout, "FILE,LINE,COLUMN,SEVERITY,CODE,") || !strings.Contains(stdout, ",1,1,mistake,unknown-key,servces,") {
		t.Errorf("as a table: %s", stdout)
	}
}

// TestEveryFindingHasItsSection in the docs, with a file that has it, and no
// section is of nothing.
func TestEveryFindingHasItsSection(t *testing.T) {
	text, err := os.ReadFile("../docs/findings.md")
	if err != nil {
		t.Fatal(err)
	}
	live := rules.Live{Known: true, Links: []rules.Link{{From: "kiosk", To: "s"}}, Busy: map[string]float64{"s/v1": 9}}
	sections := map[string]bool{}
	for _, section := range strings.Split(string(text), "\n### ")[1:] {
		code, rest, _ := strings.Cut(section, "\n")
		sections[code] = true
		_, file, _ := strings.Cut(rest, "```yaml\n")
		file, _, closed := strings.Cut(file, "```")
		_, found := rules.Check([]rules.File{{Name: "f", Text: file}}, live)
		if !closed || !slices.ContainsFunc(found, func(f rules.Finding) bool { return string(f.Code) == code }) {
			t.Errorf("the file of section %s has these findings: %+v", code, found)
		}
	}
	for _, k := range rules.Kinds() {
		if !sections[string(k.Code)] {
			t.Errorf("docs/findings.md has no section %s", k.Code)
		}
		delete(sections, string(k.Code))
	}
	for code := range sections {
		t.Errorf("docs/findings.md has a section %s, and there is no such finding", code)
	}
}

func TestSchemaCommand(t *testing.T) {
	if stdout, _, code := run(t, "rules", "schema"); code != 0 || !json.Valid([]byte(stdout)) || !strings.Contains(stdout, "https://json-schema.org/draft/2020-12/schema") {
		t.Errorf("%d %.100s", code, stdout)
	}
}
