package rules

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"
)

// Severity tells what a finding does to publishing.
type Severity string

const (
	Mistake Severity = "mistake" // publishing is refused
	Warning Severity = "warning" // published, and shown everywhere
)

// Code names a kind of finding. Codes are stable; each has a paragraph in
// docs/rules.md.
type Code string

// The kinds of findings.
const (
	CodeSyntax         Code = "syntax"          // not YAML or JSON
	CodeUnknownKey     Code = "unknown-key"     // a key that the language does not have
	CodeDoubledKey     Code = "doubled-key"     // a key twice in one mapping
	CodeWrongType      Code = "wrong-type"      // a list where a mapping belongs, and the like
	CodeMissing        Code = "missing"         // something required is not there
	CodeDeclaredTwice  Code = "declared-twice"  // the same service, gateway or route name twice
	CodeBadName        Code = "bad-name"        // a name that could not be addressed
	CodeBadValue       Code = "bad-value"       // a value outside what is possible
	CodeBadRegex       Code = "bad-regex"       // an expression that RE2 does not accept
	CodeWeights        Code = "weights"         // weights that do not add to 100
	CodeUnknownVersion Code = "unknown-version" // a version that its service does not declare
	CodeUnknownService Code = "unknown-service" // a service that nothing declares
	CodeTooLarge       Code = "too-large"       // over the limits on size and depth
	CodeShadowed       Code = "shadowed"        // a route that an earlier one always takes
	CodeNoInstance     Code = "no-instance"     // a version that has no instance now
)

// Finding is one mistake or warning.
type Finding struct {
	Severity Severity `json:"severity" doc:"mistake (refuses publishing) or warning"`
	Code     Code     `json:"code" doc:"stable name of the kind of finding"`
	At       Origin   `json:"at" doc:"where it is"`
	Path     string   `json:"path,omitempty" doc:"place in the document, such as services.sailings.routes[1].send"`
	Message  string   `json:"message" doc:"what is wrong"`
	Expected string   `json:"expected,omitempty" doc:"what would be right, with the nearest known name"`
	Also     *Origin  `json:"also,omitempty" doc:"the other place, when two places disagree"`
	Source   string   `json:"source,omitempty" doc:"the source line"`
}

// Text writes the finding for a terminal: position, message, the source line
// and a caret under the column.
func (f Finding) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s %s: %s\n", f.At, f.Severity, f.Code, f.Message)
	if f.Path != "" {
		fmt.Fprintf(&b, "      in %s\n", f.Path)
	}
	if f.Source != "" {
		line, col := clip(f.Source, f.At.Col)
		fmt.Fprintf(&b, "%5d | %s\n      | %s^\n", f.At.Line, line, pad(line, col))
	}
	if f.Also != nil {
		fmt.Fprintf(&b, "      also at %s\n", *f.Also)
	}
	if f.Expected != "" {
		fmt.Fprintf(&b, "      expected %s\n", f.Expected)
	}
	return b.String()
}

// clip shortens an over-long source line around column col (from 1).
func clip(line string, col int) (string, int) {
	const most = 120
	if utf8.RuneCountInString(line) <= most {
		return line, col
	}
	r := []rune(line)
	from := max(0, min(col-most/2, len(r)-most))
	return string(r[from : from+most]), col - from
}

// pad is the white space that puts a caret under column col of line; tabs stay
// tabs so that the caret lines up on any terminal.
func pad(line string, col int) string {
	var b strings.Builder
	n := 1
	for _, r := range line {
		if n >= col {
			break
		}
		if r == '\t' {
			b.WriteRune('\t')
		} else {
			b.WriteByte(' ')
		}
		n++
	}
	for ; n < col; n++ {
		b.WriteByte(' ')
	}
	return b.String()
}

// Mistakes counts the findings that refuse publishing.
func Mistakes(fs []Finding) int {
	n := 0
	for _, f := range fs {
		if f.Severity == Mistake {
			n++
		}
	}
	return n
}

// arrange puts findings in the order of the files, then by line and column, and
// adds the source lines.
func arrange(fs []Finding, files []File) {
	place := make(map[string]int, len(files))
	lines := make(map[string][]string, len(files))
	for i, f := range files {
		if _, ok := place[f.Name]; !ok {
			place[f.Name] = i
		}
	}
	sort.SliceStable(fs, func(i, j int) bool {
		a, b := fs[i].At, fs[j].At
		if a.File != b.File {
			return place[a.File] < place[b.File]
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Col < b.Col
	})
	for i := range fs {
		at := fs[i].At
		p, ok := place[at.File]
		if !ok || at.Line < 1 {
			continue
		}
		if lines[at.File] == nil {
			lines[at.File] = strings.Split(strings.TrimPrefix(files[p].Text, "\ufeff"), "\n")
		}
		if l := lines[at.File]; at.Line <= len(l) {
			fs[i].Source = strings.TrimRight(l[at.Line-1], "\r")
		}
	}
}
