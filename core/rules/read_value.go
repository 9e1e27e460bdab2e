package rules

import (
	"fmt"
	"net/textproto"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// MaxTimeout is the longest time that a rule may set.
const MaxTimeout = 24 * time.Hour

const (
	nameExpected    = "up to 63 lowercase letters, digits and hyphens, such as north-quay"
	versionExpected = "letters, digits, dots, hyphens and underscores, such as v2 or 2026.11"
	keyExpected     = "header:NAME, cookie:NAME, query:NAME, claim:NAME, address or from"
)

// Limits on regular expressions, in instructions of their programs. RE2 takes
// linear time, and this bounds by how much.
const (
	maxRegex    = 10_000
	maxPrograms = 1_000_000 // of a rule set
)

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
		r.mistake(n, path, CodeBadName, fmt.Sprintf("%q is not a valid name", s), expected)
		return "", false
	}
	return s, ok
}

// names reads one name or a list of them.
func (r *reader) names(n *yaml.Node, path string) []string {
	var out []string
	r.items(n, path, func(n *yaml.Node, path string) {
		if s, ok := r.name(n, path, nameShape, nameExpected); ok {
			out = append(out, s)
		}
	})
	return out
}

// choice reads one of some words.
func (r *reader) choice(n *yaml.Node, path string, words ...string) string {
	s, ok := r.scalar(n, path, oneOf("", words))
	if !ok {
		return ""
	}
	for _, w := range words {
		if s == w {
			return s
		}
	}
	r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not allowed here", s), oneOf(s, words))
	return ""
}

func (r *reader) yes(n *yaml.Node, path string) bool {
	switch s, ok := r.scalar(n, path, "true or false"); {
	case !ok:
	case s == "true":
		return true
	case s != "false":
		r.mistake(n, path, CodeWrongType, fmt.Sprintf("%q is neither true nor false", s), "true or false")
	}
	return false
}

// duration reads a time between least and MaxTimeout.
func (r *reader) duration(n *yaml.Node, path string, least time.Duration) (time.Duration, bool) {
	expected := "a duration with its unit, above 0 and at most 24h, such as 800ms, 3s or 1m30s"
	if least == 0 {
		expected = "a duration with its unit, at most 24h, such as 0s, 25ms or 3s"
	}
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return 0, false
	}
	return r.parseDuration(n, path, s, least, expected)
}

func (r *reader) parseDuration(
	n *yaml.Node,
	path, s string,
	least time.Duration,
	expected string,
) (time.Duration, bool) {
	d, err := time.ParseDuration(s)
	if err != nil {
		msg := fmt.Sprintf("%q is not a duration", s)
		if _, err := strconv.ParseFloat(s, 64); err == nil {
			msg = fmt.Sprintf("%q has no unit", s)
		}
		r.mistake(n, path, CodeWrongType, msg, expected)
		return 0, false
	}
	if d < least || d > MaxTimeout {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%s is out of range", s), expected)
		return 0, false
	}
	return d, true
}

// number reads a whole number.
func (r *reader) number(n *yaml.Node, path string, least, most int) (int, bool) {
	expected := fmt.Sprintf("a whole number from %d to %d", least, most)
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return 0, false
	}
	v, err := strconv.Atoi(s)
	if err != nil {
		r.mistake(n, path, CodeWrongType, fmt.Sprintf("%q is not a whole number", s), expected)
		return 0, false
	}
	if v < least || v > most {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%d is out of range", v), expected)
		return 0, false
	}
	return v, true
}

// percent reads a share of at least least.
func (r *reader) percent(n *yaml.Node, path string, least Percent) (Percent, bool) {
	expected := fmt.Sprintf("a percentage from %s%% to 100%% with at most three decimals", least)
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return 0, false
	}
	p, err := ParsePercent(s)
	if err == nil && p < least {
		err = fmt.Errorf("%q is too small", s)
	}
	if err != nil {
		r.mistake(n, path, CodeBadValue, err.Error(), expected)
		return 0, false
	}
	return p, true
}

// rate reads 30/m as a count and the time that it belongs to.
func (r *reader) rate(n *yaml.Node, path string) (count float64, per time.Duration, ok bool) {
	const expected = "a number and a unit, such as 20/s, 30/m or 1000/h"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return 0, 0, false
	}
	num, unit, cut := strings.Cut(s, "/")
	per = rateUnits[unit]
	count, err := strconv.ParseFloat(num, 64)
	if !cut || per == 0 || err != nil {
		r.mistake(n, path, CodeWrongType, fmt.Sprintf("%q is not a rate", s), expected)
		return 0, 0, false
	}
	if !(count > 0 && count <= 1e6) {
		r.mistake(
			n,
			path,
			CodeBadValue,
			fmt.Sprintf("a rate of %s is out of range", s),
			"more than 0 and at most 1000000",
		)
		return 0, 0, false
	}
	return count, per, true
}

// key reads header:NAME and the like.
func (r *reader) key(n *yaml.Node, path string) (Key, bool) {
	s, ok := r.scalar(n, path, keyExpected)
	if !ok {
		return Key{}, false
	}
	return r.parseKey(n, path, s)
}

func (r *reader) parseKey(n *yaml.Node, path, s string) (Key, bool) {
	kind, name, cut := strings.Cut(s, ":")
	k := Key{Kind: kind, Name: name}
	switch kind {
	case "header", "cookie":
		ok := cut && tokenShape.MatchString(name)
		if kind == "header" {
			k.Name = textproto.CanonicalMIMEHeaderKey(name)
		}
		if ok {
			return k, true
		}
	case "query", "claim":
		if cut && name != "" {
			return k, true
		}
	case "from", "address":
		if !cut {
			return k, true
		}
	}
	r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q does not identify visitors", s), keyExpected)
	return k, false
}

// regex reads a regular expression and counts what running it can cost.
func (r *reader) regex(n *yaml.Node, path string) (string, bool) {
	s, ok := r.scalar(n, path, "a regular expression (RE2)")
	if !ok {
		return "", false
	}
	re, err := syntax.Parse(s, syntax.Perl)
	if err != nil {
		r.mistake(
			n,
			path,
			CodeBadRegex,
			strings.TrimPrefix(err.Error(), "error parsing regexp: "),
			"a regular expression in RE2 syntax: no look-around, no back-references",
		)
		return "", false
	}
	size := programSize(re)
	if r.programs > maxPrograms {
		return "", false // said already
	}
	if r.programs += size; size > maxRegex || r.programs > maxPrograms {
		r.mistake(
			n,
			path,
			CodeTooLarge,
			fmt.Sprintf("the expression takes %d steps, all expressions so far %d", size, r.programs),
			fmt.Sprintf(
				"at most %d in one expression and %d in a rule set: "+
					"repeat less, or use prefix, contains or a path with *",
				maxRegex,
				maxPrograms,
			),
		)
		return "", false
	}
	return s, true
}

// programSize is about how many instructions an expression compiles to.
func programSize(re *syntax.Regexp) int {
	const most = 1 << 30
	n := 1
	switch re.Op {
	case syntax.OpLiteral:
		n = len(re.Rune)
	case syntax.OpCharClass:
		n = 1 + len(re.Rune)/2
	}
	for _, sub := range re.Sub {
		n = min(n+programSize(sub), most)
	}
	if re.Op == syntax.OpRepeat {
		n = min(n*max(re.Min, re.Max, 1), most)
	}
	return n
}

func (r *reader) labels(n *yaml.Node, path string) Labels {
	out := Labels{}
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		if s, ok := r.scalar(v, path, "a plain value"); ok {
			out[k.Value] = s
		}
	})
	return out
}

// headerName reads the name of a header that rules may change.
func (r *reader) headerName(n *yaml.Node, path string) (string, bool) {
	s, ok := r.scalar(n, path, "the name of a header")
	switch {
	case !ok:
		return "", false
	case !tokenShape.MatchString(s):
		r.mistake(
			n,
			path,
			CodeBadName,
			fmt.Sprintf("%q is not a valid name of a header", s),
			"letters, digits and hyphens",
		)
		return "", false
	case strings.EqualFold(s, "host"):
		r.mistake(n, path, CodeBadValue, "the host cannot be changed as a header", "rewrite: {host: …}")
		return "", false
	case reserved(s):
		r.mistake(
			n,
			path,
			CodeBadValue,
			fmt.Sprintf("%s belongs to the connection or to the mesh", s),
			"a header of the application",
		)
		return "", false
	}
	return textproto.CanonicalMIMEHeaderKey(s), true
}

// headerFields reads a mapping from header names to a value or several.
func (r *reader) headerFields(n *yaml.Node, path string) []Field {
	return r.fieldsNamed(n, path, r.headerName)
}

// requestFields reads the headers of a request that is sent: its host can be among them.
func (r *reader) requestFields(n *yaml.Node, path string) []Field {
	return r.fieldsNamed(n, path, func(k *yaml.Node, path string) (string, bool) {
		if strings.EqualFold(k.Value, "host") {
			return "Host", true
		}
		return r.headerName(k, path)
	})
}

// fieldsNamed reads a mapping from names, read by name, to a value or several.
func (r *reader) fieldsNamed(
	n *yaml.Node,
	path string,
	readName func(k *yaml.Node, path string) (string, bool),
) []Field {
	var out []Field
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		name, ok := readName(k, path)
		r.items(v, path, func(n *yaml.Node, path string) {
			value, ok2 := r.scalar(n, path, "a value of one line")
			if ok2 && strings.ContainsFunc(value, func(c rune) bool { return c < ' ' && c != '\t' || c == 0x7f }) {
				r.mistake(
					n,
					path,
					CodeBadValue,
					"the value of a header has a line break or another control character",
					"a value of one line",
				)
				return
			}
			if ok && ok2 {
				out = append(out, Field{name, strings.TrimSpace(value)})
			}
		})
	})
	return out
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
	if h != "*" && isBadHost(rest) {
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a host name", s), expected)
		return "", false
	}
	return h, true
}

// isBadHost tells whether a text can be no host name.
func isBadHost(h string) bool {
	return h == "" || strings.ContainsAny(h, "*/:@ \t\\\"'<>?#") || strings.Contains(h, "..") ||
		strings.ContainsFunc(h, func(c rune) bool { return c < ' ' || c == 0x7f })
}

// oneHost reads a host name without a star.
func (r *reader) oneHost(n *yaml.Node, path string) string {
	h, ok := r.host(n, path)
	if ok && strings.HasPrefix(h, "*") {
		r.mistake(n, path, CodeBadValue, "an exact host is needed here", "a host name such as tickets.ferry.example")
		return ""
	}
	return h
}

// hasDots tells whether a path has a segment . or .. in it, encoded or not.
func hasDots(path string) bool {
	for seg := range strings.SplitSeq(path, "/") {
		plain := seg
		if strings.IndexByte(seg, '%') >= 0 {
			plain = strings.NewReplacer("%2e", ".", "%2E", ".").Replace(seg)
		}
		if plain == "." || plain == ".." {
			return true
		}
	}
	return false
}

// plainPath tells whether a path can stand in a rule.
func plainPath(path string) bool {
	return strings.HasPrefix(path, "/") && !strings.ContainsAny(path, "?#\\ \t") && !strings.Contains(path, "//") &&
		!hasDots(path) &&
		!strings.ContainsFunc(path, func(c rune) bool { return c < ' ' || c == 0x7f })
}
