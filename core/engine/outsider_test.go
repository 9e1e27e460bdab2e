package engine

import (
	"net/netip"
	"strings"
	"testing"
)

const edgeRules = `
services:
  s:
    versions: [v1, v2, v3]
    routes:
      - {name: crew, when: {claims: {groups: {in: [crew, bridge]}}}, send: v3}
      - {name: near, when: {address: [10.0.0.0/8, "2001:db8::/32"]}, send: v2}
      - {name: strangers, when: {not: {address: [10.0.0.0/8]}, claims: {sub: {present: false}}}, send: v1}
      - {name: rest, send: v1}
gateways:
  edge:
    listen: ':80'
    hosts: ['*']
    authenticate: {jwt: {issuer: i, audience: a, keys: k, optional: true}}
    routes:
      - {name: captains, when: {path: /bridge}, authenticate: {jwt: {issuer: i, audience: a, keys: k, require: {rank: captain}}}, send: s}
      - {name: all, send: s}
`

// TestOutsiders: an explanation says what the address and the token of an outsider decide.
func TestOutsiders(t *testing.T) {
	table := compile(t, edgeRules, nil, crowd("s/v1", "s/v2", "s/v3")...)
	for _, c := range []struct {
		path, address string
		token         map[string][]string // nil: none
		want          string              // route of s, or reason
		why           string              // of the refusal, or of a route that was passed
	}{
		{"/", "10.1.2.3", nil, "near", `expected claim groups in "crew", "bridge", found none`},
		{"/", "::ffff:10.1.2.3", nil, "strangers", ""}, // bearers unmap what comes so
		{"/", "2001:db8::7", nil, "near", ""},
		{"/", "11.0.0.1", nil, "strangers", "expected address 10.0.0.0/8|2001:db8::/32, found 11.0.0.1"},
		{"/", "", nil, "strangers", "found none"},
		{"/", "10.1.2.3", map[string][]string{"groups": {"deck", "bridge"}}, "crew", ""},
		{"/", "11.0.0.1", map[string][]string{"sub": {"mara"}}, "rest", ""},
		{"/bridge", "10.1.2.3", nil, "unauthenticated", "the request has no bearer token of i"},
		{"/bridge", "10.1.2.3", map[string][]string{"rank": {"mate"}}, "denied", `rank is "captain", found "mate"`},
		{"/bridge", "10.1.2.3", map[string][]string{"rank": {"captain"}}, "near", ""},
	} {
		v := get("h", c.path)
		if v.Claims, v.HasToken = c.token, c.token != nil; c.address != "" {
			v.Addr = netip.MustParseAddr(c.address)
		}
		e := Explain(table, Entry{Gateway: "edge"}, v, 0)
		got, whys := "", ""
		for _, l := range e.Ladders {
			for _, r := range l.Rungs {
				if whys += r.Why + "\n"; r.Result == "taken" && l.Kind == "service" {
					got = r.Route
				}
			}
		}
		if e.Refusal != nil {
			got, whys = string(e.Refusal.Reason), e.Refusal.Detail
		}
		var x Exchange
		step := x.Begin(table, Entry{Gateway: "edge"}, v, 0)
		decided := string(step.Reason)
		if route, _ := x.Route(); route != nil {
			decided = route.Name()
		}
		if got != c.want || decided != c.want || !strings.Contains(whys, c.why) {
			t.Errorf("%s from %s with %v: explained as %s, decided as %s, want %s because %q:\n%s", c.path, c.address, c.token, got, decided, c.want, c.why, whys)
		}
	}
}

// TestBlocks: who can choose among addresses is told apart by what it cannot choose.
func TestBlocks(t *testing.T) {
	for in, want := range map[string]string{
		"10.1.2.3": "10.1.2.3/32", "::ffff:10.1.2.3": "10.1.2.3/32", "2001:db8:1:2:3::4": "2001:db8:1:2::/64", "fe80::1%eth0": "fe80::/64",
	} {
		if got := Block(netip.MustParseAddr(in)); got.String() != want {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
	if Block(netip.Addr{}).IsValid() {
		t.Error("no address has a block")
	}
}
