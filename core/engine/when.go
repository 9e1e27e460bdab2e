package engine

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"nightjar/core/rules"
)

// View is all that the engine sees of a request. Its methods must be cheap and
// must not allocate.
type View interface {
	Method() string
	Host() string               // as the caller wrote it, port included
	Path() string               // as it came on the wire, percent-encoded, without the query
	Query() string              // as it came on the wire, without the question mark
	Header(key string) []string // by canonical name; nil when absent
	Caller() string             // calling service or gateway; empty when not known
	Site() string               // of the caller; empty when not known
	Outsider
}

// condition is a compiled rules.Condition.
type condition struct {
	rule    *rules.Condition
	keep    int // segments of the path before its final /**; -1 without
	path    []string
	regex   *regexp.Regexp // of the whole path
	headers []test
	query   []test
	cookies []test
	claims  []test
	any     []*condition
	all     []*condition
	not     []*condition
}

type test struct {
	rule  *rules.Test
	regex *regexp.Regexp
}

func newCondition(rule *rules.Condition) (*condition, error) {
	c := &condition{rule: rule, keep: -1}
	if rule.Path != "" {
		c.path = strings.Split(rule.Path[1:], "/")
		for i, seg := range c.path {
			c.path[i] = decoded(seg)
		}
		if last := len(c.path) - 1; c.path[last] == "**" {
			c.keep = last
		}
	}
	var err error
	if rule.PathRegex != "" {
		if c.regex, err = whole(rule.PathRegex); err != nil {
			return nil, err
		}
	}
	for _, group := range []struct {
		from []rules.Test
		to   *[]test
	}{{rule.Headers, &c.headers}, {rule.Query, &c.query}, {rule.Cookies, &c.cookies}, {rule.Claims, &c.claims}} {
		for i := range group.from {
			t, err := newTest(&group.from[i])
			if err != nil {
				return nil, err
			}
			if group.to == &c.headers {
				t.rule = hostTest(t.rule)
			}
			*group.to = append(*group.to, t)
		}
	}
	for _, group := range []struct {
		from []rules.Condition
		to   *[]*condition
	}{{rule.Any, &c.any}, {rule.All, &c.all}, {rule.Not, &c.not}} {
		for i := range group.from {
			sub, err := newCondition(&group.from[i])
			if err != nil {
				return nil, err
			}
			*group.to = append(*group.to, sub)
		}
	}
	return c, nil
}

func newTest(rule *rules.Test) (t test, err error) {
	t.rule = rule
	if rule.Op == rules.Regex {
		t.regex, err = whole(rule.Values[0])
	}
	return t, err
}

// whole compiles an expression that has to fit from end to end.
func whole(expr string) (*regexp.Regexp, error) { return regexp.Compile("^(?:" + expr + ")$") }

// holds tells whether every entry fits; the path is not looked at again when
// the tree has found it.
func (c *condition) holds(v View, path string, found bool) bool {
	if !found && c.path != nil && !c.pathFits(path) {
		return false
	}
	return c.failing(v, path) == nothing
}

// entry is one kind of entry of a condition, in the order of looking.
type entry uint8

const (
	nothing entry = iota
	byPath
	byMethod
	byHost
	byFrom
	bySite
	byAddress
	byClaim
	byHeader
	byQuery
	byCookie
	byAny
	byAll
	byNot
)

// failing names the first entry that does not hold, apart from a path pattern.
func (c *condition) failing(v View, path string) entry {
	r := c.rule
	switch {
	case c.regex != nil && !c.regex.MatchString(plain(path)):
		return byPath
	case len(r.Methods) > 0 && !slices.Contains(r.Methods, v.Method()):
		return byMethod
	case len(r.Hosts) > 0 && !hostIn(r.Hosts, v.Host()):
		return byHost
	case len(r.From) > 0 && !slices.Contains(r.From, v.Caller()):
		return byFrom
	case len(r.Sites) > 0 && !slices.Contains(r.Sites, v.Site()):
		return bySite
	case len(r.Addresses) > 0 && !addressIn(r.Addresses, v.Address()):
		return byAddress
	}
	for i := range c.claims {
		if !c.claims[i].holdsClaim(v) {
			return byClaim
		}
	}
	for i := range c.headers {
		if !c.headers[i].holdsHeader(v) {
			return byHeader
		}
	}
	for i := range c.query {
		if !c.query[i].holdsValue(v, true) {
			return byQuery
		}
	}
	for i := range c.cookies {
		if !c.cookies[i].holdsValue(v, false) {
			return byCookie
		}
	}
	if len(c.any) > 0 {
		hit := false
		for _, sub := range c.any {
			if hit = sub.holds(v, path, false); hit {
				break
			}
		}
		if !hit {
			return byAny
		}
	}
	for _, sub := range c.all {
		if !sub.holds(v, path, false) {
			return byAll
		}
	}
	for _, sub := range c.not {
		if sub.holds(v, path, false) {
			return byNot
		}
	}
	return nothing
}

// holdsHeader tests every value of the header; one that fits is enough.
func (t *test) holdsHeader(v View) bool {
	values := headerValues(v, t.rule.Name)
	if t.rule.Op == rules.Absent {
		return (len(values) == 0) != t.rule.Not
	}
	return slices.ContainsFunc(values, t.fits) != t.rule.Not
}

// headerValues are the values of a header. That of Host is the host as conditions
// on it see it, so that its spelling, its port and the protocol make no
// difference: HTTP/2 has no such header.
func headerValues(v View, name string) []string {
	if name == "Host" {
		return []string{bareHost(v.Host())}
	}
	return v.Header(name)
}

// hostTest is a test of the header Host by values spelled as headerValues does.
func hostTest(t *rules.Test) *rules.Test {
	if t.Name != "Host" || t.Op == rules.Regex {
		return t
	}
	lower := *t
	lower.Values = slices.Clone(t.Values)
	for i, v := range lower.Values {
		if lower.Values[i] = strings.ToLower(v); t.Op == rules.Is || t.Op == rules.In {
			lower.Values[i] = bareHost(v)
		}
	}
	return &lower
}

// holdsValue does the same for a parameter of the query or a cookie.
func (t *test) holdsValue(v View, query bool) bool {
	found, hit := false, false
	try := func(value string) bool {
		found = true
		hit = t.fits(value)
		return !hit
	}
	if query {
		eachQuery(v, t.rule.Name, try)
	} else {
		eachCookie(v, t.rule.Name, try)
	}
	if t.rule.Op == rules.Absent {
		hit = !found
	}
	return hit != t.rule.Not
}

func (t *test) fits(value string) bool {
	if t.regex != nil {
		return t.regex.MatchString(value)
	}
	return t.rule.Holds(value)
}

// eachCookie calls do with every value of a cookie (RFC 6265, section 4.2.1)
// until it returns false.
func eachCookie(v View, name string, do func(value string) bool) {
	for _, line := range v.Header("Cookie") {
		for pair := range strings.SplitSeq(line, ";") {
			k, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if k == name && !do(strings.Trim(value, `"`)) {
				return
			}
		}
	}
}

// eachQuery does the same for a parameter of the query, decoded as forms are.
func eachQuery(v View, name string, do func(value string) bool) {
	for pair := range strings.SplitSeq(v.Query(), "&") {
		k, value, _ := strings.Cut(pair, "=")
		if formDecoded(k) == name && pair != "" && !do(formDecoded(value)) {
			return
		}
	}
}

func formDecoded(s string) string {
	if strings.IndexByte(s, '%') < 0 && strings.IndexByte(s, '+') < 0 {
		return s
	}
	if d, err := url.QueryUnescape(s); err == nil {
		return d
	}
	return s
}

// decoded resolves percent-encoding in one segment. A segment cannot be cut in
// two by an encoded slash: paths are cut first and decoded then.
func decoded(seg string) string {
	if strings.IndexByte(seg, '%') < 0 {
		return seg
	}
	if s, err := url.PathUnescape(seg); err == nil {
		return s
	}
	return seg
}

// plain is a path as expressions see it: decoded, but for %2F and %25, which
// would otherwise be taken for what they are not.
func plain(path string) string {
	if strings.IndexByte(path, '%') < 0 {
		return path
	}
	segs := strings.Split(path, "/")
	for i, seg := range segs {
		if d := decoded(seg); d != seg {
			segs[i] = strings.NewReplacer("%", "%25", "/", "%2F").Replace(d)
		}
	}
	return strings.Join(segs, "/")
}

// pathFits tells whether the path fits the pattern; a ladder does the same for
// many patterns by walking a tree.
func (c *condition) pathFits(path string) bool {
	if path == "" || path[0] != '/' {
		return false
	}
	rest, more := path[1:], true
	for _, want := range c.path {
		if want == "**" {
			return true
		}
		if !more {
			return false
		}
		var seg string
		seg, rest, more = cut(rest)
		if want == "*" && seg == "" || want != "*" && want != decoded(seg) {
			return false
		}
	}
	return !more
}

// cut takes the first segment off a path.
func cut(path string) (seg, rest string, more bool) {
	if i := strings.IndexByte(path, '/'); i >= 0 {
		return path[:i], path[i+1:], true
	}
	return path, "", false
}

// bareHost is a host without port, case and final dot.
func bareHost(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		host = host[:i]
	}
	return strings.TrimSuffix(strings.ToLower(host), ".")
}

// hostIn tells whether a host is one that the patterns mean.
func hostIn(patterns []string, host string) bool {
	h := bareHost(host)
	for _, want := range patterns {
		if want == "*" || want == h {
			return true
		}
		if suffix, ok := strings.CutPrefix(want, "*"); ok && len(h) > len(suffix) && strings.HasSuffix(h, suffix) {
			return true
		}
	}
	return false
}
