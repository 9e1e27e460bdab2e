package rules

import (
	"strings"
	"testing"
)

const ferry = `
defaults: {timeout: 3s}
policies:
  reads: {for: {labels: {kind: read}}, timeout: 1s}
services:
  sailings: {versions: [v1, v2], labels: {kind: read}, routes: [{name: crew, when: {path: /crew}, send: v2}, {name: all, send: {v1: 80, v2: 20}}]}
  berths: {versions: [v1], timeout: 2s}
  tides: {versions: [v1], labels: {kind: read}}
  fares: {versions: [v1], timeout: 9s}
gateways:
  door: {hosts: [h.example], listen: "127.0.0.1:1", routes: [{name: board, when: {path: /board}, send: sailings}, {name: rest, send: fares}]}
access:
  default: deny
  rules:
    - {name: a, from: [anyone], to: [sailings, fares], allow: all}
`

// TestTouched: only those are touched for whom something else holds.
func TestTouched(t *testing.T) {
	read := func(text string) *Rules {
		t.Helper()
		rs, found := Check([]File{{Name: "f", Text: text}}, Live{})
		if Mistakes(found) > 0 {
			t.Fatalf("%v", found)
		}
		return rs
	}
	base := read(ferry)
	for _, c := range []struct{ what, from, to, want string }{
		{"nothing", "", "", ""},
		{"a comment and an owner", "fares: {versions: [v1],", "# note\n  fares: {owner: mate, versions: [v1],", ""},
		{"a weight", "v1: 80, v2: 20", "v1: 70, v2: 30", "sailings"},
		{"the order of routes", "[{name: crew, when: {path: /crew}, send: v2}, {name: all, send: {v1: 80, v2: 20}}]", "[{name: all, when: {path: /x}, send: v1}, {name: crew, send: v2}]", "sailings"},
		{"a version", "berths: {versions: [v1]", "berths: {versions: [v1, v2]", "berths"},
		{"a policy, for those without a value of their own", "timeout: 1s", "timeout: 1500ms", "sailings tides"},
		{"a default that a service overrides", "defaults: {timeout: 3s}", "defaults: {timeout: 4s}", Undeclared},
		{"a route of a gateway", "name: board, when: {path: /board}", "name: board, when: {path: /boards}", "gateway/door sailings"},
		{"where a gateway listens", `127.0.0.1:1`, `127.0.0.1:2`, "gateway/door"},
		{"an access rule", "to: [sailings, fares]", "to: [sailings, berths]", "berths fares sailings"},
		{"a service that went", "  tides: {versions: [v1], labels: {kind: read}}\n", "", "tides"},
		{"a service that is declared as it ran", "access:", "  quay: {}\naccess:", ""},
		{"a trial", "access:", "trials: {t: {load: [{to: fares, rate: 1/s}], for: 3s, expect: [success >= 1%]}}\naccess:", ""},
	} {
		text := ferry
		if c.from != "" {
			if !strings.Contains(text, c.from) {
				t.Fatalf("%s: no %q", c.what, c.from)
			}
			text = strings.Replace(text, c.from, c.to, 1)
		}
		if c.what == "a service that is declared as it ran" {
			text = strings.Replace(ferry, "gateways:", "  quay: {}\ngateways:", 1)
		}
		after := read(text)
		for _, got := range []string{strings.Join(Touched(base, after), " "), strings.Join(Touched(after, base), " ")} {
			if got != c.want {
				t.Errorf("%s touches %q, want %q", c.what, got, c.want)
			}
		}
	}
	if got := Touched(&Rules{}, base); len(got) != 6 {
		t.Errorf("the first rules touch %v", got)
	}
}
