package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// conditions has a route for every kind of condition.
const conditions = `
sites: [north, south]
services:
  a: {}
  s:
    versions: [v1]
    routes:
      - {name: star, send: v1, when: {path: /berths/*/picture}}
      - {name: regex, send: v1, when: {path: {regex: "/lines/[a-z]+(/today)?"}}}
      - {name: host, send: v1, when: {host: ["*.s.internal", s.example]}}
      - {name: from, send: v1, when: {from: [a, door], path: /from}}
      - {name: site, send: v1, when: {site: south, path: /site}}
      - {name: query, send: v1, when: {query: {"a b": "x y", n: {regex: "[0-9]+"}}}}
      - {name: flag, send: v1, when: {query: {debug: {present: true}}}}
      - {name: cookie, send: v1, when: {cookies: {berth: {contains: "9", not: {prefix: x}}}}}
      - {name: any, send: v1, when: {any: [{path: /any/**}, {headers: {x-any: {in: [a, b]}}}]}}
      - {name: all, send: v1, when: {path: /all, all: [{not: {method: GET}}, {not: [{headers: {x: y}}, {query: {q: z}}]}]}}
      - {name: absent, send: v1, when: {path: /absent, headers: {x-here: {present: false}}}}
      - {name: encoded, send: v1, when: {path: "/fähre/50%/x"}}
gateways:
  door: {listen: ":80", hosts: ["*"], routes: [{name: all, send: s}]}
`

func TestConditions(t *testing.T) {
	table := compile(t, conditions, nil, crowd("s/v1")...)
	with := func(a *ask, change func(*ask)) *ask { change(a); return a }
	for _, c := range []struct {
		want string
		ask  *ask
	}{
		{"star", get("s", "/berths/7/picture")},
		{"star", get("s", "/berths/%2F/picture")},
		{"", get("s", "/berths//picture")},
		{"", get("s", "/berths/7/8/picture")},
		{"", get("s", "/berths/7/picture/")},
		{"regex", get("s", "/lines/petrel/today")},
		{"regex", get("s", "/lines/p%65trel")},
		{"", get("s", "/lines/petrel/today/x")},
		{"", get("s", "/lines/petrel%2Ftoday")},
		{"", get("s", "/lines/petrel%252Ftoday")},
		{"host", get("s.internal", "/").as("x.S.internal.:8080")},
		{"host", get("s", "/").as("S.example:1")},
		{"", get("s", "/").as("s.internal")},
		{"from", with(get("s", "/from"), func(a *ask) { a.caller = "a" })},
		{"", with(get("s", "/from"), func(a *ask) { a.caller = "b" })},
		{"site", with(get("s", "/site"), func(a *ask) { a.site = "south" })},
		{"", with(get("s", "/site"), func(a *ask) { a.site = "north" })},
		{"query", get("s", "/?n=&a+b=no&n=12&a%20b=x%20y")},
		{"", get("s", "/?a+b=x+y&n=1a")},
		{"flag", get("s", "/?debug")},
		{"", get("s", "/?debugger=1")},
		{"cookie", get("s", "/", "Cookie: berth=a9")},
		{"", get("s", "/", "Cookie: berth=x9")},
		{"any", get("s", "/any/x")},
		{"any", get("s", "/x", "X-Any: b")},
		{"", get("s", "/x", "X-Any: c")},
		{"all", with(get("s", "/all?q=y"), func(a *ask) { a.method = "PUT" })},
		{"", with(get("s", "/all?q=z"), func(a *ask) { a.method = "PUT" })},
		{"", get("s", "/all")},
		{"absent", get("s", "/absent")},
		{"", get("s", "/absent", "X-Here: ")},
		{"encoded", get("s", "/f%C3%A4hre/50%25/x")},
	} {
		got := ""
		if rt := table.Match("s", c.ask); rt != nil {
			got = rt.Name()
		}
		if got != c.want {
			t.Errorf("%s?%s %v: got %q, want %q", c.ask.path, c.ask.query, c.ask.header, got, c.want)
		}
	}
	// Each reason why a route is skipped says what was expected and found.
	e := Explain(table, Entry{}, get("s", "/x?n=1&debugg=", "Cookie: berth=x9", "X-Any: c"), 0)
	var whys []string
	for _, r := range e.Ladders[0].Rungs {
		whys = append(whys, r.Route+": "+r.Why)
	}
	want := []string{
		"star: expected path /berths/*/picture, found /x",
		`regex: expected path regex "/lines/[a-z]+(/today)?", found /x`,
		"host: expected host *.s.internal|s.example, found s",
		"from: expected path /from, found /x",
		"site: expected path /site, found /x",
		`query: expected query a b is "x y", found none`,
		"flag: expected query debug present, found none",
		`cookie: expected cookie berth not prefix "x", found "x9"`,
		`any: expected any of these, found none: expected path /any/**, found /x; expected header x-any in "a", "b", found "c"`,
		"all: expected path /all, found /x",
		"absent: expected path /absent, found /x",
		"encoded: expected path /fähre/50%/x, found /x",
	}
	if !slices.Equal(whys, want) {
		t.Errorf("got\n%s", strings.Join(whys, "\n"))
	}
	for a, want := range map[*ask]string{
		get("s", "/from"): "from: expected from a|door, found none",
		with(get("s", "/site"), func(a *ask) { a.site = "north" }): "site: expected site south, found north",
		get("s", "/all"): "all: expected not (method GET), found that it holds",
	} {
		text := fmt.Sprint(Explain(table, Entry{}, a, 0).Ladders)
		name, why, _ := strings.Cut(want, ": ")
		if !strings.Contains(text, "{"+name+" skipped "+why+" ") {
			t.Errorf("want %q in %s", want, text)
		}
	}
}

func (a *ask) as(host string) *ask { a.host = host; return a }

// FuzzMatch: on ladders and requests made from arbitrary bytes, the tree and
// the indexes find what a search from the top finds, Explain names the same
// route and odds, and nothing panics.
func FuzzMatch(f *testing.F) {
	f.Add(uint64(1), "/a/b", "a=1", "k: x", "a.example")
	f.Add(uint64(9), "//%2f/..%2f\\x", "%zz&=&&a", "cookie: ;=;a==b", ":::")
	f.Fuzz(func(t *testing.T, seed uint64, path, query, header, host string) {
		if !strings.HasPrefix(path, "/") {
			path = "/" + path
		}
		agree(t, rand.New(rand.NewPCG(seed, 5)), path, query, header, host)
	})
}

// agree makes a random ladder and compares all ways of matching it with a
// request that is partly given and partly made to fit.
func agree(t *testing.T, rnd *rand.Rand, path, query, header, host string) (took bool) {
	t.Helper()
	pick := func(words ...string) string { return words[rnd.IntN(len(words))] }
	var when func(depth int) string
	when = func(depth int) string {
		var parts []string
		add := func(odds int, text string) {
			if rnd.IntN(odds) == 0 {
				parts = append(parts, text)
			}
		}
		p := ""
		for range 1 + rnd.IntN(3) {
			p += "/" + pick("a", "b", "*", "c")
		}
		add(2, "path: "+pick(p, p+"/**", `{regex: "/a/[a-c]+"}`, `{regex: "/(a|b).*"}`, "/**"))
		add(4, "method: "+pick("GET", "[POST, GET]", "PUT"))
		add(6, "host: "+pick("a.example", `"*.example"`, "[b.example, a.example]"))
		add(6, "from: "+pick("s", "[s, u]"))
		add(6, "site: "+pick("north", "south"))
		add(3, "headers: {k: "+pick("x", "{in: [x, y]}", "{prefix: x}", "{not: x}", "{present: false}", "{regex: x+}", "{is: x, not: {is: y}}")+"}")
		add(5, "query: {a: "+pick(`"1"`, `{in: ["1", "2"]}`, "{present: true}", `{not: {is: "1"}}`)+"}")
		add(5, "cookies: {c: "+pick("x", "{suffix: y}")+"}")
		if depth > 0 {
			add(5, "any: ["+when(depth-1)+", "+when(depth-1)+"]")
			add(6, "all: ["+when(depth-1)+"]")
			add(6, "not: "+when(depth-1))
		}
		if len(parts) == 0 {
			parts = append(parts, "path: "+p)
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	var doc strings.Builder
	doc.WriteString("sites: [north, south]\nservices:\n  u: {}\n  s:\n    versions: [v1, v2]\n    routes:\n")
	for i := range 1 + rnd.IntN(30) {
		fmt.Fprintf(&doc, "    - {name: r%d, send: {v1: 30, v2: 70}", i)
		if rnd.IntN(12) > 0 {
			fmt.Fprintf(&doc, ", when: [%s, %s]", when(2), when(1))
		}
		doc.WriteString("}\n")
	}
	table := compile(t, doc.String(), nil, crowd("s/v1", "s/v2")...)
	a := get(host, path+"?"+query, header)
	a.path, a.query = path, query
	a.caller, a.site, a.method = pick("s", "t", ""), pick("north", "east"), pick("GET", "POST")
	a.header["K"] = append(a.header["K"], pick("x", "y", "xx", "z"))
	a.header["Cookie"] = append(a.header["Cookie"], pick("c=x", "c=zy", "b=1; c=x"))
	l := table.services["s"].ladder
	want := ""
	for _, rt := range l.routes {
		if len(rt.conds) == 0 || slices.ContainsFunc(rt.conds, func(c *condition) bool { return c.holds(a, path, false) }) {
			want = rt.Name()
			break
		}
	}
	got := ""
	if rt, _ := l.match(a, path); rt != nil {
		got = rt.Name()
	}
	if got != want {
		t.Fatalf("%+v\nmatched %q, a search finds %q\n%s", a, got, want, doc.String())
	}
	// As the proxy sees it, by the name of the service.
	a.host = "s"
	var x Exchange
	s, e := x.Begin(table, Entry{}, a, 0), Explain(table, Entry{}, a, 0)
	told := ""
	for _, l := range e.Ladders {
		for _, r := range l.Rungs {
			if r.Result == "taken" {
				told = r.Route
			}
			if r.Result == "skipped" && strings.Contains(r.Why, "every entry held") {
				t.Fatalf("%+v: explained %s as skipped although it holds\n%s", a, r.Route, doc.String())
			}
		}
	}
	if e.Refusal != nil { // a route took it by one reading of the path alone
		told = ""
	}
	taken := ""
	if s.Kind == Attempt {
		taken = x.route.Name()
	}
	if taken != told || (s.Kind == Reply) != (e.Refusal != nil) || s.Kind == Reply && s.Reason != e.Refusal.Reason {
		t.Fatalf("%+v\nthe exchange took %q (%+v), explained %q (%+v)\n%s", a, taken, s, told, e.Refusal, doc.String())
	}
	if s.Kind == Attempt && (len(e.Odds) != 2 || e.Odds[0].Share != 0.3) {
		t.Fatalf("odds %+v", e.Odds)
	}
	return taken != ""
}

// TestMatchAgreesWithASearch plays the same on requests that often fit.
func TestMatchAgreesWithASearch(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	pick := func(words ...string) string { return words[rnd.IntN(len(words))] }
	taken := 0
	for range 800 {
		path := ""
		for range 1 + rnd.IntN(4) {
			path += "/" + pick("a", "b", "c", "%61", "")
		}
		if agree(t, rnd, path, pick("", "a=1", "a=2&b", "a=%31"), "K: "+pick("x", "y"), pick("a.example", "B.Example:80", "c.test")) {
			taken++
		}
	}
	if taken < 250 || taken == 800 {
		t.Fatalf("%d of 800 requests were taken by a route", taken)
	}
}
