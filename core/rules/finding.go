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

// Code names a kind of finding. Codes are stable; each has a section in
// docs/findings.md.
type Code string

// The kinds of mistakes.
const (
	CodeSyntax         Code = "syntax"
	CodeUnknownKey     Code = "unknown-key"
	CodeDoubledKey     Code = "doubled-key"
	CodeWrongType      Code = "wrong-type"
	CodeMissing        Code = "missing"
	CodeDeclaredTwice  Code = "declared-twice"
	CodeBadName        Code = "bad-name"
	CodeBadValue       Code = "bad-value"
	CodeBadRegex       Code = "bad-regex"
	CodeWeights        Code = "weights"
	CodeUnknownVersion Code = "unknown-version"
	CodeUnknownService Code = "unknown-service"
	CodeUnknownSite    Code = "unknown-site"
	CodeUnknownRoute   Code = "unknown-route"
	CodeUnknownLabels  Code = "unknown-labels"
	CodePolicyConflict Code = "policy-conflict"
	CodeTooLarge       Code = "too-large"
	CodeNotOffered     Code = "not-offered"
	CodeNotYours       Code = "not-yours"
	CodeUnknownTeam    Code = "unknown-team"
)

// The kinds of warnings.
const (
	CodeShadowed        Code = "shadowed"
	CodeNoInstance      Code = "no-instance"
	CodeTriesTooLong    Code = "tries-too-long"
	CodeTimeoutOutlives Code = "timeout-outlives"
	CodeUnsafeRetry     Code = "unsafe-retry"
	CodeRetriesMultiply Code = "retries-multiply"
	CodeFaultForAll     Code = "fault-for-all"
	CodeGuardTooSmall   Code = "guard-too-small"
	CodeUsedLinkDenied  Code = "used-link-denied"
	CodeMirrorDoubles   Code = "mirror-doubles"
	CodeExcluded        Code = "excluded-by-calls"
	CodeUnproven        Code = "caller-unproven"
)

// Kind is what there is to know of a Code.
type Kind struct {
	Code     Code
	Severity Severity
	Means    string // in one sentence
}

// Kinds lists every kind of finding, mistakes first.
func Kinds() []Kind {
	return []Kind{
		{CodeSyntax, Mistake, "The file is not one YAML or JSON document."},
		{CodeUnknownKey, Mistake, "The language has no such key here."},
		{CodeDoubledKey, Mistake, "A key occurs twice in one mapping."},
		{
			CodeWrongType,
			Mistake,
			"A value has the wrong type: a list for a mapping, a duration without a unit.",
		},
		{CodeMissing, Mistake, "A required key is missing."},
		{CodeDeclaredTwice, Mistake, "The same thing is declared in two places."},
		{CodeBadName, Mistake, "A name is invalid."},
		{CodeBadValue, Mistake, "A value is out of range."},
		{CodeBadRegex, Mistake, "RE2 does not accept the regular expression."},
		{CodeWeights, Mistake, "The weights do not add to 100."},
		{CodeUnknownVersion, Mistake, "The service does not declare that version."},
		{CodeUnknownService, Mistake, "No service or gateway of that name is declared."},
		{CodeUnknownSite, Mistake, "The section sites does not list that site."},
		{CodeUnknownRoute, Mistake, "The service has no route of that name."},
		{CodeUnknownLabels, Mistake, "Nothing has the labels that a policy or an access rule selects."},
		{CodePolicyConflict, Mistake, "Two equally specific policies set the same thing."},
		{CodeTooLarge, Mistake, "The rules are over a limit on size, depth or cost."},
		{CodeNotOffered, Mistake, "A team sends to a service that it is not offered."},
		{CodeNotYours, Mistake, "A bundle says what only another team, or the platform, may say."},
		{CodeUnknownTeam, Mistake, "The section teams has no team of that name."},
		{CodeShadowed, Warning, "An earlier route or rule takes every request that this one could take."},
		{CodeNoInstance, Warning, "A version gets requests and has no instance."},
		{CodeTriesTooLong, Warning, "The attempts of a request do not all fit into its timeout."},
		{CodeTimeoutOutlives, Warning, "A timeout is longer than that of the route that leads to the service."},
		{CodeUnsafeRetry, Warning, "Requests whose method is not idempotent are retried."},
		{CodeRetriesMultiply, Warning, "Retries multiply along a chain of calls."},
		{CodeFaultForAll, Warning, "A fault is injected into every request."},
		{CodeGuardTooSmall, Warning, "A guard allows fewer requests in flight than traffic needs now."},
		{CodeUsedLinkDenied, Warning, "A link that is in use is not allowed."},
		{CodeMirrorDoubles, Warning, "A mirror nearly doubles the load of a guarded service."},
		{CodeUnproven, Warning, "An access rule names callers of a service that asks nobody for an identity."},
		{CodeExcluded, Warning, "An access rule allows a call that the caller's own list of calls leaves out."},
	}
}

// Finding is one mistake or warning.
type Finding struct {
	Severity Severity `json:"severity"` // mistake (refuses publishing) or warning
	Code     Code     `json:"code"`     // stable name of the kind of finding
	At       Origin   `json:"at"`       // where it is
	// place in the document, such as services.sailings.routes[1].send
	Path     string  `json:"path,omitempty"`
	Message  string  `json:"message"`            // what is wrong
	Expected string  `json:"expected,omitempty"` // what would be right, with the nearest known name
	Also     *Origin `json:"also,omitempty"`     // the other place, when two places disagree
	// the source line, or, of a long one, the part around the column
	Source string `json:"source,omitempty"`
	// column at which source begins, when that is not the first
	SourceAt int `json:"sourceAt,omitempty"`
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
		fmt.Fprintf(&b, "%5d | %s\n      | %s^\n", f.At.Line, f.Source, pad(f.Source, f.At.Col-max(f.SourceAt-1, 0)))
	}
	if f.Also != nil {
		fmt.Fprintf(&b, "      also at %s\n", *f.Also)
	}
	if f.Expected != "" {
		fmt.Fprintf(&b, "      expected %s\n", f.Expected)
	}
	return b.String()
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
	var at excerpt
	for i := range fs {
		f := &fs[i]
		p, ok := place[f.At.File]
		if !ok || f.At.Line < 1 {
			continue
		}
		if lines[f.At.File] == nil {
			lines[f.At.File] = strings.Split(strings.TrimPrefix(files[p].Text, "\ufeff"), "\n")
		}
		if l := lines[f.At.File]; f.At.Line <= len(l) {
			f.Source, f.SourceAt = at.around(strings.TrimRight(l[f.At.Line-1], "\r"), f.At.Col)
		}
	}
}

// Long lines are shown around the column, this many characters to each side.
const sourceAround = 60

// excerpt cuts pieces out of lines. It remembers where it was, so that many
// findings in one long line do not each begin at its start.
type excerpt struct {
	line     string
	col, off int // a column of the line, and its byte
}

func (e *excerpt) around(line string, col int) (text string, from int) {
	if len(line) <= 2*sourceAround {
		return line, 0
	}
	if line != e.line || e.col > max(1, col-sourceAround) {
		*e = excerpt{line, 1, 0}
	}
	for e.col < col-sourceAround && e.off < len(line) {
		_, n := utf8.DecodeRuneInString(line[e.off:])
		e.off += n
		e.col++
	}
	end := e.off
	for n := 0; n < 2*sourceAround && end < len(line); n++ {
		_, size := utf8.DecodeRuneInString(line[end:])
		end += size
	}
	if e.col > 1 {
		from = e.col
	}
	return line[e.off:end], from
}
