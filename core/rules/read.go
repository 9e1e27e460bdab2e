package rules

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Limits on a rule set; more is refused with CodeTooLarge.
const (
	MaxBytes = 16 << 20  // all files together
	MaxDepth = 63        // nesting of mappings and lists
	maxNodes = 1_000_000 // values of one file, with every alias written out
)

// MaxTimeout is the longest timeout that a rule may set.
const MaxTimeout = 24 * time.Hour

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
		return rules, []Finding{{Severity: Mistake, Code: CodeTooLarge, At: Origin{File: files[0].Name, Line: 1, Col: 1},
			Message:  fmt.Sprintf("the rule files hold %d bytes", total),
			Expected: fmt.Sprintf("at most %d bytes in one rule set", MaxBytes)}}, false
	}
	for _, f := range files {
		r := &reader{file: f.Name, rules: rules}
		if !r.readFile(f.Text) {
			whole = false
		}
		findings = append(findings, r.findings...)
	}
	return rules, findings, whole
}

// reader reads one file. Every method reports what is wrong and goes on.
type reader struct {
	file     string
	rules    *Rules
	findings []Finding
}

func (r *reader) readFile(text string) bool {
	var doc yaml.Node
	if err := yaml.Load([]byte(text), &doc); err != nil {
		if strings.Contains(err.Error(), "no documents") {
			return true // an empty file declares nothing
		}
		r.syntax(err)
		return false
	}
	if len(doc.Content) == 0 {
		return true
	}
	root := doc.Content[0]
	nodes := 0
	if bad, why := measure(root, 1, &nodes); bad != nil {
		r.mistake(bad, "", CodeTooLarge, why, fmt.Sprintf("nesting of at most %d and at most %d values in a file", MaxDepth, maxNodes))
		return false
	}
	if root.Tag == "!!null" {
		return true
	}
	r.mapping(root, "", fields{
		"services": func(n *yaml.Node, path string) {
			r.entries(n, path, func(k, v *yaml.Node, path string) { r.service(k, v, path) })
		},
		"gateways": func(n *yaml.Node, path string) {
			r.entries(n, path, func(k, v *yaml.Node, path string) { r.gateway(k, v, path) })
		},
	})
	return true
}

// syntax reports an error of the YAML library with its position.
func (r *reader) syntax(err error) {
	at, msg := Origin{File: r.file, Line: 1, Col: 1}, err.Error()
	var le *yaml.LoadError
	if errors.As(err, &le) {
		msg = strings.TrimPrefix(le.Message, "yaml: ")
		if le.Mark.Line > 0 {
			at.Line, at.Col = le.Mark.Line, max(le.Mark.Column, 1)
		}
	}
	r.findings = append(r.findings, Finding{Severity: Mistake, Code: CodeSyntax, At: at, Message: msg,
		Expected: "one YAML or JSON document, indented with spaces"})
}

// measure finds the first value that is nested too deep, or the value at which
// a file holds too many, counting aliases each time they are used.
func measure(n *yaml.Node, depth int, nodes *int) (*yaml.Node, string) {
	if *nodes++; *nodes > maxNodes {
		return n, "the file holds too many values once its aliases are written out"
	}
	if depth > MaxDepth {
		return n, "nested too deep"
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
	r.findings = append(r.findings, Finding{Severity: Mistake, Code: code, At: r.at(n), Path: path, Message: msg, Expected: expected})
}

// fields maps each key that a mapping may have to what reads its value.
type fields map[string]func(n *yaml.Node, path string)

func (f fields) names() []string {
	var out []string
	for k := range f {
		out = append(out, k)
	}
	return out
}

// mapping reads a mapping with known keys. An empty value counts as an empty
// mapping. It returns the keys that were there.
func (r *reader) mapping(n *yaml.Node, path string, known fields) map[string]bool {
	seen := map[string]bool{}
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		seen[k.Value] = true
		readField, ok := known[k.Value]
		if !ok {
			r.mistake(k, path, CodeUnknownKey, fmt.Sprintf("unknown key %q", k.Value), oneOf(k.Value, known.names()))
			return
		}
		readField(v, path)
	})
	return seen
}

// entries reads a mapping from names of the author's choice to values.
func (r *reader) entries(n *yaml.Node, path string, each func(k, v *yaml.Node, path string)) {
	r.pairs(n, path, each)
}

func (r *reader) pairs(n *yaml.Node, path string, each func(k, v *yaml.Node, path string)) {
	n = resolve(n)
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return
	}
	if n.Kind != yaml.MappingNode {
		r.mistake(n, path, CodeWrongType, "this is "+kind(n), "a mapping (key: value)")
		return
	}
	first := map[string]*yaml.Node{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if resolve(k).Kind != yaml.ScalarNode {
			r.mistake(k, path, CodeWrongType, "a key is "+kind(k), "a plain word as key")
			continue
		}
		k = resolve(k)
		p := join(path, k.Value)
		if before := first[k.Value]; before != nil {
			r.mistake(k, p, CodeDoubledKey, fmt.Sprintf("key %q stands here twice", k.Value), "each key once; put the values together")
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
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return
	}
	if n.Kind != yaml.SequenceNode {
		r.mistake(n, path, CodeWrongType, "this is "+kind(n), "a list of "+of)
		return
	}
	r.items(n, path, each)
}

// scalar reads a plain value as the text that the author wrote.
func (r *reader) scalar(n *yaml.Node, path, expected string) (string, bool) {
	n = resolve(n)
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.mistake(n, path, CodeWrongType, "this is "+kind(n), expected)
		return "", false
	}
	return n.Value, true
}

func (r *reader) name(n *yaml.Node, path string, shape *regexp.Regexp, expected string) (string, bool) {
	s, ok := r.scalar(n, path, expected)
	if ok && !shape.MatchString(s) {
		r.mistake(n, path, CodeBadName, fmt.Sprintf("%q cannot be a name here", s), expected)
		return "", false
	}
	return s, ok
}

const (
	nameExpected    = "up to 63 small letters, digits and hyphens, such as north-quay"
	versionExpected = "letters, digits, dots, hyphens and underscores, such as v2 or 2026.11"
)

func (r *reader) labels(n *yaml.Node, path string) map[string]string {
	out := map[string]string{}
	r.entries(n, path, func(k, v *yaml.Node, path string) {
		if s, ok := r.scalar(v, path, "a plain value"); ok {
			out[k.Value] = s
		}
	})
	return out
}

func (r *reader) timeout(n *yaml.Node, path string) *Timeout {
	const expected = "a time with its unit, more than 0 and at most 24h, such as 800ms, 3s or 1m30s"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return nil
	}
	d, err := time.ParseDuration(s)
	if err != nil {
		msg := fmt.Sprintf("%q is not a time", s)
		if _, err := strconv.ParseFloat(s, 64); err == nil {
			msg = fmt.Sprintf("%q has no unit", s)
		}
		r.mistake(n, path, CodeWrongType, msg, expected)
		return nil
	}
	if d <= 0 || d > MaxTimeout {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("a timeout of %s is not possible", s), expected)
		return nil
	}
	return &Timeout{Value: d, At: r.at(n)}
}

func (r *reader) service(k, v *yaml.Node, path string) {
	s := &Service{Name: k.Value, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	var routes *yaml.Node
	r.mapping(v, path, fields{
		"owner":  func(n *yaml.Node, path string) { s.Owner, _ = r.scalar(n, path, "the owner's name") },
		"labels": func(n *yaml.Node, path string) { s.Labels = r.labels(n, path) },
		"versions": func(n *yaml.Node, path string) {
			r.list(n, path, "versions", func(n *yaml.Node, path string) {
				ver, ok := r.name(n, path, versionShape, versionExpected)
				if !ok {
					return
				}
				if s.HasVersion(ver) {
					r.mistake(n, path, CodeDeclaredTwice, fmt.Sprintf("version %s stands in the list twice", ver), "each version once")
					return
				}
				s.Versions = append(s.Versions, ver)
			})
		},
		"instances": func(n *yaml.Node, path string) {
			r.list(n, path, "instances", func(n *yaml.Node, path string) { r.instance(s, n, path) })
		},
		"timeout": func(n *yaml.Node, path string) { s.Timeout = r.timeout(n, path) },
		"routes":  func(n *yaml.Node, _ string) { routes = n },
	})
	if routes != nil {
		s.Routes = r.routes(routes, path+".routes")
	}
	if before := r.rules.Service(s.Name); before != nil {
		r.declaredTwice(k, path, "service "+s.Name, before.At)
		return
	}
	r.rules.Services = append(r.rules.Services, s)
}

func (r *reader) declaredTwice(n *yaml.Node, path, what string, before Origin) {
	r.mistake(n, path, CodeDeclaredTwice, what+" is declared twice", "one declaration; take one of the two places out")
	r.findings[len(r.findings)-1].Also = &before
}

func (r *reader) instance(s *Service, n *yaml.Node, path string) {
	in := Instance{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"at": func(n *yaml.Node, path string) {
			const expected = "an address such as http://10.0.0.7:8443"
			text, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			u, err := url.Parse(text)
			if err != nil || u.Scheme != "http" || u.Hostname() == "" || u.User != nil ||
				strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "" {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not an address of an instance", text), expected)
				return
			}
			in.URL = "http://" + u.Host
		},
		"version": func(n *yaml.Node, path string) { in.Version, _ = r.name(n, path, versionShape, versionExpected) },
	})
	for _, k := range []string{"at", "version"} {
		if !seen[k] {
			r.mistake(n, path, CodeMissing, "this instance has no "+k, "both at and version")
		}
	}
	if in.URL != "" && in.Version != "" {
		s.Instances = append(s.Instances, in)
	}
}

func (r *reader) gateway(k, v *yaml.Node, path string) {
	g := &Gateway{Name: k.Value, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	seen := r.mapping(v, path, fields{
		"listen": func(n *yaml.Node, path string) {
			const expected = "an address with a port, such as 127.0.0.1:8080 or :8080"
			s, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			_, port, err := net.SplitHostPort(s)
			if p, perr := strconv.ParseUint(port, 10, 16); err != nil || perr != nil || p == 0 {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not an address to listen on", s), expected)
				return
			}
			g.Listen = s
		},
		"hosts": func(n *yaml.Node, path string) {
			r.list(n, path, "host names", func(n *yaml.Node, path string) {
				if h, ok := r.host(n, path); ok {
					g.Hosts = append(g.Hosts, h)
				}
			})
		},
		"routes": func(n *yaml.Node, path string) { g.Routes = r.routes(n, path) },
	})
	for _, key := range []string{"listen", "hosts"} {
		if !seen[key] {
			r.mistake(k, path, CodeMissing, fmt.Sprintf("gateway %s has no %s", g.Name, key), key+", such as "+map[string]string{"listen": `"127.0.0.1:8080"`, "hosts": "[tickets.ferry.example]"}[key])
		}
	}
	if before := r.rules.Gateway(g.Name); before != nil {
		r.declaredTwice(k, path, "gateway "+g.Name, before.At)
		return
	}
	r.rules.Gateways = append(r.rules.Gateways, g)
}

// host reads a host name: exact, *.suffix, or * for every host. Case and a
// final dot carry no meaning.
func (r *reader) host(n *yaml.Node, path string) (string, bool) {
	const expected = "a host name without port, such as tickets.ferry.example, *.ferry.example or *"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return "", false
	}
	h := strings.TrimSuffix(strings.ToLower(s), ".")
	rest := strings.TrimPrefix(h, "*.")
	if h != "*" && (rest == "" || strings.ContainsAny(rest, "*/:@ \t") || strings.Contains(rest, "..")) {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a host name", s), expected)
		return "", false
	}
	return h, true
}
