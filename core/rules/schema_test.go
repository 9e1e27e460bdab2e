package rules

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"
)

func compiledSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("rules.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("rules.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// valid tells whether a YAML document fits the schema.
func valid(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	var v any
	if err := yaml.Load([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(doc)
}

// TestSchemaTakesWhatTheCheckerTakes, and refuses what it refuses for its shape.
func TestSchemaTakesWhatTheCheckerTakes(t *testing.T) {
	s := compiledSchema(t)
	texts := []string{sample, chain, everything}
	for _, name := range []string{"ferry", "night-shift", "bad-weather", "edge"} {
		text, err := os.ReadFile("../../examples/" + name + "/rules.yaml")
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, string(text))
	}
	for _, text := range texts {
		if err := valid(t, s, text); err != nil {
			t.Errorf("%v\nin\n%.300s", err, text)
		}
	}
	// The guards for bad weather stand beside the ferry line's rules, without a word of warning.
	if _, found := Check([]File{{"ferry", texts[3]}, {"bad-weather", texts[5]}}, Live{}); len(found) > 0 {
		t.Errorf("bad-weather beside ferry: %v", found)
	}
	for _, text := range []string{"servces: {}", "services: [s]", "services: {S: {}}", "services: {s: {routes: [{send: v1}]}}", "services: {s: {routes: [{name: a}]}}",
		"services: {s: {routes: [{name: a, send: v1, when: {}}]}}", "services: {s: {timeout: 3}}", "gateways: {g: {}}"} {
		if valid(t, s, text) == nil {
			t.Errorf("the schema takes %s", text)
		}
		if _, found := Check([]File{{"f", text}}, Live{}); Mistakes(found) == 0 {
			t.Errorf("the checker takes %s", text)
		}
	}
}

// everything has each key of the language at least once.
const everything = `
sites: {n: {crossing: "c.example:7443"}, s: {reach: direct}}
services:
  a:
    owner: x
    labels: {tier: core}
    protocol: http
    versions: [v1, v2]
    calls: [a]
    instances: [{at: "http://10.0.0.7:80", version: v1, site: n}]
    timeout: 3s
    retry: {times: 2, each: 1s, on: [reset, 5xx, 503], wait: 1ms..2ms, budget: 20%, methods: all}
    guard:
      in-flight: 3
      waiting: 4
      wait-at-most: 10ms
      breaker: {errors: 50%, slow: 80% over 2s, over: 10s, least: 20, open: 12s, probes: 3}
      sideline: {after: 3, for: 20s, most: 50%, counts: [5xx, timeout]}
    health: {path: /h, every: 5s, down-after: 3, up-after: 2}
    balance: hash:header:x-user
    failover: {order: [same, n, s], below: 50%}
    identity: required
    routes:
      - name: r
        labels: {kind: read}
        when:
          - path: {regex: "/a.*"}
            method: GET
            host: "*.x.example"
            from: [a]
            site: n
            headers: {h: {is: a, in: [a], prefix: a, suffix: a, contains: a, regex: a, present: true, not: {is: b, }}}
            query: {q: x}
            cookies: {c: {not: {in: [x]}}, d: {not: {prefix: x}}, e: {not: {suffix: x}}, f: {not: {contains: x}}, g: {not: {regex: x}}, i: {not: {present: true}}}
            any: [{path: /x}]
            all: [{path: /x}]
            not: {path: /y}
        send: {v1: 50, a/v2@s: 50}
        otherwise: v1
        stick: {by: query:q}
        rewrite: {path: /b, host: b.example}
        headers: {request: {set: {a: b}, add: {c: [d, e]}, remove: [f]}, response: {remove: g}}
        mirror: {to: v2, share: 1%}
        fault: [{delay: 1s, share: 1%}, {status: 503, share: 2%}]
        timeout: 1s
        retry: {times: 1}
        limit: {rate: 30/m, burst: 5, per: [header:a, from]}
      - {name: q, when: {path: /q/**}, redirect: {scheme: https, host: x.example, path: /r/**, status: 308}}
      - {name: p, reply: {status: 200, body: x, headers: {a: b}}}
gateways:
  g: {listen: ":80", tls: {cert: a, key: b}, hosts: [x.example], routes: [{name: h, send: a}]}
policies:
  p: {for: {labels: {tier: core}}, timeout: 1s, retry: {times: 0}, limit: {rate: 1/s}, guard: {in-flight: 1}, health: {path: /}, balance: random, identity: none, failover: {order: [n]}}
defaults: {identity: optional, timeout: 1s, retry: {times: 0}, guard: {in-flight: 1}, health: {path: /}, balance: random, failover: {order: [n]}}
access: {default: deny, mode: watch, rules: [{name: x, mode: watch, from: [gateway/g, "@n", anyone, {labels: {tier: core}}], to: [a, {labels: {tier: core}}], deny: {path: /, port: 80, method: GET, host: x.example, site: n, headers: {a: b}, query: {a: b}, cookies: {a: b}, any: [{path: /x}], all: [{path: /x}], not: {path: /y}}}, {name: z, from: {labels: {tier: core}}, deny: {port: 80}}, {name: y, allow: all}]}
releases:
  r:
    service: a
    route: r
    from: v1
    to: v2
    first-to: {headers: {x: y}}
    stages: [5%, 100%]
    each: 10s
    hold-at: [5%]
    dark: 10%
    watch: 5m
    judge: {success: ">= 98.5%", first-try: ">= 90%", success-against-from: ">= -0.5%", p50: "<= 1s", p90: "<= 1s", p95: "<= 1s", p99: "<= 1s", expect: [rps > 1], least: 5, every: 5s, misses: 1, patience: 1m}
    load: {to: a, rate: 1/s}
    notify: ["http://127.0.0.1:9/x", {url: "https://x.example/y", mode: binary, gate: true}]
    on-success: make-default
trials:
  t:
    load:
      - {to: g, method: POST, path: "/x?y=1", headers: {a: b}, body: "{}", rate: 5/s, spike: {rate: 9/s, after: 1s, for: 2s}, share: {headers: {x: y}, cookies: {c: d}, of: 5%}}
      - {from: a, to: a, cookies: {a: b}, steps: [1/s, 2/s], arrivals: random}
    for: 10s
    warm-up: 1s
    drill: {service: a, version: v2, site: n, fail: 30%, delay: 1s, down: false}
    expect: [success >= 98.5%, share(a/v2) = 15% ± 2%, refused(limited) = 0]
`

func TestEverythingIsTaken(t *testing.T) {
	if _, found := one(everything); len(found) > 0 {
		t.Errorf("findings: %v", found)
	}
}

// TestSchemaHasTheCheckersKeys: at every mapping of everything, the keys that
// the checker would take are those that the schema names there.
func TestSchemaHasTheCheckersKeys(t *testing.T) {
	var root map[string]any
	if err := json.Unmarshal(Schema, &root); err != nil {
		t.Fatal(err)
	}
	defs := root["$defs"].(map[string]any)
	var doc yaml.Node
	if err := yaml.Load([]byte(everything), &doc); err != nil {
		t.Fatal(err)
	}
	compared := 0
	var visit func(n *yaml.Node, schemas []map[string]any, path string)
	visit = func(n *yaml.Node, schemas []map[string]any, path string) {
		var named []string
		for _, s := range schemas {
			if p, ok := s["properties"].(map[string]any); ok {
				for k := range p {
					named = append(named, k)
				}
			}
		}
		switch n.Kind {
		case yaml.MappingNode:
			if len(named) > 0 {
				compared++
				slices.Sort(named)
				named = slices.Compact(named)
				if got := takenKeys(t, &doc, n); got != strings.Join(named, " ") {
					t.Errorf("%s: the checker takes\n  %s\nand the schema names\n  %s", path, got, strings.Join(named, " "))
				}
			}
			for i := 0; i+1 < len(n.Content); i += 2 {
				key := n.Content[i].Value
				visit(n.Content[i+1], step(schemas, defs, key), path+"."+key)
			}
		case yaml.SequenceNode:
			for i, c := range n.Content {
				visit(c, step(schemas, defs, ""), fmt.Sprintf("%s[%d]", path, i))
			}
		}
	}
	visit(doc.Content[0], expand(root, defs), "")
	if compared < 40 {
		t.Errorf("only %d mappings were compared", compared)
	}
}

// takenKeys adds a key that nothing knows to one mapping, and reads what the
// checker would have taken instead.
func takenKeys(t *testing.T, doc, at *yaml.Node) string {
	t.Helper()
	at.Content = append(at.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "zz-unknown"}, &yaml.Node{Kind: yaml.ScalarNode, Value: "x"})
	text, err := yaml.Dump(doc)
	at.Content = at.Content[:len(at.Content)-2]
	if err != nil {
		t.Fatal(err)
	}
	rs := &common{rules: &Rules{}, first: map[string]Origin{}}
	r := &reader{common: rs, file: "f", spell: true}
	r.readFile(string(text))
	for _, f := range rs.findings {
		if f.Code == CodeUnknownKey {
			return f.Expected
		}
	}
	return "anything"
}

func expand(s map[string]any, defs map[string]any) []map[string]any {
	out := []map[string]any{s}
	if ref, ok := s["$ref"].(string); ok {
		out = append(out, expand(defs[strings.TrimPrefix(ref, "#/$defs/")].(map[string]any), defs)...)
	}
	if list, ok := s["anyOf"].([]any); ok {
		for _, a := range list {
			out = append(out, expand(a.(map[string]any), defs)...)
		}
	}
	return out
}

func step(schemas []map[string]any, defs map[string]any, key string) []map[string]any {
	var out []map[string]any
	take := func(v any) {
		if s, ok := v.(map[string]any); ok {
			out = append(out, expand(s, defs)...)
		}
	}
	for _, s := range schemas {
		if key == "" {
			take(s["items"])
		} else if p, ok := s["properties"].(map[string]any); ok && p[key] != nil {
			take(p[key])
		} else {
			take(s["additionalProperties"])
		}
	}
	return out
}

func TestExpectations(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"success >= 98.5%", "success() >= 0.985 ± 0"},
		{"p99<=300ms", "p99() <= 0.3 ± 0"},
		{"share(sailings/v2) = 15% ± 2%", "share(sailings/v2) = 0.15 ± 0.02"},
		{"refused(limited) = 0", "refused(limited) = 0 ± 0"},
		{"load-factor < 1.4", "load-factor() < 1.4 ± 0"},
		{"p99 <= 300", `"300" is not a duration: write one with its unit, such as 300ms`},
		{"success >= 98.5", `"98.5" is not a percentage: write one such as 98.5%`},
		{"success >= nan%", `"nan%" is not a percentage: write one such as 98.5%`},
		{"share = 1%", "share needs a version: share(SERVICE/VERSION)"},
		{"p99(x) = 1s", "p99 takes no argument in brackets"},
		{"rps >= 1 ± 1", "± can only follow ="},
		{"success", `"success" is not an expectation: write METRIC = VALUE, such as success >= 98.5%`},
	} {
		e, err := ParseExpectation(c.text)
		got := fmt.Sprintf("%s(%s) %s %g ± %g", e.Metric, e.Of, e.Op, e.Value, e.Within)
		if err != nil {
			got = err.Error()
		}
		if got != c.want {
			t.Errorf("%s: got %s, want %s", c.text, got, c.want)
		}
	}
}
