package rules

import (
	"fmt"
	"strings"
	"testing"
)

// chain is three services that call each other, and a gateway before them.
const chain = `
defaults: {timeout: 9s}
services:
  kiosk:
    versions: [v1]
    calls: [sailings]
    timeout: 4s
    retry: {times: 1}
  sailings:
    versions: [v1, v2]
    guard: {in-flight: 5}
    routes:
      - {name: reads, when: {method: GET}, send: v1, timeout: 2s, retry: {times: 2, each: 700ms}, mirror: {to: v2, share: 60%}}
      - {name: all, send: v1, timeout: 2s, retry: {times: 2, methods: all}, fault: {delay: 1s}}
  berths:
    versions: [v1]
gateways:
  door:
    listen: ":80"
    tls: [{cert: old.pem, key: old.key}]
    hosts: [a.example, b.example]
    routes: [{name: home, send: kiosk, timeout: 3s}]
access:
  default: deny
  rules:
    - {name: kiosk-reads, from: [kiosk], to: [sailings], allow: {method: GET}}
    - {name: some, from: [gateway/door], to: [kiosk], deny: {path: /x}}
    - {name: get-a, from: kiosk, to: [sailings], deny: {method: GET, path: /a}}
    - {name: no-berths, from: [kiosk], to: [berths], allow: all}
`

func TestWarnings(t *testing.T) {
	live := Live{Known: true, Versions: map[string][]string{"kiosk": {"v1"}, "sailings": {"v1"}, "berths": {"v1"}},
		Links: []Link{{From: "door", To: "kiosk", Rate: 4.25}, {From: "kiosk", To: "sailings", Rate: 1}, {From: "sailings", To: "berths", Recent: 7}, {From: "berths", To: "berths", Rate: 1}},
		Busy:  map[string]float64{"sailings/v1": 7.5, "sailings/v2": 1}}
	_, found := Check([]File{{"f", chain}}, live)
	var got []string
	for _, f := range found {
		if f.Severity != Warning {
			t.Errorf("a mistake: %s", f.Text())
		}
		got = append(got, fmt.Sprintf("%d:%d %s: %s", f.At.Line, f.At.Col, f.Code, f.Message))
	}
	want := []string{
		"2:21 timeout-outlives: berths may take 9s, but its caller sailings gives up after 2s",
		"7:14 timeout-outlives: kiosk may take 4s, but route home of gateway door gives up after 3s",
		"11:24 guard-too-small: sailings/v1 has 7.5 requests in flight from one caller now, on average; the guard allows 5",
		"13:74 tries-too-long: 3 attempts of 700ms and the waits between them take up to 2.175s, but the timeout of route reads is 2s",
		"13:74 retries-multiply: one request can cause 6 attempts along its path: kiosk 2 × sailings 3",
		"13:107 mirror-doubles: 60% of the requests of route reads are copied to sailings/v2, and the guard of sailings counts the copies",
		"14:51 unsafe-retry: route all retries methods such as POST; their effects can happen twice",
		"14:84 fault-for-all: the fault of route all affects every request",
		"24:3 used-link-denied: door calls kiosk (4.2 requests/s now), and no access rule allows it",
		"24:3 used-link-denied: sailings calls berths (7 requests in the last 14 days), and no access rule allows it",
		"28:7 shadowed: access rule get-a never decides: the earlier rule kiosk-reads decides all that it could",
		"29:7 excluded-by-calls: access rule no-berths lets kiosk call berths, and the calls of kiosk leave it out",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	// What nothing is known of is not spoken of.
	_, found = Check([]File{{"f", chain}}, Live{})
	for _, f := range found {
		switch f.Code {
		case CodeNoInstance, CodeGuardTooSmall, CodeUsedLinkDenied, CodeRetriesMultiply:
			t.Errorf("without a mesh: %s", f.Text())
		}
	}
}

// TestShadows: which earlier conditions leave nothing for a later one.
func TestShadows(t *testing.T) {
	for _, c := range []struct {
		earlier, later string
		shadowed       bool
	}{
		{"{path: /a/**}", "{path: /a/b}", true},
		{"{path: /a/**}", "{path: /a/*/c, method: GET}", true},
		{"{path: /a/*}", "{path: /a/b}", true},
		{"{path: /a/*/c}", "{path: /a/b/c}", true},
		{"{path: /a/*}", "{path: /a/**}", false},
		{"{path: /a/*}", "{path: /a/}", false},
		{"{path: /a}", "{path: /a/}", false},
		{"{path: /**}", "{path: /}", true},
		{"{path: /ab/**}", "{path: /abc}", false},
		{"{method: [GET, HEAD]}", "{path: /x, method: GET}", true},
		{"{method: GET}", "{method: [GET, HEAD]}", false},
		{"{host: '*.example'}", "{host: a.example}", true},
		{"{host: '*.example'}", "{host: [a.example, b.test]}", false},
		{"{headers: {k: {present: true}}}", "{headers: {k: x}}", true},
		{"{headers: {k: {in: [x, y]}}}", "{headers: {k: x}}", true},
		{"{headers: {k: {prefix: x}}}", "{headers: {k: {prefix: xy}}}", true},
		{"{headers: {k: x}}", "{headers: {k: x, j: y}}", true},
		{"{headers: {k: x}}", "{headers: {j: x}}", false},
		{"{headers: {k: x}}", "{query: {k: x}}", false},
		{"{headers: {k: {not: x}}}", "{headers: {k: y}}", false},
		{"{headers: {k: {present: false}}}", "{headers: {k: {present: false}}, path: /a}", true},
		{"{any: [{path: /a/**}, {method: PUT}]}", "{path: /a/b}", true},
		{"{all: [{path: /a/**}, {method: PUT}]}", "{path: /a/b}", false},
		{"{not: {method: PUT}}", "{path: /a/b}", false},
		{"{not: {method: PUT}}", "{path: /a/b, not: {method: PUT}}", true},
		{"[{path: /a}, {path: /b}]", "[{path: /b}, {path: /a}]", true},
		{"[{path: /a}, {path: /b}]", "[{path: /b}, {path: /c}]", false},
	} {
		_, got := one("services: {s: {versions: [v], routes: [{name: one, send: v, when: " + c.earlier + "}, {name: two, send: v, when: " + c.later + "}]}}")
		if (len(got) == 1 && strings.HasSuffix(got[0], "shadowed")) != c.shadowed || len(got) > 1 {
			t.Errorf("%s before %s: %v", c.earlier, c.later, got)
		}
	}
}

func TestWhatHolds(t *testing.T) {
	rs, found := one(`
defaults: {timeout: 9s, balance: random}
services:
  s:
    labels: {tier: core}
    versions: [v1]
    timeout: 5s
    guard: {in-flight: 9}
    routes:
      - {name: own, send: v1, labels: {kind: read}, timeout: 1s}
      - {name: read, send: v1, labels: {kind: read}, when: {path: /r}}
      - {name: odd, send: v1, labels: {tier: edge}, when: {path: /o}}
  t: {}
policies:
  reads: {for: {labels: {kind: read}}, timeout: 2s, limit: {rate: 7/s}}
  core: {for: {labels: {tier: core}}, timeout: 3s, guard: {in-flight: 7, breaker: {errors: 10%}}}
  core-reads: {for: {labels: {kind: read, tier: core}}, timeout: 4s}
`)
	for _, f := range found {
		if !strings.Contains(f, "shadowed") {
			t.Fatal(found)
		}
	}
	v := NewResolver(rs)
	s := rs.Service("s")
	text := func(list []Holding) string {
		var out []string
		for _, h := range list {
			if h.Value != "none" {
				out = append(out, fmt.Sprintf("%s %s (%s)", h.Name, h.Value, h.From))
			}
		}
		return strings.Join(out, "; ")
	}
	for _, c := range []struct{ what, got, want string }{
		{"own", text(v.RouteHoldings(s, s.Routes[0])), "timeout 1s (route own); limit 7/s, burst 7 (policy reads)"},
		{"read", text(v.RouteHoldings(s, s.Routes[1])), "timeout 4s (policy core-reads); limit 7/s, burst 7 (policy reads)"},
		{"odd", text(v.RouteHoldings(s, s.Routes[2])), "timeout 3s (policy core)"},
		{"s", text(v.ServiceHoldings(s)), "timeout 3s (policy core); guard.in-flight 7, waiting 0 for 100ms at most (policy core); " +
			"guard.breaker at 10% failed of at least 20 in 10s, open 10s, then 3 probes (policy core); balance random (defaults); identity required (built in)"},
		{"t", text(v.ServiceHoldings(rs.Service("t"))), "timeout 9s (defaults); balance random (defaults); identity required (built in)"},
	} {
		if c.got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.what, c.got, c.want)
		}
	}
	if got := v.Service(s).Timeout.Value; got.String() != "3s" {
		t.Errorf("of the service: %s", got)
	}
	if got := v.Route(s, s.Routes[2]).Timeout; got != nil {
		t.Errorf("a route's label does not hide that of its service: %v", got)
	}
}
