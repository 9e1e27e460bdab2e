package rules

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Limits on a rule set; more is refused with CodeTooLarge.
const (
	MaxBytes = 16 << 20  // all files together
	MaxDepth = 63        // nesting of mappings and lists
	maxNodes = 1_000_000 // values of one file, with every alias written out
	maxList  = 1000      // versions of a service, sites of a failover
	maxNamed = 1000      // policies
)

var (
	nameShape    = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
	versionShape = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
	tokenShape   = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$") // RFC 9110, section 5.6.2
)

// read turns files into rules. What cannot be understood is left out and
// reported; whole is false when a file could not be read at all, so that names
// which it may declare cannot be called unknown.
func read(files []File) (rules *Rules, findings []Finding, whole bool) {
	rules, whole = &Rules{}, true
	total := 0
	for _, f := range files {
		total += len(f.Text)
	}
	if total > MaxBytes {
		return rules, []Finding{
			{
				Severity: Mistake,
				Code:     CodeTooLarge,
				At:       Origin{File: files[0].Name, Line: 1, Col: 1},
				Message:  fmt.Sprintf("the rule files have %d bytes", total),
				Expected: fmt.Sprintf("at most %d bytes in one rule set", MaxBytes),
			},
		}, false
	}
	shared := &common{rules: rules, first: map[string]Origin{}}
	for _, f := range files {
		r := &reader{common: shared, file: f.Name}
		if !r.readFile(f.Text) {
			whole = false
		}
	}
	shared.places()
	shared.join()
	return rules, shared.findings, whole
}

// common is what the readers of all files of a rule set share.
type common struct {
	rules    *Rules
	first    map[string]Origin // what was declared, by kind and name
	findings []Finding
	programs int       // of regular expressions, in instructions
	parts    []written // routes of gateways that other bundles declare
}

// reader reads one file. Every method reports what is wrong and goes on.
type reader struct {
	*common
	file  string
	spell bool // unknown keys are answered with all known ones and no more words
}

func (r *reader) readFile(text string) bool {
	root, err := parse(text)
	if err != nil {
		r.syntax(err)
		return false
	}
	if root == nil {
		return true // an empty file declares nothing
	}
	nodes := 0
	if bad, why := measure(root, 1, &nodes); bad != nil {
		r.mistake(
			bad,
			"",
			CodeTooLarge,
			why,
			fmt.Sprintf("nesting of at most %d and at most %d values in a file", MaxDepth, maxNodes),
		)
		return false
	}
	if root.Tag == "!!null" {
		return true
	}
	r.mapping(root, "", fields{
		"sites":    r.sites,
		"services": func(n *yaml.Node, path string) { r.pairs(n, path, r.service) },
		"gateways": func(n *yaml.Node, path string) { r.pairs(n, path, r.gateway) },
		"policies": func(n *yaml.Node, path string) { r.pairs(n, path, r.policy) },
		"defaults": r.defaults,
		"access":   r.access,
		"releases": func(n *yaml.Node, path string) { r.pairs(n, path, r.release) },
		"teams":    func(n *yaml.Node, path string) { r.pairs(n, path, r.team) },
		"trials":   func(n *yaml.Node, path string) { r.pairs(n, path, r.trial) },
	})
	return true
}

// parse reads one YAML document; nil for a text without any. The library would
// also take UTF-16, in which no position of ours would be right.
func parse(text string) (*yaml.Node, error) {
	if !utf8.ValidString(text) {
		at := notText{line: 1, col: 1}
		for _, c := range text {
			if c == utf8.RuneError {
				return nil, at
			}
			if at.col++; c == '\n' {
				at.line, at.col = at.line+1, 1
			}
		}
	}
	var doc yaml.Node
	if err := yaml.Load([]byte(text), &doc); err != nil {
		if strings.Contains(err.Error(), "no documents") {
			return nil, nil
		}
		return nil, err
	}
	if len(doc.Content) == 0 {
		return nil, nil
	}
	return doc.Content[0], nil
}

// notText is the place of a byte that is not UTF-8.
type notText struct{ line, col int }

func (notText) Error() string { return "a character is not UTF-8" }

// syntax reports why a file could not be parsed, with the position.
func (r *reader) syntax(err error) {
	at, msg := Origin{File: r.file, Line: 1, Col: 1}, err.Error()
	var le *yaml.LoadError
	var bad notText
	if errors.As(err, &bad) {
		at.Line, at.Col = bad.line, bad.col
	} else if errors.As(err, &le) {
		msg = strings.TrimPrefix(le.Message, "yaml: ")
		if le.Mark.Line > 0 {
			at.Line, at.Col = le.Mark.Line, max(le.Mark.Column, 1)
		}
	}
	r.findings = append(r.findings, Finding{
		Severity: Mistake,
		Code:     CodeSyntax,
		At:       at,
		Message:  msg,
		Expected: "one YAML or JSON document in UTF-8, indented with spaces",
	})
}

// measure finds the first value that is nested too deeply, or the value at which
// a file holds too many, counting aliases each time they are used.
func measure(n *yaml.Node, depth int, nodes *int) (*yaml.Node, string) {
	if *nodes++; *nodes > maxNodes {
		return n, "the file has too many values after its aliases are expanded"
	}
	if depth > MaxDepth {
		return n, "nested too deeply"
	}
	if n.Kind == yaml.AliasNode {
		return measure(n.Alias, depth+1, nodes)
	}
	for _, c := range n.Content {
		if bad, why := measure(c, depth+1, nodes); bad != nil {
			return bad, why
		}
	}
	return nil, ""
}

func (r *reader) at(n *yaml.Node) Origin { return Origin{File: r.file, Line: n.Line, Col: n.Column} }

func (r *reader) mistake(n *yaml.Node, path string, code Code, msg, expected string) {
	r.findings = append(
		r.findings,
		Finding{
			Severity: Mistake,
			Code:     code,
			At:       r.at(n),
			Path:     path,
			Message:  msg,
			Expected: expected,
		},
	)
}

// once tells whether nothing of that kind and name was declared before;
// otherwise it reports both places.
func (r *reader) once(n *yaml.Node, path, what string) bool {
	if before, twice := r.first[what]; twice {
		r.declaredTwice(n, path, what, before)
		return false
	}
	r.first[what] = r.at(n)
	return true
}

func (r *reader) declaredTwice(n *yaml.Node, path, what string, before Origin) {
	r.mistake(n, path, CodeDeclaredTwice, what+" is declared twice", "one declaration: remove one of the two")
	r.findings[len(r.findings)-1].Also = &before
}

// fields maps each key that a mapping may have to what reads its value.
type fields map[string]func(n *yaml.Node, path string)

func (f fields) names() []string {
	return slices.Sorted(maps.Keys(f))
}

// keys are the keys that a mapping had, each with its place.
type keys map[string]*yaml.Node

func (k keys) has(name string) bool { return k[name] != nil }

// mapping reads a mapping with known keys. An empty value counts as an empty
// mapping. It returns the keys that were there.
func (r *reader) mapping(n *yaml.Node, path string, known fields) keys {
	seen := keys{}
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		seen[k.Value] = k
		readField, ok := known[k.Value]
		if !ok {
			expected := oneOf(k.Value, known.names())
			if r.spell {
				expected = strings.Join(known.names(), " ")
			}
			r.mistake(k, path, CodeUnknownKey, fmt.Sprintf("unknown key %q", k.Value), expected)
			return
		}
		readField(v, path)
	})
	return seen
}

// pairs reads a mapping, whatever its keys.
func (r *reader) pairs(n *yaml.Node, path string, each func(k, v *yaml.Node, path string)) {
	n = resolve(n)
	if isNull(n) {
		return
	}
	if n.Kind != yaml.MappingNode {
		r.mistake(n, path, CodeWrongType, "this is "+kind(n), "a mapping (key: value)")
		return
	}
	first := make(map[string]*yaml.Node, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if resolve(k).Kind != yaml.ScalarNode {
			r.mistake(k, path, CodeWrongType, "a key is "+kind(k), "a plain word as key")
			continue
		}
		k = resolve(k)
		p := join(path, k.Value)
		if before := first[k.Value]; before != nil {
			r.mistake(
				k,
				p,
				CodeDoubledKey,
				fmt.Sprintf("key %q occurs twice", k.Value),
				"each key once: merge the values",
			)
			also := r.at(before)
			r.findings[len(r.findings)-1].Also = &also
			continue
		}
		first[k.Value] = k
		each(k, v, p)
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func resolve(n *yaml.Node) *yaml.Node {
	for n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	return n
}

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.Tag == "!!null" }

func isMapping(n *yaml.Node) bool { return resolve(n).Kind == yaml.MappingNode }

// kind names a value for a message.
func kind(n *yaml.Node) string {
	switch n = resolve(n); n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	}
	if n.Tag == "!!null" {
		return "empty"
	}
	return fmt.Sprintf("the value %q", n.Value)
}

// items calls each for every element of a list; a single value counts as a
// list of one.
func (r *reader) items(n *yaml.Node, path string, each func(n *yaml.Node, path string)) {
	n = resolve(n)
	if n.Kind != yaml.SequenceNode {
		each(n, path)
		return
	}
	for i, c := range n.Content {
		each(resolve(c), fmt.Sprintf("%s[%d]", path, i))
	}
}

// list is items for a value that has to be a list.
func (r *reader) list(n *yaml.Node, path, of string, each func(n *yaml.Node, path string)) {
	n = resolve(n)
	if isNull(n) {
		return
	}
	if n.Kind != yaml.SequenceNode {
		r.mistake(n, path, CodeWrongType, "this is "+kind(n), "a list of "+of)
		return
	}
	r.items(n, path, each)
}

// short is list for a list that has to be compared with itself.
func (r *reader) short(n *yaml.Node, path, of string, each func(n *yaml.Node, path string)) {
	if size := len(resolve(n).Content); size > maxList {
		r.mistake(n, path, CodeTooLarge, fmt.Sprintf("there are %d %s", size, of), fmt.Sprintf("at most %d", maxList))
		return
	}
	r.list(n, path, of, each)
}

// need reports what is missing from a mapping.
func (r *reader) need(n *yaml.Node, path string, seen keys, what string, names ...string) {
	if resolve(n).Kind != yaml.MappingNode && !isNull(resolve(n)) {
		return // reported already
	}
	for _, name := range names {
		if !seen.has(name) {
			r.mistake(n, path, CodeMissing, fmt.Sprintf("%s has no %s", what, name), name+": …")
		}
	}
}
